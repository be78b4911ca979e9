#include "lab/mistakes/forwarding.h"

#include "lab/mistakes/next_hops.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>
#include <set>

namespace jackal::lab {

Finding describe(const Lab& lab, const NotForwarding& mistake) {
    const Machine& machine = lab.machines[mistake.machine];
    const std::string what = !machine.forwards_any() ? ""
                             : machine.forwards.ipv4 ? " IPv6"
                                                     : " IPv4";
    std::string message = fmt::format("{} does not forward{}{} is not meant for it", machine.name,
                                      what, what.empty() ? " what" : " that");
    if (mistake.user)
        message = fmt::format("{}{} sends by way of {}, which does not forward{}",
                              lab.machines[mistake.user].name,
                              mistake.more == 0 ? "" : fmt::format(" (and {} more)", mistake.more),
                              machine.name, what);
    // A guest that stands on one segment would send what it gets back to where it came from.
    Remedy remedy{{plan::set_forwards(lab.plan, machine.name, true)}, ""};
    auto segments = std::ranges::count_if(lab.nics_of(mistake.machine),
                                          [&](NicId nic) { return !lab.nics[nic].is_loopback(); });
    if (machine.kind == plan::MachineKind::guest && segments < 2)
        remedy = {{}, fmt::format("name a router as the next hop instead of {}", machine.name)};
    return {plan::Cause::next_hop_does_not_forward,
            Severity::error,
            machine.name,
            std::move(message),
            std::move(remedy),
            machine.at};
}

void machines_that_do_not_forward(Inspection& in) {
    std::map<MachineId, NotForwarding> found;
    for (MachineId id : in.lab.machines.ids()) {
        std::set<std::pair<MachineId, net::Family>> asked;
        for (RouteId route : in.lab.routes_of(id)) {
            SegmentId segment = on_link(in.lab, id, in.lab.routes[route].via).segment;
            for (const Owner& owner : in.lab.owners_of(in.lab.routes[route].via))
                if (segment && in.lab.nics[owner.nic].segment == segment)
                    asked.emplace(in.lab.nics[owner.nic].machine,
                                  in.lab.routes[route].via.family());
        }
        std::set<MachineId> refusing;
        for (const auto& [next, family] : asked)
            if (next != id && !in.lab.machines[next].forwards[family])
                refusing.insert(next);
        for (MachineId next : refusing) {
            auto [known, is_new] = found.try_emplace(next, NotForwarding{next, id});
            if (!is_new)
                ++known->second.more;
        }
    }
    for (const auto& [machine, mistake] : found)
        in.found.push_back(describe(in.lab, mistake));
}

} // namespace jackal::lab
