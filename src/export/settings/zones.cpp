// Zone files (RFC 1035 section 5; AAAA: RFC 3596), and who logs in where.
#include "export/settings/settings.h"

#include <fmt/format.h>

namespace jackal::exports {

using lab::Lab;
using lab::MachineId;

namespace {

constexpr std::uint32_t time_to_live_s = 3600;

// The machine that most ask for names, else the first that has an address.
std::optional<MachineId> name_server(const Lab& lab) {
    std::map<MachineId, std::size_t> asked;
    for (MachineId id : lab.machines.ids())
        if (const lab::Duties* duties = lab.duties_of(id))
            for (const net::Address& server : duties->dns)
                for (const lab::Owner& owner : lab.owners_of(server))
                    if (!lab.machines[owner.machine].outside)
                        ++asked[owner.machine];
    std::optional<MachineId> best;
    for (const auto& [machine, count] : asked)
        if (!best || count > asked[*best])
            best = machine;
    for (MachineId id : lab.machines.ids())
        if (!best && !lab.machines[id].outside && known_address(lab, id))
            best = id;
    return best;
}

std::string start_of_zone(const Lab& lab, const std::string& name, MachineId server) {
    const std::string domain = domain_of(lab);
    return fmt::format("; the lab {} ({})\n$ORIGIN {}.\n$TTL {}\n@ IN SOA {}.{}. hostmaster.{}. 1 "
                       "7200 3600 1209600 {}\n@ IN NS {}.{}.\n",
                       lab.name, place_of(lab, {}), name, time_to_live_s, lab.machines[server].name,
                       domain, domain, time_to_live_s, lab.machines[server].name, domain);
}

// The labels of an address in reverse, bytes or nibbles (RFC 1035 section 3.5, RFC 3596 section
// 2.5): `own` of them for the name, the others for the zone.
struct Reverse {
    std::string name;
    std::string zone;
};
Reverse reversed(net::Address address) {
    Reverse found;
    if (address.family() == net::Family::ipv4) {
        const auto bits = static_cast<std::uint32_t>(address.low());
        return {fmt::format("{}", bits & 255), fmt::format("{}.{}.{}.in-addr.arpa", bits >> 8 & 255,
                                                           bits >> 16 & 255, bits >> 24)};
    }
    for (unsigned i = 0; i < 32; ++i) {
        const std::uint64_t half = i < 16 ? address.low() : address.high();
        std::string& part = i < 16 ? found.name : found.zone;
        part += fmt::format("{}{:x}", part.empty() ? "" : ".", half >> (i % 16 * 4) & 15);
    }
    found.zone += ".ip6.arpa";
    return found;
}

} // namespace

std::map<std::string, std::string> zones(const Lab& lab) {
    const auto server = name_server(lab);
    if (!server)
        return {};
    const std::string domain = domain_of(lab);
    std::map<std::string, std::string> texts;
    texts[domain] = start_of_zone(lab, domain, *server);
    for (MachineId id : lab.machines.ids()) {
        const lab::Machine& machine = lab.machines[id];
        if (machine.outside)
            continue;
        for (lab::NicId nic : lab.nics_of(id))
            for (lab::AddressId row : lab.addresses_of(nic)) {
                if (!is_known(lab, lab.addresses[row]))
                    continue;
                const net::Address address = lab.addresses[row].address;
                const bool is_ipv4 = address.family() == net::Family::ipv4;
                for (const std::string& name :
                     {machine.name, lab.nics[nic].name + "." + machine.name})
                    texts[domain] += fmt::format("{} IN {} {}\n", name, is_ipv4 ? "A" : "AAAA",
                                                 net::to_string(address));
                const Reverse reverse = reversed(address);
                std::string& zone = texts[reverse.zone];
                if (zone.empty())
                    zone = start_of_zone(lab, reverse.zone, *server);
                zone += fmt::format("{} IN PTR {}.{}.{}.\n", reverse.name, lab.nics[nic].name,
                                    machine.name, domain);
            }
    }
    return texts;
}

// ssh_config(5).
std::string ssh_settings(const Lab& lab) {
    std::string text = fmt::format("# The machines of the lab {} ({}): ssh -F ssh_config MACHINE\n",
                                   lab.name, place_of(lab, {}));
    for (MachineId id : lab.machines.ids()) {
        const auto address = known_address(lab, id);
        if (lab.machines[id].outside || !address)
            continue;
        text += fmt::format("\nHost {}\n    HostName {}\n    HostKeyAlias {}.{}\n",
                            lab.machines[id].name, net::to_string(*address), lab.machines[id].name,
                            domain_of(lab));
        if (const plan::Login& login = lab.login_of(id); !login.user.value.empty())
            text += fmt::format("    User {}\n", login.user.value);
    }
    return text;
}

} // namespace jackal::exports
