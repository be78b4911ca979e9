#include "export/renumber/renumberer.h"

#include "jackal/lab/build.h"
#include "jackal/net/place.h"
#include "jackal/plan/rewrite.h"

#include <charconv>

namespace jackal::exports {

using lab::SegmentId;
using lab::SiteId;
using net::Prefix;

namespace {

Whose whose_subnet(const Renumberer& r, std::string_view name) {
    auto id = r.lab.subnet(name);
    return id && r.own_segments.contains(r.lab.subnets[*id].segment) ? Whose::ours : Whose::theirs;
}

// The position in a list that a step of a path is.
std::uint32_t position(std::string_view step) {
    std::uint32_t row = 0;
    std::from_chars(step.data(), step.data() + step.size(), row);
    return row;
}

Whose whose_link(const Renumberer& r, std::uint32_t row) {
    return row < r.lab.links.size()
                   && r.own_segments.contains(r.lab.links[lab::LinkId{row}].segment)
               ? Whose::ours
               : Whose::theirs;
}

// A machine with all its NICs inside is ours, one with none is theirs.
Whose whose_machine(const Renumberer& r, std::string_view entry) {
    auto found = r.entries.find(entry);
    return found == r.entries.end() ? Whose::theirs : found->second.whose;
}

Whose whose_nic(const Renumberer& r, std::string_view entry, std::uint32_t row) {
    auto found = r.entries.find(entry);
    if (found == r.entries.end()) // an entry that others are like
        return Whose::anyones;
    const auto& nics = r.plan->entries().machines[found->second.machine.row].nics;
    return row < nics.size() ? whose_subnet(r, nics[row].subnet.value) : Whose::anyones;
}

Whose whose_pinned_link(const Renumberer& r, std::string_view name) {
    auto found = r.link_rows.find(name);
    return found == r.link_rows.end() ? Whose::theirs : whose_link(r, found->second);
}

} // namespace

bool others_overlap(const Renumberer& r) {
    for (SegmentId id : r.lab.segments.ids())
        if (const auto& prefix = r.lab.segments[id].prefix[r.to.family()];
            prefix && !r.own_segments.contains(id) && touches_old(r, *prefix))
            return true;
    for (SiteId id : r.lab.sites.ids())
        if (r.own_site && id != r.own_site && !r.lab.sites[id].space_chosen)
            for (const Prefix& space : r.lab.sites[id].space)
                if (touches_old(r, space))
                    return true;
    return false;
}

Whose whose(const Renumberer& r, const std::vector<std::string_view>& path) {
    std::string_view section = path[0];
    if (path.size() < 2)
        return Whose::anyones;
    if (section == "sites")
        return r.own_site && r.lab.site(path[1]) == r.own_site ? Whose::ours : Whose::theirs;
    if (section == "subnets")
        return whose_subnet(r, path[1]);
    if (section == "links")
        return whose_link(r, position(path[1]));
    if (section == "guests" || section == "routers") {
        if (path.size() > 4 && path[2] == "nics")
            return whose_nic(r, path[1], position(path[3]));
        Whose machine = whose_machine(r, path[1]);
        return machine == Whose::theirs ? Whose::anyones : machine; // as of routes to us
    }
    if (section == "pinned" && path.size() > 2) {
        if (path[1] == "subnets" || path[1] == "dhcp")
            return whose_subnet(r, path[2]);
        if (path[1] == "machines" && path.size() > 3)
            return whose_subnet(r, path[3]);
        if (path[1] == "links")
            return whose_pinned_link(r, path[2]);
        if (path[1] == "loopbacks")
            return whose_machine(r, path[2]);
    }
    return Whose::anyones;
}

void index_entries(Renumberer& r) {
    for (lab::MachineId id : r.lab.machines.ids()) {
        bool inside = false;
        bool outside = false;
        for (lab::NicId nic : r.lab.nics_of(id))
            (r.own_segments.contains(r.lab.nics[nic].segment) ? inside : outside) = true;
        r.entries.emplace(r.plan->entries().machines[id.row].entry_name(),
                          Renumberer::Entry{id, !inside   ? Whose::theirs
                                                : outside ? Whose::anyones
                                                          : Whose::ours});
    }
    std::uint32_t row = 0;
    for (std::string& name : plan::link_names(r.plan->entries().links))
        r.link_rows.emplace(std::move(name), row++);
}

} // namespace jackal::exports
