// What the reader never lets pass, and a plan that a program fills in may have all the same.
#include "jackal/limits.h"
#include "plan/bounds.h"
#include "plan/validate/validate.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace jackal::plan {

namespace {

class Values {
  public:
    std::vector<Problem> run(const Plan& plan) {
        for (const Subnet& subnet : plan.subnets)
            check(subnet);
        for (const Machine& machine : plan.machines)
            check(machine);
        for (const Link& link : plan.links)
            check(link);
        for (const Peering& peering : plan.peerings)
            check(peering);
        for (const Switch& entry : plan.switches)
            for (const SwitchPort& port : entry.ports)
                check(port);
        for (const Expectation& expectation : plan.expectations) {
            needs(expectation.from.value, expectation.at, "an expectation needs two ends");
            needs(expectation.to.value, expectation.at, "an expectation needs two ends");
        }
        return std::move(problems_);
    }

  private:
    void expect(bool holds, Mark at, std::string_view message) {
        if (!holds)
            problems_.push_back({at, std::string(message)});
    }
    void needs(const std::string& name, Mark at, std::string_view message) {
        expect(!name.empty(), at, message);
    }

    template <class Value, class FamilyOf>
    void one_per_family(const std::vector<Placed<Value>>& values, FamilyOf family, Mark at) {
        int count[2] = {0, 0};
        for (const auto& value : values)
            ++count[family(value.value) == net::Family::ipv4 ? 0 : 1];
        expect(count[0] <= 1 && count[1] <= 1, at, "there is one of each address family at most");
    }

    void delay(std::chrono::microseconds time, Mark at) {
        expect(time.count() >= 0 && time <= longest_delay, at, "a delay is 0 to 1 hour");
    }

    void mtu(const std::optional<std::uint16_t>& bytes, Mark at) {
        expect(!bytes || *bytes >= least_mtu_bytes, at, "an MTU is 68 bytes at least (RFC 791)");
    }

    void region(const Region& region, Mark at) {
        const auto* range = std::get_if<net::Range>(&region);
        const auto* places = std::get_if<Places>(&region);
        expect(
            range == nullptr
                || (range->first.family() == range->last.family() && range->first <= range->last),
            at, "a range ends where it begins, or after");
        expect(places == nullptr || places->first <= places->last, at,
               "a range ends where it begins, or after");
    }

    void check(const Subnet& subnet) {
        one_per_family(
            subnet.prefixes, [](const net::Prefix& p) { return p.family(); }, subnet.at);
        expect(!subnet.size || subnet.size->value <= 32, subnet.at, "an IPv4 size is /0 to /32");
        expect(subnet.ipv6_size <= 128, subnet.at, "an IPv6 size is /0 to /128");
        expect(!subnet.hosts || (subnet.hosts->value >= 1 && subnet.hosts->value <= most_hosts),
               subnet.at, "a subnet is for 1 to 16000000 hosts");
        expect(subnet.vlan <= most_vlan, subnet.at, "a VLAN is 1 to 4094");
        for (const auto& part : subnet.reserve)
            region(part.value, part.at);
        if (!subnet.dhcp)
            return;
        const DhcpRange& dhcp = *subnet.dhcp;
        expect(dhcp.range.has_value() != dhcp.size.has_value(), dhcp.at,
               "a DHCP range has `range` or `size`");
        expect(!dhcp.size || (dhcp.size->value >= 1 && dhcp.size->value <= most_hosts), dhcp.at,
               "a DHCP range has 1 to 16000000 addresses");
        expect(dhcp.lease.count() > 0, dhcp.at, "a lease takes a second at least");
        if (dhcp.range)
            region(dhcp.range->value, dhcp.at);
        for (const auto& part : dhcp.exclude)
            region(part.value, part.at);
        for (const Reservation& entry : dhcp.reservations)
            region(entry.address.value, entry.at);
    }

    void check(const Machine& machine) {
        for (const Nic& nic : machine.nics)
            check(nic);
        for (const Route& route : machine.routes)
            check(route);
        expect(machine.clone_digits <= machine.name.size(), machine.at,
               "more letters of a clone's name than it has");
        if (machine.gateway) {
            one_per_family(
                machine.gateway->given, [](net::Address a) { return a.family(); }, machine.at);
            expect(machine.gateway->kind != MachineGateway::Kind::given
                       || !machine.gateway->given.empty(),
                   machine.at, "a gateway that is given has an address");
        }
        if (machine.loopback)
            one_per_family(
                machine.loopback->given, [](net::Address a) { return a.family(); }, machine.at);
        if (!machine.duties)
            return;
        for (const Translation& rule : machine.duties->translations)
            needs(rule.nic.value, rule.at, "a translation stands on a NIC");
        if (machine.duties->protocols)
            check(*machine.duties->protocols, machine.at);
    }

