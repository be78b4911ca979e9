// Who asks and answers for a subnet.
#pragma once

#include "jackal/probe/endpoint.h"
#include "jackal/routing/settled.h"

namespace jackal::reach {

/// The machine that speaks for a subnet: its first guest that is up and has an address, else its
/// first other machine.
std::optional<lab::NicId> speaker(const routing::Settled& settled, const lab::Subnet& subnet);

inline bool is_guest(const lab::Lab& lab, lab::NicId nic) {
    return lab.machines[lab.nics[nic].machine].kind == plan::MachineKind::guest;
}

/// How many addresses of the family the NIC has.
inline std::size_t count_addresses(const lab::Lab& lab, lab::NicId nic, net::Family family) {
    std::size_t count = 0;
    for (lab::AddressId id : lab.addresses_of(nic))
        count += lab.addresses[id].address.family() == family ? 1 : 0;
    return count;
}

/// The NIC as an end of a question.
inline probe::Endpoint end_at(const lab::Lab& lab, lab::NicId nic) {
    return {
        .name = lab.machine_name(nic), .machine = lab.nics[nic].machine, .nic = nic, .address = {}};
}

/// A machine by its name: who asks so does it as it would by itself, from the address that its
/// route chooses.
inline probe::Endpoint end_at(const lab::Lab& lab, lab::MachineId machine) {
    return {.name = lab.machines[machine].name, .machine = machine, .nic = {}, .address = {}};
}

} // namespace jackal::reach
