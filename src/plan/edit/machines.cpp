// Edits of machines, their NICs, routes and duties.
#include "plan/edit/layout.h"
#include "plan/edit/making.h"
#include "plan/fields/codecs.h"

#include <fmt/ranges.h>

namespace jackal::plan {

namespace {

// An address as a NIC's entry has it; empty if it does not.
std::string written_at(const Nic& nic, net::Address address) {
    for (const auto& given : nic.address.given)
        if (given.value.address == address)
            return given.value.length
                       ? fmt::format("{}/{}", net::to_string(address), *given.value.length)
                       : net::to_string(address);
    return "";
}

// Where the routes of a machine stand, which for a core are those of its site.
struct Routes {
    std::span<const Route> written;
    Place place;
    Mark at; // of their owner
};

Routes routes_of(const Written& plan, const std::string& name) {
    if (const Site* site = plan.site_of_core(name))
        return {site->routes, Place{}.key("sites").name(site->name).key("routes"), site->at};
    const Machine& machine = machine_of(plan, name);
    return {plan.routes(machine), place_of(machine).key("routes"), machine.at};
}

const Translation& translation_of(const Machine& machine, std::size_t position) {
    if (!machine.duties)
        throw Missing{fmt::format("{} translates nothing", machine.name)};
    return item_of(machine.duties->translations, "translation", position);
}

} // namespace

Edit set_nic_address(const Written& plan, const std::string& machine, std::size_t nic,
                     net::Address from, std::optional<net::Address> to) {
    const Move move = !to           ? Move::set_nic_automatic
                      : *to == from ? Move::set_nic_length
                                    : Move::set_nic_address;
    return made(move, [&] {
        const NicEntry entry = nic_of(plan, machine, nic);
        const NicAddress& address = entry.nic.address;
        const Mark at = address.at ? address.at : entry.nic.at;
        Place place = entry.place.key("address");
        if (!to)
            return Changes{set(std::move(place), "auto", at)};
        std::string before = written_at(entry.nic, from);
        if (before.empty() && !address.given.empty())
            return Changes{add(std::move(place), net::to_string(*to), at)};
        place = place_in(std::move(place), address.given,
                         [&](const auto& given) { return given.value.address == from; });
        return Changes{set(std::move(place), net::to_string(*to), at, std::move(before))};
    });
}

Edit set_nic_subnet(const Written& plan, const std::string& machine, std::size_t nic,
                    const std::string& subnet) {
    return made(Move::set_nic_subnet, [&] {
        const NicEntry entry = nic_of(plan, machine, nic);
        subnet_of(plan, subnet);
        const auto& now = entry.nic.subnet;
        return Changes{set(entry.place.key("subnet"), subnet, now.at, now.value)};
    });
}

Edit set_nic_up(const Written& plan, const std::string& machine, std::size_t nic) {
    return made(Move::set_nic_up, [&] {
        const NicEntry entry = nic_of(plan, machine, nic);
        return Reversal{{set(entry.place.key("state"), "up", entry.nic.at)},
                        down(entry.nic.up, entry.nic.at)};
    });
}

Edit remove_nic_mac(const Written& plan, const std::string& machine, std::size_t nic) {
    return made(Move::remove_nic_mac, [&] {
        const NicEntry entry = nic_of(plan, machine, nic);
        return Changes{removal(entry.place.key("mac"), entry.nic.at)};
    });
}

Edit set_nic_mtu(const Written& plan, const std::string& machine, std::size_t nic,
                 std::uint16_t bytes) {
    return made(Move::set_nic_mtu, [&] {
        const NicEntry entry = nic_of(plan, machine, nic);
        return Changes{set(entry.place.key("mtu"), fmt::format("{}", bytes), entry.nic.at)};
    });
}

Edit add_nic(const Written& plan, const std::string& machine, const std::string& subnet) {
    return made(Move::add_nic, [&] {
        const Machine& entry = machine_of(plan, machine);
        subnet_of(plan, subnet);
        return Changes{
            add(place_of(entry).key("nics"), fmt::format("{{subnet: {}}}", subnet), entry.at)};
    });
}

Edit set_bond_member_up(const Written& plan, const std::string& machine, std::size_t nic,
                        std::size_t member) {
    return made(Move::set_bond_member_up, [&] {
        const NicEntry entry = nic_of(plan, machine, nic);
        if (!entry.nic.options)
            throw Missing{fmt::format("NIC {} of {} is no bond", nic, machine)};
        const BondMember& wire = item_of(entry.nic.options->bond, "wire", member);
        return Changes{set(entry.place.key("bond").index(member).key("state"), "up", wire.at)};
    });
}

Edit add_router(const Written& plan, const std::string& name,
                const std::vector<std::string>& subnets) {
    return made(Move::add_router, [&] {
        std::vector<std::string> nics;
        for (const std::string& subnet : subnets) {
            subnet_of(plan, subnet);
            nics.push_back(fmt::format("{{subnet: {}}}", subnet));
        }
        return Changes{add(Place{}.key("routers").name(name),
                           fmt::format("{{nics: [{}]}}", fmt::join(nics, ", ")), {})};
    });
}

Edit set_machine_up(const Written& plan, const std::string& machine) {
    return made(Move::set_machine_up, [&] {
        const Machine& entry = machine_of(plan, machine);
        return Reversal{{set(place_of(entry).key("state"), "up", entry.at)},
                        down(entry.up, entry.at)};
    });
}

Edit set_forwards(const Written& plan, const std::string& machine, bool to) {
    const Machine* known = plan.machine(machine);
    const bool is_guest = known != nullptr && known->kind == MachineKind::guest;
    return made(to && is_guest ? Move::let_guest_forward : Move::set_forwards, [&] {
        const Machine& entry = machine_of(plan, machine);
        Reversal reversal{{set(place_of(entry).key("forwards"), to ? "true" : "false", entry.at)},
                          {}};
        if (entry.forwards && *entry.forwards != to)
            reversal.against = Decision{fmt::format("forwards: {}", !to), entry.at};
        return reversal;
    });
}

Edit set_machine_gateway(const Written& plan, const std::string& machine,
                         std::optional<net::Address> to) {
    return made(to ? Move::set_machine_gateway : Move::set_gateway_automatic, [&] {
        const Machine& entry = machine_of(plan, machine);
        static const MachineGateway unsaid;
        const MachineGateway& now = entry.gateway ? *entry.gateway : unsaid;
        const Mark at = now.at ? now.at : entry.at;
        const Place place = place_of(entry).key("gateway");
        Reversal reversal{{to ? set_of_family(place, now.given, *to, at) : set(place, "auto", at)},
                          {}};
        if (now.kind == MachineGateway::Kind::none)
            reversal.against = Decision{"gateway: none", entry.at};
        return reversal;
    });
}

Edit add_route(const Written& plan, const std::string& machine, const Route::Target& to,
               const Route::NextHop& via, const std::string& nic) {
    return made(Move::add_route, [&] {
        Routes routes = routes_of(plan, machine);
        return Changes{
            add(std::move(routes.place),
                fmt::format("{{to: {}, via: {}{}}}", written_value(to_string(to)),
                            written_value(to_string(via)), nic.empty() ? "" : ", nic: " + nic),
                routes.at)};
    });
}

Edit set_route_via(const Written& plan, const std::string& machine, std::size_t route,
                   const Route::NextHop& via) {
    return made(Move::set_route_via, [&] {
        const Routes routes = routes_of(plan, machine);
        const Route& now = item_of(routes.written, "route", route);
        const Place place = routes.place.index(route);
        Changes changes{
            set(place.key("via"), to_string(via), now.via.at, to_string(now.via.value))};
        if (now.nic)
            changes.push_back(removal(place.key("nic"), now.nic->at));
        return changes;
    });
}

Edit remove_route(const Written& plan, const std::string& machine, std::size_t route) {
    return made(Move::remove_route, [&] {
        const Routes routes = routes_of(plan, machine);
        return Changes{
            removal(routes.place.index(route), item_of(routes.written, "route", route).at)};
    });
}

Edit add_translation(const Written& plan, const std::string& machine, const std::string& nic) {
    return made(Move::add_translation, [&] {
        const Machine& entry = machine_of(plan, machine);
        return Changes{add(place_of(entry).key("nat"), fmt::format("{{out: {}}}", nic), entry.at)};
    });
}

Edit remove_translation(const Written& plan, const std::string& machine, std::size_t position) {
    return made(Move::remove_translation, [&] {
        const Machine& entry = machine_of(plan, machine);
        return Changes{removal(place_of(entry).key("nat").index(position),
                               translation_of(entry, position).at)};
    });
}

Edit set_translation_nic(const Written& plan, const std::string& machine, std::size_t position,
                         const std::string& nic) {
    return made(Move::set_translation_nic, [&] {
        const Machine& entry = machine_of(plan, machine);
        const Translation& rule = translation_of(entry, position);
        const char* key = rule.kind == Translation::Kind::source ? "out" : "in";
        return Changes{
            set(place_of(entry).key("nat").index(position).key(key), nic, rule.at, rule.nic.value)};
    });
}

Edit add_service(const Written& plan, const std::string& machine, net::Service service) {
    return made(Move::add_service, [&] {
        const Machine& entry = machine_of(plan, machine);
        return Changes{add(place_of(entry).key("listens"), net::to_string(service), entry.at)};
    });
}

Edit add_name_server(const Written& plan, const std::string& machine, const Host& server) {
    return made(Move::add_name_server, [&] {
        const Machine& entry = machine_of(plan, machine);
        return Changes{add(place_of(entry).key("dns"), to_string(server), entry.at)};
    });
}

Edit remove_starts_after(const Written& plan, const std::string& machine,
                         const std::string& other) {
    return made(Move::remove_starts_after, [&] {
        const Machine& entry = machine_of(plan, machine);
        return Changes{removal(place_of(entry).key("starts-after"), entry.at, other)};
    });
}

Edit set_size(const Written& plan, const std::string& machine, SizeKey key, std::uint32_t to) {
    return made(Move::set_size, [&] {
        const Machine& entry = machine_of(plan, machine);
        const Sizes& now = entry.sizes;
        const Place place = place_of(entry);
        if (key == SizeKey::cpus)
            return Changes{set(place.key("cpus"), fmt::format("{}", to), entry.at,
                               fmt::format("{}", now.cpus))};
        const bool is_memory = key == SizeKey::memory;
        return Changes{set(place.key(is_memory ? "memory" : "disk"), size_text(to), entry.at,
                           size_text(is_memory ? now.memory_mib : now.disk_mib))};
    });
}

} // namespace jackal::plan
