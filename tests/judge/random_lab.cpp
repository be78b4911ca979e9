#include "random_lab.h"

#include <algorithm>
#include <array>
#include <fmt/format.h>
#include <set>

namespace judge {

using Json = nlohmann::ordered_json;

namespace {

struct Edge {
    int a;
    int b;
};

class LabMaker {
  public:
    explicit LabMaker(std::uint64_t seed) : random_(seed) {
        plan_["lab"] = fmt::format("made-up-{}", seed);
        for (const char* section : {"subnets", "guests", "routers"})
            plan_[section] = Json::object();
        plan_["links"] = Json::array();
    }

    Json run(bool with_protocols) {
        router_count_ = random_.between(1, 7);
        mostly_dual_ = random_.percent(60);
        for (int i = 0; i < router_count_; ++i)
            plan_["routers"][router(i)] = {{"nics", Json::array()}, {"routes", Json::array()}};
        add_own_subnets();
        join_routers();
        bool protocols = random_.percent(35) || with_protocols;
        if (!protocols || random_.percent(20))
            add_routes();
        if (protocols)
            add_protocols(plan_, random_);
        add_guests();
        add_loopbacks();
        add_services();
        if (random_.percent(50))
            add_filters();
        if (random_.percent(40))
            add_translations();
        int mistakes = random_.below(8);
        for (int i = 0; i < mistakes; ++i)
            make_mistake();
        if (random_.percent(40))
            add_uplinks();
        if (random_.percent(40))
            add_dhcp();
        if (random_.percent(40))
            add_switches();
        return std::move(plan_);
    }

  private:
    // --- names and numbers: subnet k is 10.31.k.0/24 or smaller, and fd31:0:0:k::/64 -------

    static std::string router(int i) { return fmt::format("r{}", i); }
    static std::string subnet(int k) { return fmt::format("net{}", k); }
    static std::string ipv4(int k, int host) { return fmt::format("10.31.{}.{}", k, host); }
    static std::string ipv6(int k, int host) { return fmt::format("fd31:0:0:{:x}::{:x}", k, host); }
    std::string address(int k, int host) {
        bool v4 = has_family(k, '.') && (!has_family(k, ':') || random_.percent(50));
        return v4 ? ipv4(k, host) : ipv6(k, host);
    }
    bool has_family(int k, char mark) const {
        for (const auto& prefix : plan_["subnets"][subnet(k)]["prefix"])
            if (prefix.get<std::string>().find(mark) != std::string::npos)
                return true;
        return false;
    }

    int any_subnet() { return random_.below(plan_["subnets"].size()); }
    Json& any_entry(const char* section) {
        auto it = plan_[section].begin();
        std::advance(it, random_.below(plan_[section].size()));
        return *it;
    }
    Json& any_router() { return any_entry("routers"); }
    Json& any_guest() { return any_entry("guests"); }
    Json& any_machine() { return random_.percent(60) ? any_router() : any_guest(); }
    std::string any_name(const char* section) {
        auto it = plan_[section].begin();
        std::advance(it, random_.below(plan_[section].size()));
        return it.key();
    }
    static int number_of(const Json& nic) {
        return std::stoi(nic["subnet"].get<std::string>().substr(3));
    }

    // --- a lab that works ------------------------------------------------------------------

    int add_subnet() {
        int k = static_cast<int>(plan_["subnets"].size());
        Json prefixes = Json::array();
        int family = mostly_dual_ ? random_.below(3) : random_.below(12);
        if (family < 9)
            prefixes.push_back(fmt::format("10.31.{}.0/{}", k, random_.between(24, 28)));
        if (family < 5 || family >= 9)
            prefixes.push_back(fmt::format("fd31:0:0:{:x}::/64", k));
        plan_["subnets"][subnet(k)]["prefix"] = prefixes;
        if (random_.percent(15))
            plan_["subnets"][subnet(k)]["gateway"] = random_.percent(70) ? "last" : "none";
        return k;
    }

    void put_on(int i, int k) {
        plan_["routers"][router(i)]["nics"].push_back({{"subnet", subnet(k)}});
    }

