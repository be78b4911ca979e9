#include "lab/mistakes/next_hops.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::lab {

namespace {

// True if an earlier rule takes all that a later one of the same kind would.
bool covers(const Translation& earlier, const Translation& later) {
    if (earlier.kind != later.kind || earlier.nic != later.nic)
        return false;
    if (later.kind == plan::Translation::Kind::destination)
        return earlier.to
               && (earlier.protocol == net::Protocol::any || earlier.protocol == later.protocol)
               && (earlier.port == 0 || earlier.port == later.port);
    auto is_covered = [&](const net::Prefix& from) {
        return std::ranges::any_of(earlier.from,
                                   [&](const net::Prefix& other) { return other.contains(from); });
    };
    return earlier.any_source || (!later.any_source && std::ranges::all_of(later.from, is_covered));
}

// The NIC that a machine's IPv4 default route leaves by, as its tables are written.
NicId default_nic(const Lab& lab, MachineId machine) {
    for (RouteId route : lab.routes_of(machine))
        if (lab.routes[route].to == net::Prefix::everything(net::Family::ipv4))
            if (NicId nic = on_link(lab, machine, lab.routes[route].via).nic)
                return nic;
    return {};
}

// True if whoever the rule is for is on the segment of the rule's own NIC: what they send comes in
// there and leaves elsewhere.
bool is_on_wrong_side(const Lab& lab, const Translation& rule) {
    return !rule.any_source && std::ranges::all_of(rule.from, [&](const net::Prefix& from) {
        return std::ranges::any_of(lab.addresses_of(rule.nic), [&](AddressId id) {
            return lab.addresses[id].prefix().contains(from);
        });
    });
}

void look_at(Inspection& in, MachineId machine, const std::vector<Translation>& rules,
             std::size_t position) {
    const Translation& rule = rules[position];
    const std::string& name = in.lab.machines[machine].name;
    std::string nic = in.lab.nic_name(rule.nic);
    Remedy remedy{{plan::remove_translation(in.lab.plan, name, position)}, ""};
    auto report = [&](std::string message) {
        in.find(plan::Cause::translation_matches_nothing, Severity::warning, name,
                std::move(message), std::move(remedy), rule.at);
    };
    if (std::any_of(rules.begin(), rules.begin() + static_cast<std::ptrdiff_t>(position),
                    [&](const Translation& earlier) { return covers(earlier, rule); }))
        return report(fmt::format("translation {} of {} never decides anything: one before it "
                                  "takes all that it would",
                                  position + 1, name));
    if (in.lab.first_address(rule.nic, net::Family::ipv4) == nullptr)
        return report(fmt::format("translation {} of {} matches nothing: {} has no IPv4 address",
                                  position + 1, name, nic));
    if (rule.kind == plan::Translation::Kind::destination)
        return;
    if (!meets_somebody(in.lab, rule.any_source, rule.from))
        return report(fmt::format("translation {} of {} matches nothing: nobody has an address in "
                                  "`from`",
                                  position + 1, name));
    if (!is_on_wrong_side(in.lab, rule))
        return;
    if (NicId right = default_nic(in.lab, machine); right && right != rule.nic)
        remedy.edits.emplace_back(
            plan::add_translation(in.lab.plan, name, in.lab.nics[right].name));
    report(fmt::format("translation {} of {} stands on the wrong side: `from` is behind {} itself, "
                       "and what comes from there leaves by another NIC",
                       position + 1, name, nic));
}

} // namespace

void translations(Inspection& in) {
    for (MachineId id : in.lab.machines.ids()) {
        const Machine& machine = in.lab.machines[id];
        const Duties* duties = in.lab.duties_of(id);
        if (duties == nullptr || machine.outside || machine.is_core)
            continue;
        std::size_t looked_at =
            std::min(duties->translations.size(), limits::compared_translations);
        for (std::size_t i = 0; i < looked_at; ++i)
            look_at(in, id, duties->translations, i);
    }
}

} // namespace jackal::lab
