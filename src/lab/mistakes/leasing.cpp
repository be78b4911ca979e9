#include "leasing.h"

#include "jackal/lab/place.h"
#include "jackal/lab/wiring.h"
#include "jackal/limits.h"
#include "lab/mistakes/nics.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>
#include <set>

namespace jackal::lab {

using plan::Cause;

namespace {

const Subnet& subnet_of(const Lab& lab, NicId nic) {
    return lab.subnets[lab.segments[lab.nics[nic].segment].subnet];
}

// How many NICs of the segment ask by DHCP.
std::size_t clients_on(const Lab& lab, const Subnet& subnet) {
    return static_cast<std::size_t>(
        std::ranges::count_if(lab.segments[subnet.segment].nics,
                              [&](NicId nic) { return lab.lease_of(nic) != nullptr; }));
}

// What would let the machine that is to serve a subnet do so; nothing if it can, or if there is
// none.
Remedy revive_server(const Lab& lab, const Subnet& subnet, NicId client) {
    for (NicId id : lab.segments[subnet.segment].nics) {
        const Nic& nic = lab.nics[id];
        const Machine& machine = lab.machines[nic.machine];
        if (machine.kind != plan::MachineKind::router || id == client
            || lab.lease_of(id) != nullptr)
            continue;
        if (!machine.up)
            return {{plan::set_machine_up(lab.plan, machine.name)}, ""};
        if (!nic.up)
            return {{plan::set_nic_up(lab.plan, machine.name, nic.plan_index)}, ""};
        const auto* row = lab.first_address(id, net::Family::ipv4);
        if (row == nullptr)
            return {
                {plan::set_nic_address(lab.plan, machine.name, nic.plan_index, {}, std::nullopt)},
                ""};
        const auto& prefix = lab.segments[subnet.segment].prefix.ipv4;
        if (prefix && !prefix->contains(row->address))
            return {readdress(lab, {row->address, id}), ""};
    }
    return {};
}

// A machine with an address of its own on the subnet, that could serve or relay.
MachineId router_on(const Lab& lab, const Subnet& subnet, NicId client) {
    for (NicId id : lab.segments[subnet.segment].nics) {
        const Nic& nic = lab.nics[id];
        if (id != client && lab.machines[nic.machine].forwards.ipv4 && lab.lease_of(id) == nullptr
            && lab.first_address(id, net::Family::ipv4) != nullptr)
            return nic.machine;
    }
    return {};
}

// What would let a NIC find a server on its own subnet.
Remedy find_server(const Lab& lab, NicId nic) {
    const Subnet& subnet = subnet_of(lab, nic);
    constexpr std::size_t usual = 16;
    for (const DhcpOffer& offer : lab.offers)
        if (&lab.subnets[offer.subnet] == &subnet)
            return describe(lab, why_apart(lab, WiringState(lab), offer.heard_by, nic)).remedy;
    MachineId router = router_on(lab, subnet, nic);
    if (subnet.dhcp)
        if (Remedy remedy = revive_server(lab, subnet, nic); !remedy.edits.empty())
            return remedy;
    if (router && !subnet.dhcp) {
        Remedy remedy{
            {plan::set_dhcp_size(lab.plan, subnet.name, std::max(usual, clients_on(lab, subnet)))},
            ""};
        Wiring wiring(lab, WiringState(lab)); // switches may keep the two apart, too
        for (NicId own : lab.nics_of(router))
            if (lab.nics[own].segment == lab.nics[nic].segment
                && wiring.domain(lab, own) != wiring.domain(lab, nic))
                for (plan::Edit& edit :
                     describe(lab, why_apart(lab, WiringState(lab), own, nic)).remedy.edits)
                    remedy.edits.push_back(std::move(edit));
        return remedy;
    }
    if (router)
        return {{plan::set_dhcp_relay(lab.plan, subnet.name, lab.machines[router].name)}, ""};
    return {{},
            fmt::format("put a router with an address of its own on {}, or write addresses",
                        subnet.name)};
}

Finding no_server(const Lab& lab, const Lease& lease) {
    const Nic& nic = lab.nics[lease.nic];
    std::string name = lab.nic_name(lease.nic);
    Finding finding{Cause::no_dhcp_server, Severity::error, name, "", {}, nic.at};
    finding.message = fmt::format("{} asks for an address by DHCP, and no server hears it; it has "
                                  "only {} (link-local)",
                                  name, net::to_string(lease.address));
    if (!nic.up)
        finding.remedy = {
            {plan::set_nic_up(lab.plan, lab.machines[nic.machine].name, nic.plan_index)}, ""};
    else
        finding.remedy = find_server(lab, lease.nic);
    return finding;
}

Finding range_dry(const Lab& lab, const Lease& lease) {
    const Subnet& subnet = lab.subnets[lease.subnet];
    auto refused =
        static_cast<std::uint64_t>(std::ranges::count_if(lab.leases, [&](const Lease& l) {
            return l.refusal == Lease::Refusal::range_dry && l.subnet == lease.subnet;
        }));
    std::uint64_t size = subnet.dhcp->size();
    return {Cause::dhcp_range_dry,
            Severity::error,
            subnet.name,
            fmt::format("{} got no address, as all {} that {} gives out by DHCP are taken ({} ask "
                        "for more)",
                        lab.nic_name(lease.nic), size, subnet.name, refused),
            {{plan::set_dhcp_size(lab.plan, subnet.name, size + refused)}, ""},
            subnet.at};
}

class LeaseInspector {
  public:
    LeaseInspector(const Lab& lab, std::vector<Finding>& into)
        : lab_(lab), wiring_(lab, WiringState(lab)), into_(into) {}