    void add_own_subnets() {
        for (int i = 0; i < router_count_; ++i)
            for (int n = random_.between(router_count_ == 1 ? 2 : 0, 2); n > 0; --n)
                put_on(i, add_subnet());
        if (plan_["subnets"].empty())
            put_on(0, add_subnet());
    }

    void join(int a, int b) {
        edges_.push_back({a, b});
        if (random_.percent(65)) {
            Json link = {{"between", {router(a), router(b)}}};
            if (random_.percent(20)) // one family only
                link["prefix"] = random_.percent(50)
                                     ? fmt::format("10.30.{}.0/31", edges_.size())
                                     : fmt::format("fd30:0:0:{:x}::/127", edges_.size());
            plan_["links"].push_back(link);
            return;
        }
        int k = add_subnet();
        put_on(a, k);
        put_on(b, k);
    }

    void join_routers() {
        switch (random_.below(5)) {
        case 0: // chain
            for (int i = 1; i < router_count_; ++i)
                join(i - 1, i);
            break;
        case 1: // ring
            for (int i = 1; i < router_count_; ++i)
                join(i - 1, i);
            if (router_count_ > 2)
                join(router_count_ - 1, 0);
            break;
        case 2: // all on one segment
            if (router_count_ > 1) {
                int k = add_subnet();
                for (int i = 0; i < router_count_; ++i)
                    put_on(i, k);
                for (int i = 0; i < router_count_; ++i)
                    for (int j = 0; j < i; ++j)
                        edges_.push_back({j, i});
            }
            break;
        default: // tree, sometimes with a few joints more
            for (int i = 1; i < router_count_; ++i)
                join(random_.below(static_cast<std::size_t>(i)), i);
            for (int n = random_.below(3); n > 0 && router_count_ > 2; --n) {
                int a = random_.below(static_cast<std::size_t>(router_count_));
                join(a, (a + 1) % router_count_);
            }
        }
    }

    // The neighbour of each router that is nearest to router `goal`, by chance among equals.
    std::vector<int> next_hops(int goal) {
        std::vector<int> next(static_cast<std::size_t>(router_count_), -1);
        std::vector<int> seen{goal};
        auto edges = edges_;
        for (std::size_t i = 0; i < seen.size(); ++i) {
            for (std::size_t n = edges.size(); n > 1; --n)
                std::swap(edges[n - 1], edges[static_cast<std::size_t>(random_.below(n))]);
            for (auto [a, b] : edges)
                for (auto [here, there] : {std::pair(a, b), std::pair(b, a)})
                    if (here == seen[i] && std::ranges::find(seen, there) == seen.end()) {
                        next[static_cast<std::size_t>(there)] = here;
                        seen.push_back(there);
                    }
        }
        return next;
    }

    void add_routes() {
        bool with_defaults = random_.percent(30);
        std::vector<int> to_first = next_hops(0);
        for (int i = 1; i < router_count_ && with_defaults; ++i)
            if (to_first[static_cast<std::size_t>(i)] >= 0)
                route(i, "default", to_first[static_cast<std::size_t>(i)]);
        for (int goal = 0; goal < router_count_; ++goal) {
            std::vector<int> next = next_hops(goal);
            for (const Json& nic : Json(plan_["routers"][router(goal)]["nics"]))
                for (int i = 0; i < router_count_; ++i)
                    if (int hop = next[static_cast<std::size_t>(i)];
                        hop >= 0
                        && !(with_defaults && hop == to_first[static_cast<std::size_t>(i)]))
                        if (!is_on(i, nic["subnet"]))
                            route(i, nic["subnet"], hop);
        }
    }

    bool is_on(int i, const std::string& subnet_name) const {
        for (const Json& nic : plan_["routers"][router(i)]["nics"])
            if (nic["subnet"] == subnet_name)
                return true;
        return false;
    }

    void route(int i, const std::string& to, int hop) {
        Json& routes = plan_["routers"][router(i)]["routes"];
        for (const Json& known : routes)
            if (known["to"] == to)
                return;
        routes.push_back({{"to", to}, {"via", router(hop)}});
    }

