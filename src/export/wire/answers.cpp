#include "export/wire/answers.h"

#include "export/settings/settings.h"
#include "export/wire/packets.h"
#include "jackal/probe/endpoint.h"

#include <tins/dns.h>

namespace jackal::exports {

namespace {

// The machine of a name, which may bear the lab's domain and a dot behind it.
std::optional<lab::MachineId> machine_of(const lab::Lab& lab, std::string name) {
    if (name.ends_with("."))
        name.pop_back();
    if (const std::string domain = "." + domain_of(lab); name.ends_with(domain))
        name.resize(name.size() - domain.size());
    return lab.machine(name);
}

// What the only question asks for (RFC 1035 section 4.1.2), by its number: libtins has names for
// some, and no place for others.
unsigned type_asked(const Bytes& message) {
    std::size_t at = 12; // behind the header
    while (at < message.size() && message[at] != 0)
        at += 1 + std::size_t{message[at]};
    return at + 2 < message.size() ? unsigned{message[at + 1]} << 8 | message[at + 2] : 0;
}

} // namespace

Bytes name_answer(const lab::Lab& lab, const Bytes& question) {
    constexpr std::uint32_t kept_s = 60;
    constexpr std::uint8_t no_such_name = 3; // RFC 1035 section 4.1.1
    Tins::DNS answer(question.data(), static_cast<std::uint32_t>(question.size()));
    if (answer.type() != Tins::DNS::QUERY || answer.questions_count() != 1)
        return {};
    answer.type(Tins::DNS::RESPONSE);
    answer.recursion_available(1);
    answer.authoritative_answer(1);
    for (const Tins::DNS::query& asked : answer.queries()) {
        const auto machine = machine_of(lab, asked.dname());
        if (!machine) {
            answer.rcode(no_such_name);
            continue;
        }
        const probe::Endpoint end{.name = asked.dname(), .machine = *machine};
        for (net::Family family : net::both_families) {
            const auto type = family == net::Family::ipv4 ? Tins::DNS::A : Tins::DNS::AAAA;
            const auto* row = probe::address_for(lab, {}, end, family);
            if (row != nullptr && type_asked(question) == type)
                answer.add_answer(Tins::DNS::resource(asked.dname(), net::to_string(row->address),
                                                      type, Tins::DNS::INTERNET, kept_s));
        }
    }
    return answer.serialize();
}

void add_lease(Tins::DHCP& dhcp, const lab::Lab& lab, const lab::Lease& lease) {
    dhcp.lease_time(static_cast<std::uint32_t>(lease.time.count()));
    for (lab::AddressId id : lab.addresses_of(lease.nic))
        if (lab.addresses[id].address == lease.address)
            dhcp.subnet_mask(Tins::IPv4Address::from_prefix_length(
                static_cast<std::uint32_t>(lab.addresses[id].length)));
    if (lease.router)
        dhcp.routers({to_ipv4(*lease.router)});
    std::vector<Tins::IPv4Address> servers;
    for (net::Address server : lease.dns)
        if (server.family() == net::Family::ipv4)
            servers.push_back(to_ipv4(server));
    if (!servers.empty())
        dhcp.domain_name_servers(servers);
}

} // namespace jackal::exports
