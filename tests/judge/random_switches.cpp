#include "lab_maker.h"

#include <fmt/format.h>
#include <set>

namespace judge {

namespace {

int vlan_of(const std::string& subnet_name) {
    return 100 + std::stoi(subnet_name.substr(3));
}

std::string add_port(LabMaker& m, int i, const Json& port) {
    std::string owner = fmt::format("sw{}", i);
    Json& ports = m.plan["switches"][owner]["ports"];
    std::string name = fmt::format("p{}", ports.size());
    ports[name] = port;
    return owner + "/" + name;
}

void cable(LabMaker& m, int one, int other, const Json& vlans) {
    Json trunk = {{"trunk", vlans}};
    if (m.random.percent(30))
        trunk["native"] = m.random.percent(50) ? 99 : 100;
    m.plan["links"].push_back({{"between", {add_port(m, one, trunk), add_port(m, other, trunk)}}});
}

void plug(LabMaker& m, Json& nic, int count) {
    int vlan = vlan_of(nic["subnet"]);
    auto any = [&] { return m.random.below(static_cast<std::size_t>(count)); };
    if (m.random.percent(20)) {
        nic["port"] = add_port(m, any(), {{"trunk", {vlan, 99}}});
        nic["vlan"] = vlan;
    } else if (m.random.percent(25)) {
        nic["bond"] = Json::array();
        for (int n = m.random.between(1, 3); n > 0; --n) {
            Json member = {{"port", add_port(m, any(), {{"vlan", vlan}})}};
            if (m.random.percent(30))
                member["state"] = "down";
            nic["bond"].push_back(member);
        }
    } else {
        nic["port"] = add_port(m, any(), {{"vlan", vlan}});
    }
}

void miswire(LabMaker& m) {
    Json& ports = m.any_entry("switches")["ports"];
    if (ports.empty())
        return;
    auto it = ports.begin();
    std::advance(it, m.random.below(ports.size()));
    Json& port = *it;
    bool trunk = port.contains("trunk");
    switch (m.random.below(4)) {
    case 0: port["state"] = "down"; break;
    case 1:
        if (trunk && !port["trunk"].empty())
            port["trunk"].erase(static_cast<std::size_t>(m.random.below(port["trunk"].size())));
        break;
    case 2: port[trunk ? "native" : "vlan"] = 100 + m.any_subnet(); break;
    default: m.any_entry("switches")["state"] = "down";
    }
}

} // namespace

void add_switches(LabMaker& m) {
    int count = m.random.between(1, 4);
    Json all = Json::array();
    for (std::size_t k = 0; k < m.plan["subnets"].size(); ++k)
        all.push_back(100 + k);
    for (int i = 0; i < count; ++i)
        m.plan["switches"][fmt::format("sw{}", i)]["ports"] = Json::object();
    for (int i = 1; i < count; ++i)
        cable(m, i, m.random.below(static_cast<std::size_t>(i)), all);
    if (count > 1 && m.random.percent(20)) // a loop
        cable(m, 0, m.random.between(1, count - 1), all);
    std::set<std::string> switched;
    for (const auto& [name, subnet] : m.plan["subnets"].items())
        if (m.random.percent(60))
            switched.insert(name);
    for (const char* section : {"guests", "routers"})
        for (auto& machine : m.plan[section])
            for (auto& nic : machine["nics"])
                if (switched.contains(nic["subnet"]) && !m.random.percent(7))
                    plug(m, nic, count);
    for (const std::string& name : switched) // for those that stay on the segment
        if (m.random.percent(80))
            add_port(m, m.random.below(static_cast<std::size_t>(count)),
                     {{"vlan", vlan_of(name)}, {"segment", name}});
    for (int mistakes = m.random.below(5); mistakes > 0; --mistakes)
        miswire(m);
}

} // namespace judge
