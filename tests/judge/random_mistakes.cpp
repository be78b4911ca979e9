#include "lab_maker.h"

#include <array>
#include <fmt/format.h>
#include <set>

namespace judge {

namespace {

void lose_route(LabMaker& m) {
    Json& routes = m.any_router()["routes"];
    if (!routes.empty())
        routes.erase(static_cast<std::size_t>(m.random.below(routes.size())));
}

void lose_all_routes(LabMaker& m) {
    m.any_router()["routes"] = Json::array();
}

void do_not_forward(LabMaker& m) {
    m.any_router()["forwards"] = false;
}

void put_nic_down(LabMaker& m) {
    if (Json* nic = any_nic(m, m.any_machine()))
        (*nic)["state"] = "down";
}

void put_machine_off(LabMaker& m) {
    m.any_machine()["state"] = "down";
}

void put_link_down(LabMaker& m) {
    if (!m.plan["links"].empty())
        m.random.any_of(m.plan["links"])["state"] = "down";
}

void give_wrong_gateway(LabMaker& m) {
    Json& guest = m.any_guest();
    int k = m.number_of(guest["nics"][0]);
    switch (m.random.below(5)) {
    case 0: guest["gateway"] = "none"; break;
    case 1: guest["gateway"] = m.address(k, 14); break;               // nobody's
    case 2: guest["gateway"] = m.address(m.any_subnet(), 1); break;   // perhaps off the subnet
    default: guest["gateway"] = m.address(k, m.random.between(1, 5)); // a guest, perhaps itself
    }
}

void turn_route(LabMaker& m) {
    Json& routes = m.any_router()["routes"];
    if (!routes.empty())
        m.random.any_of(routes)["via"] = m.any_name(m.random.percent(80) ? "routers" : "guests");
}

void take_address(LabMaker& m) {
    if (Json* nic = any_nic(m, m.any_machine()))
        (*nic)["address"] = m.address(m.number_of(*nic), m.random.between(1, 6));
}

void leave_subnet(LabMaker& m) {
    if (Json* nic = any_nic(m, m.any_machine()))
        (*nic)["address"] = m.address(m.any_subnet(), m.random.between(2, 9));
}

void change_length(LabMaker& m) {
    Json* nic = any_nic(m, m.any_machine());
    if (nic == nullptr)
        return;
    int k = m.number_of(*nic);
    int host = m.random.between(1, 13);
    bool v4 = m.random.percent(60);
    (*nic)["address"] =
        fmt::format("{}/{}", v4 ? m.ipv4(k, host) : m.ipv6(k, host),
                    std::array{v4 ? 16 : 48, v4 ? 22 : 60, v4 ? 29 : 124, v4 ? 30 : 126,
                               v4 ? 32 : 128}[static_cast<std::size_t>(m.random.below(5))]);
}

void use_end_of_range(LabMaker& m) {
    Json* nic = any_nic(m, m.any_machine());
    if (nic == nullptr)
        return;
    int k = m.number_of(*nic);
    bool first = m.random.percent(50);
    (*nic)["address"] =
        m.random.percent(70) ? m.ipv4(k, first ? 0 : 15) + "/28" : m.ipv6(k, 0) + "/64";
}

void overlap_subnets(LabMaker& m) {
    int k = m.any_subnet();
    m.plan["subnets"][m.subnet(m.any_subnet())]["prefix"] = {
        fmt::format("10.31.{}.0/{}", k, m.random.between(24, 27)),
        fmt::format("fd31:0:0:{:x}::/{}", k, m.random.between(64, 66))};
}

void mistake_segment(LabMaker& m) {
    if (Json* nic = any_nic(m, m.any_machine())) {
        (*nic)["address"] = m.address(m.number_of(*nic), m.random.between(1, 12));
        (*nic)["subnet"] = m.subnet(m.any_subnet());
    }
}

void repeat_route(LabMaker& m) {
    Json& router_entry = m.any_router();
    if (!router_entry["routes"].empty())
        add_route(m, router_entry, Json(m.random.any_of(router_entry["routes"])["to"]),
                  m.any_name("routers"));
}

void point_at_each_other(LabMaker& m) {
    if (m.edges.empty())
        return;
    auto [a, b] = m.random.any_of(m.edges);
    add_route(m, m.plan["routers"][m.router(a)], "default", m.router(b));
    add_route(m, m.plan["routers"][m.router(b)], "default", m.router(a));
}

void shrink_mtu(LabMaker& m) {
    constexpr std::array sizes = {1400, 1320, 1280, 1200, 1000};
    int size = sizes[static_cast<std::size_t>(m.random.below(sizes.size()))];
    if (!m.plan["links"].empty() && m.random.percent(60))
        m.random.any_of(m.plan["links"])["mtu"] = size;
    else if (Json* nic = any_nic(m, m.any_machine()))
        (*nic)["mtu"] = size;
}

void leave_unaddressed(LabMaker& m) {
    if (Json* nic = any_nic(m, m.any_machine()))
        (*nic)["address"] = "none";
}

void send_elsewhere(LabMaker& m) {
    bool v4 = m.random.percent(60);
    Json& machine = m.any_machine();
    Json* nic = any_nic(m, machine);
    if (nic != nullptr && m.random.percent(50)) {
        int k = m.number_of(*nic);
        int host =
            std::array{0, 1, 2, 3, 4, 14, 15, 255}[static_cast<std::size_t>(m.random.below(8))];
        add_route(m, machine, any_target(m, v4), v4 ? m.ipv4(k, host) : m.ipv6(k, host));
    } else {
        add_route(m, machine, any_target(m, v4), m.any_name("routers"));
    }
}

void add_addresses(LabMaker& m) {
    Json* nic = any_nic(m, m.any_machine());
    if (nic == nullptr)
        return;
    Json list = Json::array();
    std::set<std::string> known;
    for (int n = m.random.between(2, 4); n > 0; --n) {
        int k = m.random.percent(60) ? m.number_of(*nic) : m.any_subnet();
        std::string one = m.address(k, m.random.between(1, 14));
        if (!known.insert(one).second)
            continue;
        if (m.random.percent(40))
            one += one.find(':') == std::string::npos ? "/24" : "/64";
        list.push_back(one);
    }
    (*nic)["address"] = list;
}

void add_default(LabMaker& m) {
    Json& guest = m.any_guest();
    Json& nic = m.random.any_of(guest["nics"]);
    add_route(m, guest, m.random.percent(50) ? "0.0.0.0/0" : "default",
              m.random.percent(50) ? Json(m.any_name("routers"))
                                   : Json(m.ipv4(m.number_of(nic), 1)));
}

void route_connected(LabMaker& m) {
    Json& machine = m.any_machine();
    if (Json* nic = any_nic(m, machine))
        add_route(m, machine, Json((*nic)["subnet"]), m.any_name("routers"));
}

void add_nic(LabMaker& m) {
    Json& machine = m.any_machine();
    Json* nic = any_nic(m, machine);
    std::string on = nic != nullptr && m.random.percent(50) ? (*nic)["subnet"].get<std::string>()
                                                            : m.subnet(m.any_subnet());
    machine["nics"].push_back({{"subnet", on}});
}

void let_guest_forward(LabMaker& m) {
    std::string name = m.any_name("guests");
    m.plan["guests"][name]["forwards"] = true;
    add_route(m, m.any_machine(), any_target(m, m.random.percent(60)), name);
}

void share_mac(LabMaker& m) {
    for (int n = 0; n < 2; ++n)
        if (Json* nic = any_nic(m, m.any_machine()))
            (*nic)["mac"] = "02:00:5e:31:00:01";
}

void split_segment(LabMaker& m) { // the same range once more, on a segment of its own
    int k = m.any_subnet();
    std::string name = fmt::format("net{}", m.plan["subnets"].size());
    m.plan["subnets"][name] = m.plan["subnets"][m.subnet(k)];
    if (Json* nic = any_nic(m, m.any_machine()))
        (*nic)["subnet"] = name;
}

} // namespace

Json* any_nic(LabMaker& m, Json& machine) {
    Json& nics = machine["nics"];
    return nics.empty() ? nullptr : &m.random.any_of(nics);
}

void add_route(LabMaker& m, Json& machine, const Json& to, const Json& via) {
    Json entry = {{"to", to}, {"via", via}};
    if (m.random.percent(30))
        entry["metric"] =
            std::array{1, 10, 256, 300, 1024}[static_cast<std::size_t>(m.random.below(5))];
    if (!machine.contains("routes"))
        machine["routes"] = Json::array();
    Json& routes = machine["routes"];
    std::size_t at = static_cast<std::size_t>(m.random.below(routes.size() + 1));
    routes.insert(routes.begin() + static_cast<std::ptrdiff_t>(at), entry);
}

std::string any_target(LabMaker& m, bool v4) {
    int k = m.any_subnet();
    switch (m.random.below(5)) {
    case 0: return v4 ? m.ipv4(k, m.random.between(1, 6)) + "/32" : m.ipv6(k, 2) + "/128";
    case 1: return v4 ? m.ipv4(k, 0) + "/29" : fmt::format("fd31:0:0:{:x}::/112", k);
    case 2: return v4 ? "10.31.0.0/16" : "fd31::/32";
    case 3: return v4 ? "0.0.0.0/0" : "::/0";
    default: return v4 ? fmt::format("10.31.{}.0/24", k) : fmt::format("fd31:0:0:{:x}::/64", k);
    }
}

void make_mistake(LabMaker& m) {
    static constexpr std::array mistakes = {
        &lose_route,          &lose_route,      &lose_all_routes,   &do_not_forward,
        &put_nic_down,        &put_machine_off, &put_link_down,     &give_wrong_gateway,
        &turn_route,          &take_address,    &leave_subnet,      &change_length,
        &use_end_of_range,    &overlap_subnets, &mistake_segment,   &repeat_route,
        &point_at_each_other, &shrink_mtu,      &leave_unaddressed, &send_elsewhere,
        &add_addresses,       &add_default,     &route_connected,   &add_nic,
        &let_guest_forward,   &split_segment,   &share_mac};
    m.random.any_of(mistakes)(m);
}

} // namespace judge
