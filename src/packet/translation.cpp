#include "packet/translation.h"

#include <algorithm>

namespace jackal::packet {

void set_destination(const routing::Settled& settled, Header& header, net::Address address,
                     std::uint16_t port) {
    if (!header.is_error)
        header.destination_port = port;
    if (address != header.destination.address)
        header.destination = settled.aim(address);
}

void set_source(const routing::Settled& settled, Header& header, net::Address address,
                std::uint16_t port) {
    if (!header.is_error)
        header.source_port = port;
    if (address != header.source.address)
        header.source = {.address = address, .owners = settled.lab().owners_of(address)};
}

void answer_as(const routing::Settled& settled, Header& header, const Memory::Passage& passage) {
    if (!header.is_error || passage.left.destination != passage.came.destination)
        set_source(settled, header, passage.came.destination, passage.came.destination_port);
    if (header.is_error)
        header.told = passage.came;
}

namespace {

bool has_address(const lab::Lab& lab, lab::NicId nic, net::Address address) {
    return std::ranges::any_of(lab.addresses_of(nic), [&](lab::AddressId id) {
        return lab.addresses[id].address == address;
    });
}

} // namespace

void redirect(const routing::Settled& settled, lab::MachineId machine, Header& header) {
    const lab::Lab& lab = settled.lab();
    const lab::Duties* duties = lab.duties_of(machine);
    net::Address destination = header.destination.address;
    if (duties == nullptr || destination.family() == net::Family::ipv6)
        return;
    for (const lab::Translation& rule : duties->translations) {
        if (rule.kind != plan::Translation::Kind::destination || rule.nic != header.in || !rule.to
            || (rule.protocol != net::Protocol::any && rule.protocol != header.protocol)
            || (rule.port != 0 && rule.port != header.destination_port)
            || !has_address(lab, header.in, destination))
            continue;
        return set_destination(settled, header, *rule.to,
                               rule.to_port != 0 ? rule.to_port : header.destination_port);
    }
}

void masquerade(const routing::Settled& settled, lab::MachineId machine, const routing::Hop& hop,
                Header& header) {
    const lab::Lab& lab = settled.lab();
    const lab::Duties* duties = lab.duties_of(machine);
    net::Address source = header.source.address;
    if (duties == nullptr || source.family() == net::Family::ipv6)
        return;
    for (const lab::Translation& rule : duties->translations)
        if (rule.kind == plan::Translation::Kind::source && rule.nic == hop.out
            && (rule.any_source || std::ranges::any_of(rule.from, [&](const auto& from) {
                    return from.contains(source);
                })))
            return set_source(settled, header, lab.addresses[hop.source].address,
                              header.source_port);
}

} // namespace jackal::packet
