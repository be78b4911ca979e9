// Made-up labs of several sites: cores and border routers, peerings in every state, relays, shared
// ways outside, tunnels.
#include "random_lab.h"

#include <fmt/format.h>

namespace judge {

namespace {

class SiteMaker {
  public:
    explicit SiteMaker(std::uint64_t seed) : random_(seed) {
        plan_["lab"] = fmt::format("made-up-{}", seed);
        for (const char* section : {"sites", "subnets", "guests", "routers"})
            plan_[section] = Json::object();
        for (const char* section : {"peerings", "tunnels", "links"})
            plan_[section] = Json::array();
    }

    Json run() {
        site_count_ = random_.between(2, 4);
        for (int i = 0; i < site_count_; ++i)
            add_site(i);
        for (int i = 0; i < site_count_; ++i)
            for (int j = 0; j < i; ++j)
                if (random_.percent(60))
                    add_peering(i, j);
        add_relays();
        if (routers_.size() > 1)
            for (int n = random_.below(3); n > 0; --n)
                add_tunnel();
        for (int n = random_.below(4); n > 0; --n)
            make_mistake();
        if (has_uplink_)
            plan_["outside"] = {{"hosts", {{"far", {{"address", "198.51.100.7"}}}}}};
        if (random_.percent(30))
            add_filter();
        return std::move(plan_);
    }

  private:
    struct Router {
        std::string name;
        int site;
    };

    static std::string site(int i) { return fmt::format("site{}", i); }
    static std::string subnet(int k) { return fmt::format("net{}", k); }

    // --- sites -----------------------------------------------------------------------------

    void add_site(int i) {
        bool automatic = random_.percent(65);
        int block = i > 0 && random_.percent(8) ? i - 1 : i; // the space of another
        Json space = Json::array();
        space.push_back(fmt::format("10.{}.0.0/16", 50 + block));
        if (random_.percent(60))
            space.push_back(fmt::format("fd50:{:x}::/48", block + 1));
        plan_["sites"][site(i)] = {{"space", space}, {"region", random_.percent(50) ? "a" : "b"}};
        if (automatic)
            plan_["sites"][site(i)]["routing"] = "automatic";
        is_automatic_.push_back(automatic);
        subnets_.emplace_back();
        for (int n = random_.between(1, 3); n > 0; --n)
            add_subnet(i);
        for (int n = automatic ? random_.below(3) : 1; n > 0; --n)
            add_router(i);
        if (automatic && random_.percent(30))
            add_site_route(i);
    }

    void add_subnet(int i) {
        int k = static_cast<int>(plan_["subnets"].size());
        Json entry = {{"site", site(i)}};
        if (random_.percent(25))
            entry["prefix"] = fmt::format("10.{}.{}.0/25", 50 + i, 200 + k);
        else
            entry["size"] = fmt::format("/{}", random_.between(25, 28));
        if (random_.percent(12))
            entry["gateway"] = random_.percent(70) ? "last" : "none";
        if (is_automatic_[static_cast<std::size_t>(i)] && !subnets_.back().empty()
            && random_.percent(10))
            entry["core"] = "false";
        if (random_.percent(15)) {
            entry["uplink"] = random_.percent(80) ? "nat" : "host";
            has_uplink_ = true;
        }
        plan_["subnets"][subnet(k)] = entry;
        subnets_.back().push_back(k);
        for (int n = random_.between(k == 0 ? 1 : 0, 2); n > 0; --n) {
            std::string name = fmt::format("g{}", plan_["guests"].size());
            plan_["guests"][name] = {{"nics", {{{"subnet", subnet(k)}}}}};
            if (random_.percent(30))
                plan_["guests"][name]["listens"] = {"tcp/22", "udp/53"};
        }
    }

    // On a manual site it stands on every subnet.
    void add_router(int i) {
        std::string name = fmt::format("r{}", routers_.size());
        Json nics = Json::array();
        for (int k : subnets_.back())
            if (!is_automatic_[static_cast<std::size_t>(i)] || nics.empty() || random_.percent(40))
                nics.push_back({{"subnet", subnet(k)}});
        plan_["routers"][name] = {{"nics", nics}, {"routes", Json::array()}};
        if (random_.percent(60))
            plan_["routers"][name]["gateway"] = "auto";
        routers_.push_back({name, i});
    }

