// A lab while it is made up: what the parts of it share. Each part stands in the file of its name.
#pragma once

#include "random_lab.h"

#include <fmt/format.h>

namespace judge {

struct Edge {
    int a;
    int b;
};

/// Subnet k is 10.31.k.0/24 or smaller, and VLAN 100 + k.
struct LabMaker {
    explicit LabMaker(std::uint64_t seed);

    Random random;
    Json plan = {};
    int router_count = 0;
    bool mostly_dual = false;
    std::vector<Edge> edges = {};

    static std::string router(int i) { return fmt::format("r{}", i); }
    static std::string subnet(int k) { return fmt::format("net{}", k); }
    static std::string ipv4(int k, int host) { return fmt::format("10.31.{}.{}", k, host); }
    static std::string ipv6(int k, int host) { return fmt::format("fd31:0:0:{:x}::{:x}", k, host); }
    std::string address(int k, int host) {
        bool v4 = has_family(k, '.') && (!has_family(k, ':') || random.percent(50));
        return v4 ? ipv4(k, host) : ipv6(k, host);
    }
    bool has_family(int k, char mark) const {
        for (const auto& prefix : plan["subnets"][subnet(k)]["prefix"])
            if (prefix.get<std::string>().find(mark) != std::string::npos)
                return true;
        return false;
    }
    int any_subnet() { return random.below(plan["subnets"].size()); }
    Json& any_entry(const char* section) {
        auto it = plan[section].begin();
        std::advance(it, random.below(plan[section].size()));
        return *it;
    }
    Json& any_router() { return any_entry("routers"); }
    Json& any_guest() { return any_entry("guests"); }
    Json& any_machine() { return random.percent(60) ? any_router() : any_guest(); }
    std::string any_name(const char* section) {
        auto it = plan[section].begin();
        std::advance(it, random.below(plan[section].size()));
        return it.key();
    }
    static int number_of(const Json& nic) {
        return std::stoi(nic["subnet"].get<std::string>().substr(3));
    }
};

// --- random_networks.cpp ---------------------------------------------------------------------

void add_own_subnets(LabMaker& m);
void join_routers(LabMaker& m);
void add_routes(LabMaker& m);
void add_guests(LabMaker& m);
/// Some machines have addresses of their own, and some others know the way.
void add_loopbacks(LabMaker& m);

// --- random_services.cpp ---------------------------------------------------------------------

void add_services(LabMaker& m);
void add_filters(LabMaker& m);
void add_translations(LabMaker& m);
void add_uplinks(LabMaker& m);
void add_ways_out(LabMaker& m);
void add_dhcp(LabMaker& m);

// --- random_switches.cpp ---------------------------------------------------------------------

/// A tree of switches with trunks for all VLANs, and some subnets moved onto it: then mistakes.
void add_switches(LabMaker& m);

// --- random_mistakes.cpp ---------------------------------------------------------------------

Json* any_nic(LabMaker& m, Json& machine);
void add_route(LabMaker& m, Json& machine, const Json& to, const Json& via);
/// Somewhere to send packets: the whole of a subnet or a part of it, an address, everything.
std::string any_target(LabMaker& m, bool v4);
void make_mistake(LabMaker& m);

} // namespace judge
