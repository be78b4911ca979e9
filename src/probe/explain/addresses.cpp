#include "probe/explain/causes.h"

#include "lab/mistakes/addresses.h"
#include "lab/mistakes/macs.h"

namespace jackal::probe {

using lab::NicId;
using packet::Ending;
using plan::Cause;

// An address that does not fit the segment of its NIC, as the cause of whatever followed.
Maybe misaddressed(const Case& c, NicId nic, net::Address address) {
    using Kind = lab::MisplacedAddress::Kind;
    if (c.lab.segments[c.lab.nics[nic].segment].link)
        return {};
    for (lab::AddressId id : c.lab.addresses_of(nic))
        if (c.lab.addresses[id].address == address)
            if (auto mistake = misplaced(c.lab, id);
                mistake && (mistake->kind == Kind::outside || mistake->kind == Kind::other_length))
                return c.say(describe(c.lab, *mistake), c.lab.nics[nic].machine);
    return {};
}

Maybe misaddressed_target(const Case& c) {
    if (!c.leg.target)
        return {};
    auto found = misaddressed(c, c.leg.target, c.far);
    return found && found->cause == Cause::address_outside_subnet ? found : std::nullopt;
}

Maybe misaddressed_here(const Case& c) {
    for (NicId nic : c.lab.nics_of(c.here))
        if (const auto* row = c.lab.first_address(nic, c.family))
            if (auto found = misaddressed(c, nic, row->address))
                return found;
    return {};
}

// Of the NICs that get the frame, one whose MAC the plan writes.
Diagnosis duplicate_mac(const Case& c) {
    lab::DuplicateMac mistake{{}, {}};
    for (NicId nic : c.journey.answering)
        if (c.lab.nics[nic].mac == c.lab.nics[c.journey.answering.front()].mac)
            mistake.nics.push_back(nic);
    mistake.changed = mistake.nics.back();
    return c.say(describe(c.lab, mistake, lab::Seen::by_packet),
                 c.lab.nics[mistake.changed].machine);
}

// The address in question, and the one of its owners whose address can be changed: not the
// machine that was meant, if another one can.
Diagnosis duplicate_address(const Case& c) {
    net::Address address =
        c.journey.ending == Ending::own_source ? c.journey.flow.source
        : c.journey.ending == Ending::which_neighbour || c.journey.ending == Ending::shared_source
            ? c.journey.next_hop
            : c.far;
    auto owners = c.lab.owners_of(address);
    lab::DuplicateAddress mistake{address, owners.front().nic, {}};
    for (const lab::Owner& owner : owners) {
        mistake.owners.push_back(owner.nic);
        auto can_change = [&](NicId nic) {
            return !another_address(c.lab, nic, address).edits.empty();
        };
        if (can_change(owner.nic)
            && (!can_change(mistake.changed) || mistake.changed == c.leg.target))
            mistake.changed = owner.nic;
    }
    return c.say(describe(c.lab, mistake, lab::Seen::by_packet),
                 c.lab.nics[mistake.changed].machine);
}

Diagnosis to_broadcast(const Case& c) {
    // An answer to the address of a translator, which all of the segment had to take for
    // theirs.
    if (c.journey.next_hop != net::Address{}) {
        NicId nic = c.journey.steps.back().in;
        return c.say(describe(c.lab, lab::BroadcastAddress{nic, c.journey.next_hop,
                                                           c.lab.nics[nic].segment}),
                     c.here);
    }
    NicId target = c.leg.target;
    Diagnosis d = c.say(
        describe(c.lab, lab::BroadcastAddress{target, c.far,
                                              c.lab.nics[c.journey.steps.back().out].segment}),
        target ? c.lab.nics[target].machine : c.here);
    if (!target)
        d.at = c.mark(c.here);
    return d;
}

} // namespace jackal::probe
