#include "jackal/plan/outside.h"

#include "plan/complete/builders.h"

#include <algorithm>
#include <array>
#include <fmt/format.h>
#include <map>
#include <set>

namespace jackal::plan {

namespace {

// Where the link between the physical network and the rest of the world may get its two addresses
// from: documentation ranges (RFC 5737), or those for benchmarks (RFC 2544) if hosts use them all.
constexpr std::array wan_ranges{"203.0.113.0/24", "198.51.100.0/24", "192.0.2.0/24",
                                "198.18.0.0/24"};
constexpr const char* usual_lan = "192.168.254.0/24";
constexpr const char* large_lan = "172.31.0.0/16"; // if more have ways out than the usual one holds

} // namespace

class OutsideBuilder {
  public:
    explicit OutsideBuilder(CompleteParts& into) : into_(into), plan_(into.entries) {}

    void run() {
        for (const Subnet& subnet : plan_.subnets)
            uplinks_ |= subnet.uplink != Uplink::none;
        for (const Machine& machine : plan_.machines)
            ways_out_ +=
                static_cast<std::size_t>(std::ranges::count_if(machine.nics, &Nic::has_way_out));
        uplinks_ |= ways_out_ != 0;
        if (!uplinks_ && plan_.outside.hosts.empty())
            return;
        add_site();
        prepare_subnets();
        add_lan();
        add_ways_out();
        add_workstation();
        add_lan_gateway();
        add_hosts();
        add_wan();
    }

  private:
    void add_site() {
        if (plan_.sites.empty())
            return;
        Site site;
        site.name = outside::site;
        site.at = plan_.outside.at;
        plan_.sites.push_back(std::move(site));
        site_ = Placed<std::string>(std::string(outside::site));
    }

    net::Prefix lan_prefix() const {
        for (const auto& lan : plan_.outside.lan)
            if (lan.value.family() == net::Family::ipv4)
                return lan.value;
        constexpr std::size_t most_on_usual = 250; // the workstation and the gateway are there, too
        return net::parse_prefix(ways_out_ > most_on_usual ? large_lan : usual_lan).value();
    }

    bool is_sized(const Subnet& subnet) const {
        return !subnet.prefixes.empty() || subnet.hosts || subnet.size;
    }

    void prepare_subnets() {
        for (std::size_t i = 0; i < plan_.subnets.size(); ++i) {
            Subnet& subnet = plan_.subnets[i];
            if (subnet.uplink == Uplink::bridge && !is_sized(subnet)) {
                into_.prefixes.insert(i);
                if (plan_.outside.lan.empty())
                    subnet.prefixes.emplace_back(lan_prefix());
                else
                    subnet.prefixes = plan_.outside.lan;
            }
            if (subnet.uplink == Uplink::bridge && lan_.empty())
                lan_ = subnet.name;
            if (has_gateway_outside(subnet.uplink) && !subnet.dhcp && !subnet.static_only) {
                DhcpRange dhcp;
                dhcp.at = subnet.uplink_at;
                subnet.dhcp = std::move(dhcp);
                into_.dhcp.insert(i);
            }
        }
    }

    Subnet& add_subnet(std::string name, Mark at) {
        Subnet subnet;
        subnet.name = std::move(name);
        subnet.site = site_;
        subnet.at = at;
        plan_.subnets.push_back(std::move(subnet));
        return plan_.subnets.back();
    }

    void add_lan() {
        if (!lan_.empty())
            return;
        lan_ = outside::lan;
        std::vector<Placed<net::Prefix>> prefixes = plan_.outside.lan;
        if (prefixes.empty())
            prefixes.emplace_back(lan_prefix());
        space_ = prefixes;
        add_subnet(lan_, plan_.outside.at).prefixes = std::move(prefixes);
    }