    const Router* router_of(int i) {
        std::vector<const Router*> found;
        for (const Router& router : routers_)
            if (router.site == i)
                found.push_back(&router);
        return found.empty() ? nullptr : random_.any_of(found);
    }

    void add_site_route(int i) {
        if (const Router* router = router_of(i))
            plan_["sites"][site(i)]["routes"] = {{{"to", any_target()}, {"via", router->name}}};
    }

    std::string any_target() {
        if (random_.percent(25))
            return fmt::format("10.{}.0.0/{}", 50 + random_.below(4), random_.between(16, 17));
        return random_.percent(10) ? "default" : subnet(random_.below(plan_["subnets"].size()));
    }

    // --- what joins them -------------------------------------------------------------------

    Json side(int i) {
        Json said = Json::object();
        if (random_.percent(10))
            said["accept"] = "false";
        if (random_.percent(50))
            said["relay"] = "true";
        if (random_.percent(50))
            said["exit"] = random_.percent(50) ? "lend" : "borrow";
        if (!is_automatic_[static_cast<std::size_t>(i)])
            said["border"] = router_of(i)->name;
        return said;
    }

    void add_peering(int i, int j) {
        Json peering = {{"between", {site(i), site(j)}}};
        for (int end : {i, j})
            if (random_.percent(88))
                peering[site(end)] = side(end);
        if (random_.percent(10))
            peering["mtu"] = "1280";
        plan_["peerings"].push_back(peering);
    }

    void add_relays() {
        for (int i = 0; i < site_count_; ++i)
            if (const Router* router = router_of(i); router != nullptr && random_.percent(70))
                plan_["sites"][site(i)]["relay"] = router->name;
    }

    void add_tunnel() {
        const Router& one = random_.any_of(routers_);
        const Router& other = random_.any_of(routers_);
        if (one.name == other.name)
            return;
        Json tunnel = {{"between", {one.name, other.name}}};
        if (random_.percent(25))
            tunnel["over"] = {"eth0", "eth0"};
        if (random_.percent(20))
            tunnel["mtu"] = random_.percent(50) ? "1500" : "1300";
        plan_["tunnels"].push_back(tunnel);
        for (auto [from, to] : {std::pair(&one, &other), std::pair(&other, &one)})
            if (random_.percent(85))
                plan_["routers"][from->name]["routes"].push_back(
                    {{"to", any_target()}, {"via", to->name}});
    }

    // --- mistakes --------------------------------------------------------------------------

    void make_mistake() {
        switch (random_.below(5)) {
        case 0:
            if (!routers_.empty())
                plan_["routers"][random_.any_of(routers_).name]["forwards"] = "false";
            break;
        case 1:
            if (!plan_["peerings"].empty())
                random_.any_of(plan_["peerings"])["state"] = "down";
            break;
        case 2:
            if (!plan_["tunnels"].empty())
                random_.any_of(plan_["tunnels"])["state"] = "down";
            break;
        case 3:
            if (!routers_.empty())
                plan_["routers"][random_.any_of(routers_).name]["nics"][0]["state"] = "down";
            break;
        case 4:
            if (!routers_.empty())
                plan_["routers"][random_.any_of(routers_).name]["routes"].push_back(
                    {{"to", any_target()}, {"via", random_.any_of(routers_).name}});
            break;
        }
    }

    // On a core, or on a router that a tunnel may pass.
    void add_filter() {
        Json rules = Json::array();
        rules.push_back({{"do", random_.percent(50) ? "allow" : "deny"}, {"proto", "udp"}});
        rules.push_back({{"do", random_.percent(50) ? "allow" : "deny"},
                         {"to", subnet(random_.below(plan_["subnets"].size()))}});
        plan_["filters"] = {
            {"some", {{"default", random_.percent(70) ? "allow" : "deny"}, {"rules", rules}}}};
        int i = random_.below(static_cast<std::size_t>(site_count_));
        if (is_automatic_[static_cast<std::size_t>(i)])
            plan_["sites"][site(i)]["filter"] = "some";
        else
            plan_["routers"][router_of(i)->name]["filter"] = "some";
    }

    Random random_;
    Json plan_;
    int site_count_ = 0;
    bool has_uplink_ = false;
    std::vector<bool> is_automatic_;        // by site
    std::vector<std::vector<int>> subnets_; // by site
    std::vector<Router> routers_;
};

} // namespace

Json random_sites(std::uint64_t seed) {
    return SiteMaker(seed).run();
}

} // namespace judge