    void add_guests() {
        int count = random_.between(std::max(1, 4 - router_count_), 20 - router_count_);
        count = std::min(count, random_.between(3, 13));
        for (int i = 0; i < count; ++i) {
            Json nics = Json::array();
            for (int n = random_.percent(20) ? 2 : 1; n > 0; --n)
                nics.push_back({{"subnet", subnet(any_subnet())}});
            plan_["guests"][fmt::format("g{}", i)] = {{"nics", nics}};
        }
    }

    // Some machines have addresses of their own, and some others know the way.
    void add_loopbacks() {
        plan_["pools"]["own"]["space"] = {"10.32.0.0/24", "fd32::/64"};
        for (int n = random_.between(-3, 3); n > 0; --n) {
            int host = random_.between(1, 250);
            Json own = {fmt::format("10.32.1.{}", host), fmt::format("fd32:1::{:x}", host)};
            any_machine()["loopback"] = random_.percent(70) ? own : Json("own");
            for (const char* to : {"10.32.0.0/23", "fd32::/31"})
                for (int i = 1; i < router_count_ && random_.percent(80); ++i)
                    add_route(plan_["routers"][router(i)], to,
                              router(random_.below(static_cast<std::size_t>(i))));
        }
    }

    // --- services, filters, translations ---------------------------------------------------

    void add_services() {
        constexpr std::array services = {"tcp/22", "tcp/80", "udp/53"};
        for (int n = random_.between(-3, 6); n > 0; --n) {
            Json& machine = random_.percent(80) ? any_guest() : any_router();
            Json list = Json::array();
            for (const char* service : services)
                if (random_.percent(50))
                    list.push_back(service);
            machine["listens"] = list;
        }
    }

    Json any_end() {
        switch (random_.below(5)) {
        case 0: return any_name("routers");
        case 1: return any_name("guests");
        case 2: return any_target(random_.percent(60));
        default: return subnet(any_subnet());
        }
    }

    Json any_rule() {
        constexpr std::array ways = {"in", "out", "through"};
        constexpr std::array protocols = {"any", "icmp", "tcp", "udp", "ospf"};
        Json rule = {{"do", random_.percent(60) ? "allow" : "deny"}};
        if (random_.percent(60))
            rule["way"] = random_.any_of(ways);
        int protocol = random_.below(protocols.size());
        if (random_.percent(60))
            rule["proto"] = protocols.at(static_cast<std::size_t>(protocol));
        else
            protocol = 0;
        if (random_.percent(50))
            rule["from"] = random_.percent(30) ? Json{any_end(), any_end()} : any_end();
        if (random_.percent(40))
            rule["to"] = any_end();
        if (protocol != 1 && protocol != 4 && random_.percent(40))
            rule["port"] = random_.percent(50) ? Json{22, "50-60"} : Json("20-80");
        return rule;
    }

    void add_filters() {
        int count = random_.between(1, 4);
        for (int i = 0; i < count; ++i) {
            Json& filter = plan_["filters"][fmt::format("f{}", i)];
            filter["default"] = random_.percent(70) ? "allow" : "deny";
            filter["rules"] = Json::array();
            for (int n = random_.below(7); n > 0; --n)
                filter["rules"].push_back(any_rule());
            switch (random_.below(4)) {
            case 0: plan_["subnets"][subnet(any_subnet())]["filter"] = fmt::format("f{}", i); break;
            case 1: any_machine()["filter"] = fmt::format("f{}", i); break;
            default:
                if (Json* nic = any_nic(any_machine()))
                    (*nic)["filter"] = fmt::format("f{}", i);
            }
        }
    }

    void add_translations() {
        for (int n = random_.between(1, 3); n > 0; --n) {
            Json& machine = random_.percent(85) ? any_router() : any_guest();
            Json nat = Json::array();
            for (int lines = random_.between(1, 3); lines > 0 && !machine["nics"].empty(); --lines)
                nat.push_back(any_translation(machine["nics"].size()));
            machine["nat"] = nat;
        }
    }