    // For each NIC with a way out of its own a segment, and a gateway that translates. All may have
    // the same range, as nobody else is on it.
    void add_ways_out() {
        std::vector<Machine> gateways;
        for (Machine& user : plan_.machines)
            for (Nic& nic : user.nics) {
                if (!nic.has_way_out())
                    continue;
                const auto& prefix = *nic.options->way_out;
                const std::string name = user.name + outside::way_out_suffix;
                Subnet& subnet = add_subnet(name, prefix.at);
                subnet.prefixes.push_back(prefix);
                subnet.uplink = Uplink::own;
                subnet.static_only = true;
                if (site_
                    && std::ranges::find(space_, prefix.value, &Placed<net::Prefix>::value)
                           == space_.end())
                    space_.push_back(prefix);
                nic.subnet = {name, prefix.at};
                Machine gateway =
                    machine(MachineKind::router, name + outside::gateway_suffix, prefix.at);
                gateway.nics.push_back(nic_on(name, prefix.at));
                Nic lan = nic_on(lan_, prefix.at);
                lan.name = std::string(outside::nic);
                gateway.nics.push_back(std::move(lan));
                gateway.routes.push_back(default_route(outside::lan_gateway));
                Translation rule;
                rule.nic.value = outside::nic;
                rule.from.emplace_back(Ends(name));
                Duties duties;
                duties.translations.push_back(std::move(rule));
                gateway.duties = std::move(duties);
                gateways.push_back(std::move(gateway));
            }
        for (Machine& gateway : gateways)
            plan_.machines.push_back(std::move(gateway));
    }

    Machine machine(MachineKind kind, std::string name, Mark at) const {
        Machine machine;
        machine.kind = kind;
        machine.name = std::move(name);
        machine.at = at;
        return machine;
    }

    static Nic nic_on(std::string subnet, Mark at) {
        Nic nic;
        nic.subnet = std::move(subnet);
        nic.at = at;
        return nic;
    }

    static Route default_route(const char* via) {
        Route route;
        route.to = Route::Target(Route::Default{});
        route.via = Route::NextHop(std::string(via));
        return route;
    }

    static Duties name_service() {
        Duties duties;
        for (net::Protocol protocol : {net::Protocol::udp, net::Protocol::tcp})
            duties.listens.emplace_back(net::Service{protocol, dns_port});
        return duties;
    }

    // The workstation stands on every segment that is its own affair, and on the physical network.
    void add_workstation() {
        Machine station = machine(MachineKind::router, outside::workstation, plan_.outside.at);
        Translation rule;
        rule.nic.value = outside::nic;
        for (const Subnet& subnet : plan_.subnets) {
            if (subnet.uplink != Uplink::host && subnet.uplink != Uplink::nat)
                continue;
            if (!station.at)
                station.at = subnet.uplink_at;
            station.nics.push_back(nic_on(subnet.name, subnet.uplink_at));
            if (subnet.uplink == Uplink::nat)
                rule.from.emplace_back(Ends(subnet.name));
        }
        if (!uplinks_)
            return;
        Nic lan = nic_on(lan_, plan_.outside.at);
        lan.name = std::string(outside::nic);
        station.nics.push_back(std::move(lan));
        station.routes.push_back(default_route(outside::lan_gateway));
        station.forwards = !rule.from.empty();
        if (!rule.from.empty()) {
            Duties duties = name_service();
            duties.translations.push_back(std::move(rule));
            station.duties = std::move(duties);
        }
        plan_.machines.push_back(std::move(station));
    }

    void add_lan_gateway() {
        Machine gateway = machine(MachineKind::router, outside::lan_gateway, plan_.outside.at);
        gateway.nics.push_back(nic_on(lan_, plan_.outside.at));
        gateway.routes.push_back(default_route(outside::internet));
        Duties duties = name_service();
        Translation rule;
        rule.nic.value = "eth1"; // of the link
        duties.translations.push_back(std::move(rule));
        gateway.duties = std::move(duties);
        plan_.machines.push_back(std::move(gateway));
    }