    void run() {
        std::set<SubnetId> dry;
        for (const Lease& lease : lab_.leases) {
            if (!lab_.machines[lab_.nics[lease.nic].machine].up)
                continue;
            if (lease.refusal == Lease::Refusal::no_server
                || (lease.refusal == Lease::Refusal::range_dry && dry.insert(lease.subnet).second))
                if (described_++ < most_described)
                    into_.push_back(describe(lab_, lease));
            if (lease.giver)
                order(lease);
        }
        std::map<std::uint32_t, const DhcpOffer*> first;
        for (const DhcpOffer& offer : lab_.offers) {
            auto [known, is_new] = first.emplace(wiring_.domain(lab_, offer.heard_by), &offer);
            if (!is_new && known->second->giver != offer.giver)
                two_servers(*known->second, offer);
        }
        for (const Subnet& subnet : lab_.subnets)
            if (subnet.static_only)
                quiet(subnet, first);
    }

  private:
    // What keeps two NICs apart whose subnets are not meant to be one segment.
    Remedy separate(NicId one, NicId other) const {
        for (PortId port : wiring_.way(one, other))
            if (lab_.ports[port].segment)
                return {{plan::set_port_up(lab_.plan, lab_.port_name(port), false)}, ""};
        return {{}, "keep the two segments apart"};
    }

    void two_servers(const DhcpOffer& one, const DhcpOffer& other) {
        const Subnet& subnet = lab_.subnets[other.subnet];
        std::string message =
            fmt::format("{} gives out addresses of {} and {} those of {}, and both are heard on {}",
                        lab_.machines[one.giver].name, lab_.subnets[one.subnet].name,
                        lab_.machines[other.giver].name, subnet.name,
                        lab_.segment_name(lab_.nics[other.heard_by].segment));
        Remedy remedy = separate(one.heard_by, other.heard_by);
        if (one.subnet == other.subnet) {
            message = fmt::format("{} has two DHCP servers, {} and {}", subnet.name,
                                  lab_.machines[one.giver].name, lab_.machines[other.giver].name);
            remedy = {{plan::remove_dhcp(lab_.plan, subnet.name)}, ""};
        }
        into_.push_back({Cause::two_dhcp_servers, Severity::error, subnet.name, std::move(message),
                         std::move(remedy), subnet.at});
    }

    void quiet(const Subnet& subnet, const std::map<std::uint32_t, const DhcpOffer*>& offers) {
        for (NicId nic : lab_.segments[subnet.segment].nics) {
            auto heard = offers.find(wiring_.domain(lab_, nic));
            if (heard == offers.end())
                continue;
            const DhcpOffer& offer = *heard->second;
            into_.push_back({Cause::dhcp_on_static_segment, Severity::error, subnet.name,
                             fmt::format("{} is to have no DHCP server, but {} is heard there, "
                                         "which gives out addresses of {}",
                                         subnet.name, lab_.machines[offer.giver].name,
                                         lab_.subnets[offer.subnet].name),
                             separate(nic, offer.heard_by), subnet.at});
            return;
        }
    }

    // Whether `machine` starts only after `other` does.
    bool waits_for(MachineId machine, MachineId other) const {
        std::set<MachineId> seen{machine};
        std::vector<MachineId> queue{machine};
        while (!queue.empty()) {
            MachineId at = queue.back();
            queue.pop_back();
            if (at == other)
                return true;
            for (auto [later, earlier] : lab_.starts_after)
                if (later == at && seen.insert(earlier).second)
                    queue.push_back(earlier);
        }
        return false;
    }

    void order(const Lease& lease) {
        MachineId client = lab_.nics[lease.nic].machine;
        for (auto [later, earlier] : lab_.starts_after)
            if (later == lease.giver && waits_for(earlier, client)) {
                const std::string& giver = lab_.machines[lease.giver].name;
                into_.push_back(
                    {Cause::started_too_early,
                     Severity::error,
                     lab_.nic_name(lease.nic),
                     fmt::format("{} takes its address from {}, which starts only after "
                                 "{}",
                                 lab_.nic_name(lease.nic), giver, lab_.machines[earlier].name),
                     {{plan::remove_starts_after(lab_.plan, giver, lab_.machines[earlier].name)},
                      ""},
                     lab_.machines[lease.giver].at});
                return;
            }
    }

    // Remedies are searched for; who has more of them mends these first.
    static constexpr int most_described = limits::worked_out_remedies;

    const Lab& lab_;
    Wiring wiring_;
    int described_ = 0;
    std::vector<Finding>& into_;
};

} // namespace

Finding describe(const Lab& lab, const Lease& lease) {
    MachineId machine = lab.nics[lease.nic].machine;
    if (!lab.machines[machine].up)
        return describe(lab, MachineOff{machine});
    return lease.refusal == Lease::Refusal::range_dry ? range_dry(lab, lease)
                                                      : no_server(lab, lease);
}

void add_lease_findings(const Lab& lab, std::vector<Finding>& into) {
    if (!lab.leases.empty() || !lab.offers.empty())
        LeaseInspector(lab, into).run();
}

} // namespace jackal::lab