    Json any_translation(std::size_t nics) {
        std::string nic = fmt::format("eth{}", random_.below(nics));
        if (random_.percent(65)) {
            Json line = {{"out", nic}};
            if (random_.percent(40))
                line["from"] = random_.percent(50) ? any_target(true) : subnet(any_subnet());
            return line;
        }
        Json line = {{"in", nic}, {"to", any_name("guests")}};
        if (random_.percent(80)) {
            line["proto"] = random_.percent(70) ? "tcp" : "udp";
            line["port"] = random_.percent(50) ? 22 : 53;
            if (random_.percent(40))
                line["to-port"] = 80;
        }
        return line;
    }

    // --- DHCP, and ways outside ------------------------------------------------------------

    void add_uplinks() {
        constexpr std::array uplinks = {"host", "nat", "nat", "bridge"};
        bool bridged = false;
        for (int n = random_.between(1, 3); n > 0; --n) {
            Json& subnet = any_entry("subnets");
            std::string uplink = random_.any_of(uplinks);
            if (uplink == "bridge" && bridged)
                continue;
            bridged |= uplink == "bridge" && !subnet.contains("uplink");
            if (!subnet.contains("uplink"))
                subnet["uplink"] = uplink;
        }
        if (random_.percent(70))
            plan_["outside"]["lan"] = {"192.168.7.0/24"};
        for (int n = random_.between(1, 3); n > 0; --n) {
            Json& host = plan_["outside"]["hosts"][fmt::format("o{}", n)];
            host["address"] =
                fmt::format("{}.{}", random_.percent(50) ? "192.0.2" : "198.51.100", n);
            host["listens"] = {"tcp/80"};
        }
        for (int n = random_.below(3); n > 0; --n) { // translated on the way there
            Json& machine = any_router();
            if (!machine["nics"].empty() && !machine.contains("nat"))
                machine["nat"] = {{{"out", "eth0"}}};
        }
        for (int n = random_.below(4); n > 0; --n)
            add_route(any_router(), "default",
                      random_.percent(60) ? "workstation" : any_name("routers"));
    }

    void add_dhcp() {
        for (auto& [name, subnet] : plan_["subnets"].items()) {
            if (!has_family(std::stoi(name.substr(3)), '.') || random_.percent(40))
                continue;
            Json dhcp = {{"size", random_.between(1, 5)}};
            if (random_.percent(30)) {
                dhcp["server"] = any_name("routers");
                if (random_.percent(60))
                    dhcp["relay"] = any_name("routers");
            }
            if (random_.percent(10))
                dhcp["router"] = "none";
            subnet["dhcp"] = dhcp;
        }
        for (const char* section : {"guests", "routers"})
            for (auto& machine : plan_[section])
                for (auto& nic : machine["nics"])
                    if (!nic.contains("address") && random_.percent(section[0] == 'g' ? 50 : 12)) {
                        nic["address"] = "dhcp";
                        if (random_.percent(20))
                            nic["metric"] = random_.between(1, 300);
                    }
    }

    // --- switches: subnet k is VLAN 100 + k ------------------------------------------------

    // A tree of switches with trunks for all VLANs, and some subnets moved onto it: then mistakes.
    void add_switches() {
        int count = random_.between(1, 4);
        Json all = Json::array();
        for (std::size_t k = 0; k < plan_["subnets"].size(); ++k)
            all.push_back(100 + k);
        for (int i = 0; i < count; ++i)
            plan_["switches"][fmt::format("sw{}", i)]["ports"] = Json::object();
        for (int i = 1; i < count; ++i)
            cable(i, random_.below(static_cast<std::size_t>(i)), all);
        if (count > 1 && random_.percent(20)) // a loop
            cable(0, random_.between(1, count - 1), all);
        std::set<std::string> switched;
        for (const auto& [name, subnet] : plan_["subnets"].items())
            if (random_.percent(60))
                switched.insert(name);
        for (const char* section : {"guests", "routers"})
            for (auto& machine : plan_[section])
                for (auto& nic : machine["nics"])
                    if (switched.contains(nic["subnet"]) && !random_.percent(7))
                        plug(nic, count);
        for (const std::string& name : switched) // for those that stay on the segment
            if (random_.percent(80))
                add_port(random_.below(static_cast<std::size_t>(count)),
                         {{"vlan", vlan_of(name)}, {"segment", name}});
        for (int mistakes = random_.below(5); mistakes > 0; --mistakes)
            miswire();
    }