    // One subnet for each /24 or /64 that hosts are on.
    void add_hosts() {
        std::map<net::Prefix, std::vector<const OutsideHost*>> hosts;
        for (const OutsideHost& host : plan_.outside.hosts)
            for (const auto& address : host.addresses)
                hosts[around(address.value)].push_back(&host);
        Machine internet = machine(MachineKind::router, outside::internet, plan_.outside.at);
        std::map<net::Prefix, std::string> names;
        for (const auto& [prefix, on_it] : hosts) {
            used_.push_back(prefix);
            Mark at = on_it.front()->at;
            Subnet& subnet = add_subnet(fmt::format("far-{}", names.size() + 1), at);
            names.emplace(prefix, subnet.name);
            subnet.prefixes.emplace_back(prefix, at);
            space_.emplace_back(prefix, at);
            subnet.gateway = {.kind = SubnetGateway::Kind::given, .written = true};
            subnet.gateway.given.emplace_back(free_address(prefix, on_it), at);
            internet.nics.push_back(nic_on(subnet.name, at));
        }
        plan_.machines.push_back(std::move(internet));
        for (const OutsideHost& host : plan_.outside.hosts) {
            Machine guest = machine(MachineKind::guest, host.name, host.at);
            if (!host.about.empty())
                guest.about = host.about;
            for (const auto& address : host.addresses) {
                Nic nic = nic_on(names.at(around(address.value)), address.at);
                nic.address.kind = NicAddress::Kind::given;
                nic.address.given.emplace_back(GivenAddress{address.value, std::nullopt},
                                               address.at);
                guest.nics.push_back(std::move(nic));
            }
            if (!host.listens.empty()) {
                Duties duties;
                duties.listens = host.listens;
                guest.duties = std::move(duties);
            }
            plan_.machines.push_back(std::move(guest));
        }
    }

    static net::Prefix around(net::Address address) {
        return {address, address.family() == net::Family::ipv4 ? 24 : 64};
    }

    static net::Address free_address(const net::Prefix& prefix,
                                     const std::vector<const OutsideHost*>& hosts) {
        std::set<net::Address> taken;
        for (const OutsideHost* host : hosts)
            for (const auto& address : host->addresses)
                taken.insert(address.value);
        net::Address address = prefix.last_usable();
        while (taken.contains(address))
            address = address.minus(1);
        return address;
    }

    void add_wan() {
        Link link;
        link.first = std::string(outside::internet);
        link.second = std::string(outside::lan_gateway);
        link.delay = plan_.outside.delay;
        link.at = plan_.outside.at;
        for (const char* text : wan_ranges) {
            net::Prefix range = net::parse_prefix(text).value();
            if (std::ranges::find(used_, range) != used_.end())
                continue;
            link.prefixes.emplace_back(net::Prefix(range.first(), 30), link.at);
            break;
        }
        bool ipv6 = std::ranges::any_of(plan_.outside.lan, [](const auto& lan) {
            return lan.value.family() == net::Family::ipv6;
        });
        if (ipv6)
            link.prefixes.emplace_back(net::parse_prefix("2001:db8:ffff:ffff::/126").value(),
                                       link.at);
        if (site_)
            for (const auto& prefix : link.prefixes)
                space_.push_back(prefix);
        plan_.links.push_back(std::move(link));
        if (site_)
            plan_.sites.back().space = std::move(space_);
        // What is private is not routed back (RFC 1918, RFC 4193).
        Machine& internet = *std::ranges::find(plan_.machines, outside::internet, &Machine::name);
        net::Prefix private_use = net::parse_prefix("fc00::/7").value();
        for (const auto& lan : plan_.outside.lan)
            if (lan.value.family() == net::Family::ipv6 && !private_use.contains(lan.value)) {
                Route route;
                route.to = Route::Target(lan.value);
                route.via = Route::NextHop(std::string(outside::lan_gateway));
                internet.routes.push_back(std::move(route));
            }
    }

    static constexpr std::uint16_t dns_port = 53; // RFC 1035 section 4.2

    CompleteParts& into_;
    Plan& plan_;
    bool uplinks_ = false;
    std::size_t ways_out_ = 0;
    std::optional<Placed<std::string>> site_; // of entries that are outside
    std::string lan_;                         // the subnet that is the physical network
    std::vector<net::Prefix> used_;           // by hosts
    std::vector<Placed<net::Prefix>> space_;  // of the site that is outside
};

void add_outside(CompleteParts& into) {
    OutsideBuilder(into).run();
}

} // namespace jackal::plan
