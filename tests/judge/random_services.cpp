#include "lab_maker.h"

#include <array>
#include <fmt/format.h>

namespace judge {

namespace {

Json any_end(LabMaker& m) {
    switch (m.random.below(5)) {
    case 0: return m.any_name("routers");
    case 1: return m.any_name("guests");
    case 2: return any_target(m, m.random.percent(60));
    default: return m.subnet(m.any_subnet());
    }
}

Json any_rule(LabMaker& m) {
    constexpr std::array ways = {"in", "out", "through"};
    constexpr std::array protocols = {"any", "icmp", "tcp", "udp", "ospf"};
    Json rule = {{"do", m.random.percent(60) ? "allow" : "deny"}};
    if (m.random.percent(60))
        rule["way"] = m.random.any_of(ways);
    int protocol = m.random.below(protocols.size());
    if (m.random.percent(60))
        rule["proto"] = protocols.at(static_cast<std::size_t>(protocol));
    else
        protocol = 0;
    if (m.random.percent(50))
        rule["from"] = m.random.percent(30) ? Json{any_end(m), any_end(m)} : any_end(m);
    if (m.random.percent(40))
        rule["to"] = any_end(m);
    if (protocol != 1 && protocol != 4 && m.random.percent(40))
        rule["port"] = m.random.percent(50) ? Json{22, "50-60"} : Json("20-80");
    return rule;
}

Json any_translation(LabMaker& m, std::size_t nics) {
    std::string nic = fmt::format("eth{}", m.random.below(nics));
    if (m.random.percent(65)) {
        Json line = {{"out", nic}};
        if (m.random.percent(40))
            line["from"] = m.random.percent(50) ? any_target(m, true) : m.subnet(m.any_subnet());
        return line;
    }
    Json line = {{"in", nic}, {"to", m.any_name("guests")}};
    if (m.random.percent(80)) {
        line["proto"] = m.random.percent(70) ? "tcp" : "udp";
        line["port"] = m.random.percent(50) ? 22 : 53;
        if (m.random.percent(40))
            line["to-port"] = 80;
    }
    return line;
}

} // namespace

void add_services(LabMaker& m) {
    constexpr std::array services = {"tcp/22", "tcp/80", "udp/53"};
    for (int n = m.random.between(-3, 6); n > 0; --n) {
        Json& machine = m.random.percent(80) ? m.any_guest() : m.any_router();
        Json list = Json::array();
        for (const char* service : services)
            if (m.random.percent(50))
                list.push_back(service);
        machine["listens"] = list;
    }
}

void add_filters(LabMaker& m) {
    int count = m.random.between(1, 4);
    for (int i = 0; i < count; ++i) {
        Json& filter = m.plan["filters"][fmt::format("f{}", i)];
        filter["default"] = m.random.percent(70) ? "allow" : "deny";
        filter["rules"] = Json::array();
        for (int n = m.random.below(7); n > 0; --n)
            filter["rules"].push_back(any_rule(m));
        switch (m.random.below(4)) {
        case 0:
            m.plan["subnets"][m.subnet(m.any_subnet())]["filter"] = fmt::format("f{}", i);
            break;
        case 1: m.any_machine()["filter"] = fmt::format("f{}", i); break;
        default:
            if (Json* nic = any_nic(m, m.any_machine()))
                (*nic)["filter"] = fmt::format("f{}", i);
        }
    }
}

void add_translations(LabMaker& m) {
    for (int n = m.random.between(1, 3); n > 0; --n) {
        Json& machine = m.random.percent(85) ? m.any_router() : m.any_guest();
        Json nat = Json::array();
        for (int lines = m.random.between(1, 3); lines > 0 && !machine["nics"].empty(); --lines)
            nat.push_back(any_translation(m, machine["nics"].size()));
        machine["nat"] = nat;
    }
}

void add_uplinks(LabMaker& m) {
    constexpr std::array uplinks = {"host", "nat", "nat", "bridge"};
    bool bridged = false;
    for (int n = m.random.between(1, 3); n > 0; --n) {
        Json& subnet = m.any_entry("subnets");
        std::string uplink = m.random.any_of(uplinks);
        if (uplink == "bridge" && bridged)
            continue;
        bridged |= uplink == "bridge" && !subnet.contains("uplink");
        if (!subnet.contains("uplink"))
            subnet["uplink"] = uplink;
    }
    if (m.random.percent(70))
        m.plan["outside"]["lan"] = {"192.168.7.0/24"};
    for (int n = m.random.between(1, 3); n > 0; --n) {
        Json& host = m.plan["outside"]["hosts"][fmt::format("o{}", n)];
        host["address"] = fmt::format("{}.{}", m.random.percent(50) ? "192.0.2" : "198.51.100", n);
        host["listens"] = {"tcp/80"};
    }
    for (int n = m.random.below(3); n > 0; --n) { // translated on the way there
        Json& machine = m.any_router();
        if (!machine["nics"].empty() && !machine.contains("nat"))
            machine["nat"] = {{{"out", "eth0"}}};
    }
    for (int n = m.random.below(4); n > 0; --n)
        add_route(m, m.any_router(), "default",
                  m.random.percent(60) ? "workstation" : m.any_name("routers"));
}

// Ways out of single NICs, most of them with one range, and some with one address.
void add_ways_out(LabMaker& m) {
    for (int n = m.random.below(4); n > 0; --n) {
        Json& nics = m.any_guest()["nics"];
        const bool has_one =
            std::ranges::any_of(nics, [](const Json& nic) { return nic.contains("way-out"); });
        if (has_one)
            continue;
        Json nic = {{"way-out", m.random.percent(80) ? "auto" : "10.31.0.0/24"}};
        if (nic["way-out"] == "auto" && m.random.percent(50))
            nic["address"] = "192.168.253.15";
        nics.push_back(std::move(nic));
    }
}

void add_dhcp(LabMaker& m) {
    for (auto& [name, subnet] : m.plan["subnets"].items()) {
        if (!m.has_family(std::stoi(name.substr(3)), '.') || m.random.percent(40))
            continue;
        Json dhcp = {{"size", m.random.between(1, 5)}};
        if (m.random.percent(30)) {
            dhcp["server"] = m.any_name("routers");
            if (m.random.percent(60))
                dhcp["relay"] = m.any_name("routers");
        }
        if (m.random.percent(10))
            dhcp["router"] = "none";
        subnet["dhcp"] = dhcp;
    }
    for (const char* section : {"guests", "routers"})
        for (auto& machine : m.plan[section])
            for (auto& nic : machine["nics"])
                if (!nic.contains("address") && m.random.percent(section[0] == 'g' ? 50 : 12)) {
                    nic["address"] = "dhcp";
                    if (m.random.percent(20))
                        nic["metric"] = m.random.between(1, 300);
                }
}

} // namespace judge