    static int vlan_of(const std::string& subnet_name) {
        return 100 + std::stoi(subnet_name.substr(3));
    }

    std::string add_port(int i, const Json& port) {
        std::string owner = fmt::format("sw{}", i);
        Json& ports = plan_["switches"][owner]["ports"];
        std::string name = fmt::format("p{}", ports.size());
        ports[name] = port;
        return owner + "/" + name;
    }

    void cable(int one, int other, const Json& vlans) {
        Json trunk = {{"trunk", vlans}};
        if (random_.percent(30))
            trunk["native"] = random_.percent(50) ? 99 : 100;
        plan_["links"].push_back({{"between", {add_port(one, trunk), add_port(other, trunk)}}});
    }

    void plug(Json& nic, int count) {
        int vlan = vlan_of(nic["subnet"]);
        auto any = [&] { return random_.below(static_cast<std::size_t>(count)); };
        if (random_.percent(20)) {
            nic["port"] = add_port(any(), {{"trunk", {vlan, 99}}});
            nic["vlan"] = vlan;
        } else if (random_.percent(25)) {
            nic["bond"] = Json::array();
            for (int n = random_.between(1, 3); n > 0; --n) {
                Json member = {{"port", add_port(any(), {{"vlan", vlan}})}};
                if (random_.percent(30))
                    member["state"] = "down";
                nic["bond"].push_back(member);
            }
        } else {
            nic["port"] = add_port(any(), {{"vlan", vlan}});
        }
    }

    void miswire() {
        Json& ports = any_entry("switches")["ports"];
        if (ports.empty())
            return;
        auto it = ports.begin();
        std::advance(it, random_.below(ports.size()));
        Json& port = *it;
        bool trunk = port.contains("trunk");
        switch (random_.below(4)) {
        case 0: port["state"] = "down"; break;
        case 1:
            if (trunk && !port["trunk"].empty())
                port["trunk"].erase(static_cast<std::size_t>(random_.below(port["trunk"].size())));
            break;
        case 2: port[trunk ? "native" : "vlan"] = 100 + any_subnet(); break;
        default: any_entry("switches")["state"] = "down";
        }
    }

    // --- mistakes --------------------------------------------------------------------------

    Json* any_nic(Json& machine) {
        Json& nics = machine["nics"];
        return nics.empty() ? nullptr : &random_.any_of(nics);
    }

    void add_route(Json& machine, const Json& to, const Json& via) {
        Json entry = {{"to", to}, {"via", via}};
        if (random_.percent(30))
            entry["metric"] =
                std::array{1, 10, 256, 300, 1024}[static_cast<std::size_t>(random_.below(5))];
        if (!machine.contains("routes"))
            machine["routes"] = Json::array();
        Json& routes = machine["routes"];
        std::size_t at = static_cast<std::size_t>(random_.below(routes.size() + 1));
        routes.insert(routes.begin() + static_cast<std::ptrdiff_t>(at), entry);
    }

    // Somewhere to send packets: the whole of a subnet or a part of it, an address, everything.
    std::string any_target(bool v4) {
        int k = any_subnet();
        switch (random_.below(5)) {
        case 0: return v4 ? ipv4(k, random_.between(1, 6)) + "/32" : ipv6(k, 2) + "/128";
        case 1: return v4 ? ipv4(k, 0) + "/29" : fmt::format("fd31:0:0:{:x}::/112", k);
        case 2: return v4 ? "10.31.0.0/16" : "fd31::/32";
        case 3: return v4 ? "0.0.0.0/0" : "::/0";
        default: return v4 ? fmt::format("10.31.{}.0/24", k) : fmt::format("fd31:0:0:{:x}::/64", k);
        }
    }

