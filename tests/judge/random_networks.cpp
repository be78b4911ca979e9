#include "lab_maker.h"

#include <algorithm>
#include <fmt/format.h>

namespace judge {

namespace {

int add_subnet(LabMaker& m) {
    int k = static_cast<int>(m.plan["subnets"].size());
    Json prefixes = Json::array();
    int family = m.mostly_dual ? m.random.below(3) : m.random.below(12);
    if (family < 9)
        prefixes.push_back(fmt::format("10.31.{}.0/{}", k, m.random.between(24, 28)));
    if (family < 5 || family >= 9)
        prefixes.push_back(fmt::format("fd31:0:0:{:x}::/64", k));
    m.plan["subnets"][m.subnet(k)]["prefix"] = prefixes;
    if (m.random.percent(15))
        m.plan["subnets"][m.subnet(k)]["gateway"] = m.random.percent(70) ? "last" : "none";
    return k;
}

void put_on(LabMaker& m, int i, int k) {
    m.plan["routers"][m.router(i)]["nics"].push_back({{"subnet", m.subnet(k)}});
}

void join(LabMaker& m, int a, int b) {
    m.edges.push_back({a, b});
    if (m.random.percent(65)) {
        Json link = {{"between", {m.router(a), m.router(b)}}};
        if (m.random.percent(20)) // one family only
            link["prefix"] = m.random.percent(50)
                                 ? fmt::format("10.30.{}.0/31", m.edges.size())
                                 : fmt::format("fd30:0:0:{:x}::/127", m.edges.size());
        m.plan["links"].push_back(link);
        return;
    }
    int k = add_subnet(m);
    put_on(m, a, k);
    put_on(m, b, k);
}

// The neighbour of each router that is nearest to router `goal`, by chance among equals.
std::vector<int> next_hops(LabMaker& m, int goal) {
    std::vector<int> next(static_cast<std::size_t>(m.router_count), -1);
    std::vector<int> seen{goal};
    auto edges = m.edges;
    for (std::size_t i = 0; i < seen.size(); ++i) {
        for (std::size_t n = edges.size(); n > 1; --n)
            std::swap(edges[n - 1], edges[static_cast<std::size_t>(m.random.below(n))]);
        for (auto [a, b] : edges)
            for (auto [here, there] : {std::pair(a, b), std::pair(b, a)})
                if (here == seen[i] && std::ranges::find(seen, there) == seen.end()) {
                    next[static_cast<std::size_t>(there)] = here;
                    seen.push_back(there);
                }
    }
    return next;
}

bool is_on(const LabMaker& m, int i, const std::string& subnet_name) {
    for (const Json& nic : m.plan["routers"][m.router(i)]["nics"])
        if (nic["subnet"] == subnet_name)
            return true;
    return false;
}

void route(LabMaker& m, int i, const std::string& to, int hop) {
    Json& routes = m.plan["routers"][m.router(i)]["routes"];
    for (const Json& known : routes)
        if (known["to"] == to)
            return;
    routes.push_back({{"to", to}, {"via", m.router(hop)}});
}

} // namespace

void add_own_subnets(LabMaker& m) {
    for (int i = 0; i < m.router_count; ++i)
        for (int n = m.random.between(m.router_count == 1 ? 2 : 0, 2); n > 0; --n)
            put_on(m, i, add_subnet(m));
    if (m.plan["subnets"].empty())
        put_on(m, 0, add_subnet(m));
}

void join_routers(LabMaker& m) {
    switch (m.random.below(5)) {
    case 0: // chain
        for (int i = 1; i < m.router_count; ++i)
            join(m, i - 1, i);
        break;
    case 1: // ring
        for (int i = 1; i < m.router_count; ++i)
            join(m, i - 1, i);
        if (m.router_count > 2)
            join(m, m.router_count - 1, 0);
        break;
    case 2: // all on one segment
        if (m.router_count > 1) {
            int k = add_subnet(m);
            for (int i = 0; i < m.router_count; ++i)
                put_on(m, i, k);
            for (int i = 0; i < m.router_count; ++i)
                for (int j = 0; j < i; ++j)
                    m.edges.push_back({j, i});
        }
        break;
    default: // tree, sometimes with a few joints more
        for (int i = 1; i < m.router_count; ++i)
            join(m, m.random.below(static_cast<std::size_t>(i)), i);
        for (int n = m.random.below(3); n > 0 && m.router_count > 2; --n) {
            int a = m.random.below(static_cast<std::size_t>(m.router_count));
            join(m, a, (a + 1) % m.router_count);
        }
    }
}

void add_routes(LabMaker& m) {
    bool with_defaults = m.random.percent(30);
    std::vector<int> to_first = next_hops(m, 0);
    for (int i = 1; i < m.router_count && with_defaults; ++i)
        if (to_first[static_cast<std::size_t>(i)] >= 0)
            route(m, i, "default", to_first[static_cast<std::size_t>(i)]);
    for (int goal = 0; goal < m.router_count; ++goal) {
        std::vector<int> next = next_hops(m, goal);
        for (const Json& nic : Json(m.plan["routers"][m.router(goal)]["nics"]))
            for (int i = 0; i < m.router_count; ++i)
                if (int hop = next[static_cast<std::size_t>(i)];
                    hop >= 0 && !(with_defaults && hop == to_first[static_cast<std::size_t>(i)]))
                    if (!is_on(m, i, nic["subnet"]))
                        route(m, i, nic["subnet"], hop);
    }
}

void add_guests(LabMaker& m) {
    int count = m.random.between(std::max(1, 4 - m.router_count), 20 - m.router_count);
    count = std::min(count, m.random.between(3, 13));
    for (int i = 0; i < count; ++i) {
        Json nics = Json::array();
        for (int n = m.random.percent(20) ? 2 : 1; n > 0; --n)
            nics.push_back({{"subnet", m.subnet(m.any_subnet())}});
        m.plan["guests"][fmt::format("g{}", i)] = {{"nics", nics}};
    }
}

void add_loopbacks(LabMaker& m) {
    m.plan["pools"]["own"]["space"] = {"10.32.0.0/24", "fd32::/64"};
    for (int n = m.random.between(-3, 3); n > 0; --n) {
        int host = m.random.between(1, 250);
        Json own = {fmt::format("10.32.1.{}", host), fmt::format("fd32:1::{:x}", host)};
        m.any_machine()["loopback"] = m.random.percent(70) ? own : Json("own");
        for (const char* to : {"10.32.0.0/23", "fd32::/31"})
            for (int i = 1; i < m.router_count && m.random.percent(80); ++i)
                add_route(m, m.plan["routers"][m.router(i)], to,
                          m.router(m.random.below(static_cast<std::size_t>(i))));
    }
}

} // namespace judge
