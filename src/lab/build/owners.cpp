#include "lab/build/building.h"

#include <algorithm>

namespace jackal::lab {

namespace {

bool is_anycast(const InterfaceAddress& row) {
    constexpr int longest = 126; // RFC 6164 section 6: not on links of two
    return row.address.family() == net::Family::ipv6 && row.length <= longest
           && row.prefix().is_network_address(row.address);
}

void add_anycast_owners(Building& b) {
    std::vector<net::Address> anycast; // whatever may be asked for, or sent by way of
    for (const InterfaceAddress& row : b.lab.addresses) // also /127 and /128, inside others
        if (row.address.family() == net::Family::ipv6 && row.prefix().first() == row.address)
            anycast.push_back(row.address);
    for (const plan::Machine& machine : b.plan.machines) {
        for (const plan::Route& route : machine.routes)
            if (const auto* via = std::get_if<net::Address>(&route.via.value);
                via != nullptr && via->family() == net::Family::ipv6)
                anycast.push_back(*via);
        if (machine.gateway)
            for (const auto& given : machine.gateway->given)
                if (given.value.family() == net::Family::ipv6)
                    anycast.push_back(given.value);
    }
    if (anycast.empty())
        return;
    std::ranges::sort(anycast);
    for (const InterfaceAddress& row : b.lab.addresses) {
        MachineId machine = b.lab.nics[row.nic].machine;
        InterfaceAddress first = row;
        first.address = row.prefix().first();
        if (b.lab.machines[machine].forwards.ipv6 && first.address != row.address
            && is_anycast(first) && std::ranges::binary_search(anycast, first.address))
            b.lab.owners.push_back({first.address, row.nic, machine});
    }
}

} // namespace

void index_owners(Building& b) {
    b.lab.owners.reserve(b.lab.addresses.size());
    for (const InterfaceAddress& row : b.lab.addresses)
        b.lab.owners.push_back({row.address, row.nic, b.lab.nics[row.nic].machine});
    add_anycast_owners(b);
    std::ranges::sort(b.lab.owners);
}

} // namespace jackal::lab