    void make_mistake() {
        static constexpr std::array mistakes = {&LabMaker::lose_route,
                                                &LabMaker::lose_route,
                                                &LabMaker::lose_all_routes,
                                                &LabMaker::do_not_forward,
                                                &LabMaker::put_nic_down,
                                                &LabMaker::put_machine_off,
                                                &LabMaker::put_link_down,
                                                &LabMaker::give_wrong_gateway,
                                                &LabMaker::turn_route,
                                                &LabMaker::take_address,
                                                &LabMaker::leave_subnet,
                                                &LabMaker::change_length,
                                                &LabMaker::use_end_of_range,
                                                &LabMaker::overlap_subnets,
                                                &LabMaker::mistake_segment,
                                                &LabMaker::repeat_route,
                                                &LabMaker::point_at_each_other,
                                                &LabMaker::shrink_mtu,
                                                &LabMaker::leave_unaddressed,
                                                &LabMaker::send_elsewhere,
                                                &LabMaker::add_addresses,
                                                &LabMaker::add_default,
                                                &LabMaker::route_connected,
                                                &LabMaker::add_nic,
                                                &LabMaker::let_guest_forward,
                                                &LabMaker::split_segment,
                                                &LabMaker::share_mac};
        (this->*random_.any_of(mistakes))();
    }