    void check(const Nic& nic) {
        if (!nic.has_way_out())
            needs(nic.subnet.value, nic.at, "a NIC needs a subnet");
        expect(nic.address.kind != NicAddress::Kind::given || !nic.address.given.empty(), nic.at,
               "a NIC whose address is given has one");
        for (const auto& [given, at] : nic.address.given)
            expect(!given.length
                       || (*given.length >= 0
                           && *given.length <= net::address_bits(given.address.family())),
                   at, "a prefix length is 0 to 32, in IPv6 to 128");
        mtu(nic.mtu_bytes, nic.at);
        if (!nic.options)
            return;
        expect(nic.options->vlan <= most_vlan, nic.at, "a VLAN is 1 to 4094");
        expect(nic.options->bond.size() <= limits::bond_members, nic.at,
               fmt::format("a bond has at most {} members", limits::bond_members));
    }

    void check(const Route& route) {
        constexpr std::string_view wanted = "a route needs `to` and `via`";
        if (const auto* to = std::get_if<std::string>(&route.to.value))
            needs(*to, route.at, wanted);
        if (const auto* via = std::get_if<std::string>(&route.via.value))
            needs(*via, route.at, wanted);
        else
            expect(std::get<net::Address>(route.via.value) != net::Address{}, route.at, wanted);
    }

    template <class Entries, class Holds>
    void each(const Entries& entries, Mark at, std::string_view message, Holds holds) {
        for (const auto& entry : entries)
            expect(holds(entry.value), at, message);
    }

    void check(const Protocols& told, Mark at) {
        auto is_time = [](std::uint32_t seconds) { return seconds >= 1 && seconds <= 65535; };
        if (told.ospf) {
            each(told.ospf->costs, at, "a cost is 1 to 65535", [](auto cost) { return cost >= 1; });
            each(told.ospf->hello_s, at, "an interval is 1 to 65535 s", is_time);
            each(told.ospf->dead_s, at, "an interval is 1 to 65535 s", is_time);
        }
        if (told.rip) {
            each(told.rip->costs, at, "a RIP cost is 1 to 15",
                 [](auto cost) { return cost >= 1 && cost <= 15; });
            expect(is_time(told.rip->update_s), at, "an interval is 1 to 65535 s");
        }
        if (told.bgp) {
            expect(told.bgp->as != 0, at, "an AS number is 1 or more (RFC 7607)");
            for (const BgpNeighbour& neighbour : told.bgp->neighbours)
                expect(neighbour.as != 0, at, "an AS number is 1 or more (RFC 7607)");
        }
    }

    void check(const Link& link) {
        needs(link.first.value, link.at, "a link has two ends");
        needs(link.second.value, link.at, "a link has two ends");
        one_per_family(
            link.prefixes, [](const net::Prefix& p) { return p.family(); }, link.at);
        delay(link.delay, link.at);
        delay(link.jitter, link.at);
        expect(std::isfinite(link.loss) && link.loss >= 0 && link.loss <= 1, link.at,
               "a loss is 0 to 1");
        mtu(link.mtu_bytes, link.at);
    }

    void check(const Peering& peering) {
        needs(peering.first.value, peering.at, "a peering has two sites");
        needs(peering.second.value, peering.at, "a peering has two sites");
        delay(peering.delay.value_or(std::chrono::microseconds{0}), peering.at);
        expect(std::isfinite(peering.hourly_cost.value_or(0)), peering.at, "a cost is a number");
        mtu(peering.mtu_bytes, peering.at);
    }

    void check(const SwitchPort& port) {
        expect(port.untagged <= most_vlan, port.at, "a VLAN is 1 to 4094");
        expect(std::ranges::is_sorted(port.tagged)
                   && (port.tagged.empty()
                       || (port.tagged.front() >= 1 && port.tagged.back() <= most_vlan)),
               port.at, "VLANs are 1 to 4094, in ascending order");
    }

    std::vector<Problem> problems_;
};

} // namespace

std::vector<Problem> value_problems(const Plan& plan) {
    return Values().run(plan);
}

} // namespace jackal::plan
