#include "reach/engine/column.h"

#include "net/hash.h"

#include <algorithm>
#include <map>
#include <tuple>

namespace jackal::reach {

using lab::MachineId;
using lab::NicId;

namespace {

constexpr std::uint8_t most_passes = 63; // with a TTL of 64

bool translates(const lab::Lab& lab, NicId nic, plan::Translation::Kind kind) {
    const lab::Duties* duties = lab.duties_of(lab.nics[nic].machine);
    return duties != nullptr
           && std::ranges::any_of(duties->translations, [&](const lab::Translation& rule) {
                  return rule.kind == kind && rule.nic == nic;
              });
}

std::uint64_t behind_way(std::uint64_t way, std::uint64_t what) {
    constexpr std::uint64_t odd = 0x9e3779b97f4a7c15;
    return net::spread(way * odd ^ what);
}

// True if Linux answers by the NIC that the request came in by: in IPv6, with several NICs on one
// prefix.
bool has_a_prefix_twice(const lab::Lab& lab, MachineId machine) {
    std::vector<net::Prefix> prefixes;
    for (NicId nic : lab.nics_of(machine))
        for (lab::AddressId id : lab.addresses_of(nic))
            if (lab.addresses[id].address.family() == net::Family::ipv6)
                prefixes.push_back(lab.addresses[id].prefix());
    std::ranges::sort(prefixes);
    return std::ranges::adjacent_find(prefixes) != prefixes.end();
}

} // namespace

// --- doors -----------------------------------------------------------------------------------

Doors::Doors(const routing::Settled& settled, const Packets& packets)
    : lab_(&settled.lab()), nics_(static_cast<std::uint32_t>(lab_->nics.size())),
      machines_(static_cast<std::uint32_t>(lab_->machines.size())), doors_(nics_),
      answers_by_door_(machines_) {
    for (MachineId machine : lab_->machines.ids()) {
        bool apart = packets.family == net::Family::ipv6 && has_a_prefix_twice(*lab_, machine);
        answers_by_door_[machine.row] = apart && packets.is_ping();
        std::map<std::tuple<lab::GuardId, bool>, Place> alike;
        for (NicId nic : lab_->nics_of(machine)) {
            const lab::Nic& row = lab_->nics[nic];
            std::tuple kind(row.guard, lab_->is_peering(nic));
            bool is_own = apart || packet::is_too_big_to_take(row, packets.size_bytes)
                          || translates(*lab_, nic, plan::Translation::Kind::destination);
            doors_[nic.row] = is_own ? nic.row : alike.try_emplace(kind, nic.row).first->second;
        }
    }
}

MachineId Doors::machine(Place place) const {
    if (place < nics_)
        return lab_->nics[NicId{place}].machine;
    if (place < nics_ + machines_)
        return {place - nics_};
    return lab_->nics[asked_by(place)].machine;
}

bool Doors::masks_sources(NicId out) const {
    return translates(*lab_, out, plan::Translation::Kind::source);
}

// --- columns ---------------------------------------------------------------------------------

Column::Column(const routing::Settled& settled, const Packets& packets, const Doors& doors,
               Points& points)
    : settled_(&settled), lab_(settled.lab()), packets_(packets), doors_(doors), points_(points),
      turns_(doors.count()), fates_(doors.count()), open_(doors.count()) {}

void Column::aim_at(net::Address destination, bool is_answer) {
    header_ = packets_.header(is_answer);
    header_.destination = settled_->aim(destination);
    is_answer_ = is_answer;
    differs_ = false;
    before_ = nullptr;
    ++turn_;
}

Fate& Column::known(Doors::Place place) {
    if (turns_[place] != turn_) {
        turns_[place] = turn_;
        const Fate* fate = before_ != nullptr ? before_->find(place) : nullptr;
        fates_[place] = fate != nullptr ? *fate : Fate{};
    }
    return fates_[place];
}

Fate Column::fate(Doors::Place place) {
    if (known(place).kind != Fate::Kind::unknown)
        return fates_[place];
    visits_.push_back({.place = place});
    open_[place] = true;
    while (!visits_.empty()) {
        Visit& visit = visits_.back();
        if (visit.next_way < visit.ways) {
            follow(visit);
            continue;
        }
        if (visit.ways > 1)
            --open_forks_;
        Fate found = visit.all;
        open_[visit.place] = false;
        known(visit.place) = found;
        visits_.pop_back();
        if (!visits_.empty())
            take(visits_.back(), found);
    }
    return fates_[place];
}

// Looks where the next way leads: to an end, to a place whose fate is known, or one to visit.
void Column::follow(Visit& visit) {
    Branch branch =
        visit.next_way == 0 ? first_branch(visit.place) : this->branch(visit.place, visit.next_way);
    if (visit.next_way++ == 0) {
        visit.ways = branch.ways;
        if (visit.ways > 1)
            ++open_forks_;
    }
    const Doors::Place to = branch.onward.to;
    visit.is_passed_on = branch.onward.is_passed_on;
    visit.in = doors_.is_door(visit.place) ? NicId{visit.place} : NicId{};
    visit.out = branch.onward.out;
    if (branch.end.kind != Fate::Kind::unknown) {
        take(visit, branch.end);
    } else if (open_[to]) {
        // It goes round, unless a fork leads out of the circle for some.
        take(visit, {.kind = open_forks_ == 0 ? Fate::Kind::lost : Fate::Kind::varies});
    } else if (Fate fate = known(to); fate.kind != Fate::Kind::unknown) {
        take(visit, fate);
    } else {
        open_[to] = true;
        visits_.push_back({.place = to}); // `visit` is gone
    }
}

// What is found of one way, as seen from the visited place.
void Column::take(Visit& visit, Fate fate) {
    fate = behind(visit, fate);
    if (visit.next_way == 1) {
        visit.all = fate;
    } else {
        bool is_uneven = visit.all.is_uneven || fate.is_uneven || visit.all.passes != fate.passes;
        fate.is_uneven = visit.all.is_uneven = is_uneven;
        fate.passes = visit.all.passes = std::max(visit.all.passes, fate.passes);
        fate.way = visit.all.way = behind_way(visit.all.way, fate.way);
        if (visit.all != fate)
            visit.all = {.kind = Fate::Kind::varies};
    }
}

Fate Column::behind(const Visit& visit, Fate fate) {
    if (fate.kind != Fate::Kind::delivered || !visit.out)
        return fate;
    if (visit.is_passed_on) {
        MachineId machine = doors_.machine(visit.place);
        bool is_last = fate.passes++ == 0;
        std::uint32_t out = is_last ? NicId::no_row : visit.out.row;
        fate.way = behind_way(fate.way, std::uint64_t{machine.row} << 32 | out);
    }
    if (fate.passes > most_passes)
        return {.kind = fate.is_uneven ? Fate::Kind::varies : Fate::Kind::lost};
    fate.points = points_.with(doors_.machine(visit.place), visit.in, visit.out, fate.points);
    return fate;
}

Column::Branch Column::first_branch(Doors::Place place) {
    if (before_ == nullptr || is_answer_)
        return branch(place, 0);
    if (auto onward = before_->onward(place))
        return {.end = {}, .onward = *onward};
    Branch found = branch(place, 0);
    if (found.ways == 1 && found.end.kind == Fate::Kind::unknown)
        before_->keep(place, found.onward);
    return found;
}

Column::Branch Column::branch(Doors::Place place, std::uint32_t way) {
    packet::Header header = header_;
    const MachineId machine = doors_.machine(place);
    header.in = doors_.is_door(place) ? NicId{place} : NicId{};
    header.asked_by = doors_.asked_by(place);
    header.share = way;
    const NicId in = header.in;
    packet::decide(*settled_, machine, header, {.passage = {}, .lets_all_pass = true}, decision_);
    Branch branch{.end = {}, .onward = {}, .ways = decision_.ways};
    bool leaves =
        decision_.action == packet::Action::send || decision_.action == packet::Action::forward;
    bool is_translated = packets_.begins_flow(is_answer_)
                         && (header.destination.address != header_.destination.address
                             || header.destination_port != header_.destination_port
                             || (leaves && packets_.family == net::Family::ipv4
                                 && doors_.masks_sources(decision_.out)));
    bool is_odd = header.size_bytes != header_.size_bytes || header.as_broadcast != net::Address{};
    if (is_odd || is_translated) {
        differs_ = true;
        branch.end.kind = Fate::Kind::varies;
    } else if (decision_.action == packet::Action::deliver) {
        branch.end = {.kind = Fate::Kind::delivered, .door = in ? place : Fate::none};
    } else if (!leaves
               || (header.may_not_fit
                   && packet::is_too_big_to_take(lab_.nics[header.in], header.size_bytes))) {
        branch.end.kind = Fate::Kind::lost;
    } else {
        branch.onward = {.to = doors_.door(decision_.neighbour),
                         .out = decision_.out,
                         .is_passed_on = decision_.action == packet::Action::forward};
    }
    return branch;
}

} // namespace jackal::reach