    void lose_route() {
        Json& routes = any_router()["routes"];
        if (!routes.empty())
            routes.erase(static_cast<std::size_t>(random_.below(routes.size())));
    }
    void lose_all_routes() { any_router()["routes"] = Json::array(); }
    void do_not_forward() { any_router()["forwards"] = false; }
    void put_nic_down() {
        if (Json* nic = any_nic(any_machine()))
            (*nic)["state"] = "down";
    }
    void put_machine_off() { any_machine()["state"] = "down"; }
    void put_link_down() {
        if (!plan_["links"].empty())
            random_.any_of(plan_["links"])["state"] = "down";
    }
    void give_wrong_gateway() {
        Json& guest = any_guest();
        int k = number_of(guest["nics"][0]);
        switch (random_.below(5)) {
        case 0: guest["gateway"] = "none"; break;
        case 1: guest["gateway"] = address(k, 14); break;              // nobody's
        case 2: guest["gateway"] = address(any_subnet(), 1); break;    // perhaps off the subnet
        default: guest["gateway"] = address(k, random_.between(1, 5)); // a guest, perhaps itself
        }
    }
    void turn_route() {
        Json& routes = any_router()["routes"];
        if (!routes.empty())
            random_.any_of(routes)["via"] = any_name(random_.percent(80) ? "routers" : "guests");
    }
    void take_address() {
        if (Json* nic = any_nic(any_machine()))
            (*nic)["address"] = address(number_of(*nic), random_.between(1, 6));
    }
    void leave_subnet() {
        if (Json* nic = any_nic(any_machine()))
            (*nic)["address"] = address(any_subnet(), random_.between(2, 9));
    }
    void change_length() {
        Json* nic = any_nic(any_machine());
        if (nic == nullptr)
            return;
        int k = number_of(*nic);
        int host = random_.between(1, 13);
        bool v4 = random_.percent(60);
        (*nic)["address"] =
            fmt::format("{}/{}", v4 ? ipv4(k, host) : ipv6(k, host),
                        std::array{v4 ? 16 : 48, v4 ? 22 : 60, v4 ? 29 : 124, v4 ? 30 : 126,
                                   v4 ? 32 : 128}[static_cast<std::size_t>(random_.below(5))]);
    }
    void use_end_of_range() {
        Json* nic = any_nic(any_machine());
        if (nic == nullptr)
            return;
        int k = number_of(*nic);
        bool first = random_.percent(50);
        (*nic)["address"] =
            random_.percent(70) ? ipv4(k, first ? 0 : 15) + "/28" : ipv6(k, 0) + "/64";
    }
    void overlap_subnets() {
        int k = any_subnet();
        plan_["subnets"][subnet(any_subnet())]["prefix"] = {
            fmt::format("10.31.{}.0/{}", k, random_.between(24, 27)),
            fmt::format("fd31:0:0:{:x}::/{}", k, random_.between(64, 66))};
    }
    void mistake_segment() {
        if (Json* nic = any_nic(any_machine())) {
            (*nic)["address"] = address(number_of(*nic), random_.between(1, 12));
            (*nic)["subnet"] = subnet(any_subnet());
        }
    }
    void repeat_route() {
        Json& router_entry = any_router();
        if (!router_entry["routes"].empty())
            add_route(router_entry, Json(random_.any_of(router_entry["routes"])["to"]),
                      any_name("routers"));
    }
    void point_at_each_other() {
        if (edges_.empty())
            return;
        auto [a, b] = random_.any_of(edges_);
        add_route(plan_["routers"][router(a)], "default", router(b));
        add_route(plan_["routers"][router(b)], "default", router(a));
    }
    void shrink_mtu() {
        constexpr std::array sizes = {1400, 1320, 1280, 1200, 1000};
        int size = sizes[static_cast<std::size_t>(random_.below(sizes.size()))];
        if (!plan_["links"].empty() && random_.percent(60))
            random_.any_of(plan_["links"])["mtu"] = size;
        else if (Json* nic = any_nic(any_machine()))
            (*nic)["mtu"] = size;
    }
    void leave_unaddressed() {
        if (Json* nic = any_nic(any_machine()))
            (*nic)["address"] = "none";
    }
    void send_elsewhere() {
        bool v4 = random_.percent(60);
        Json& machine = any_machine();
        Json* nic = any_nic(machine);
        if (nic != nullptr && random_.percent(50)) {
            int k = number_of(*nic);
            int host =
                std::array{0, 1, 2, 3, 4, 14, 15, 255}[static_cast<std::size_t>(random_.below(8))];
            add_route(machine, any_target(v4), v4 ? ipv4(k, host) : ipv6(k, host));
        } else {
            add_route(machine, any_target(v4), any_name("routers"));
        }
    }
    void add_addresses() {
        Json* nic = any_nic(any_machine());
        if (nic == nullptr)
            return;
        Json list = Json::array();
        std::set<std::string> known;
        for (int n = random_.between(2, 4); n > 0; --n) {
            int k = random_.percent(60) ? number_of(*nic) : any_subnet();
            std::string one = address(k, random_.between(1, 14));
            if (!known.insert(one).second)
                continue;
            if (random_.percent(40))
                one += one.find(':') == std::string::npos ? "/24" : "/64";
            list.push_back(one);
        }
        (*nic)["address"] = list;
    }
    void add_default() {
        Json& guest = any_guest();
        Json& nic = random_.any_of(guest["nics"]);
        add_route(guest, random_.percent(50) ? "0.0.0.0/0" : "default",
                  random_.percent(50) ? Json(any_name("routers")) : Json(ipv4(number_of(nic), 1)));
    }
    void route_connected() {
        Json& machine = any_machine();
        if (Json* nic = any_nic(machine))
            add_route(machine, Json((*nic)["subnet"]), any_name("routers"));
    }
    void add_nic() {
        Json& machine = any_machine();
        Json* nic = any_nic(machine);
        std::string on = nic != nullptr && random_.percent(50) ? (*nic)["subnet"].get<std::string>()
                                                               : subnet(any_subnet());
        machine["nics"].push_back({{"subnet", on}});
    }
    void let_guest_forward() {
        std::string name = any_name("guests");
        plan_["guests"][name]["forwards"] = true;
        add_route(any_machine(), any_target(random_.percent(60)), name);
    }
    void share_mac() {
        for (int n = 0; n < 2; ++n)
            if (Json* nic = any_nic(any_machine()))
                (*nic)["mac"] = "02:00:5e:31:00:01";
    }
    void split_segment() { // the same range once more, on a segment of its own
        int k = any_subnet();
        std::string name = fmt::format("net{}", plan_["subnets"].size());
        plan_["subnets"][name] = plan_["subnets"][subnet(k)];
        if (Json* nic = any_nic(any_machine()))
            (*nic)["subnet"] = name;
    }

    Random random_;
    Json plan_;
    int router_count_ = 0;
    bool mostly_dual_ = false;
    std::vector<Edge> edges_;
};

} // namespace

Json random_lab(std::uint64_t seed, bool with_protocols) {
    return LabMaker(seed).run(with_protocols);
}

} // namespace judge
