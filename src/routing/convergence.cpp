#include "jackal/routing/convergence.h"

#include "neighbour.h"
#include "routing/protocol.h"

#include <algorithm>
#include <numeric>
#include <queue>
#include <set>

namespace jackal::routing {

using lab::Lab;
using lab::MachineId;
using lab::NicId;

namespace {

// What tells one neighbour from all others.
auto key_of(const Neighbour& n) {
    return std::tuple(n.protocol, n.machine, n.family, n.nic, n.other, n.other_nic, n.configured,
                      n.transit);
}

// A switch port that goes down takes the carrier of what is plugged into it along, as the other end
// of a cable does.
bool has_carrier(const Lab& lab, const Condition& condition, NicId nic) {
    if (!is_live(lab, condition, nic, net::Family::ipv4))
        return false;
    auto plugs = lab.plugs_of(nic);
    return plugs.empty() || std::ranges::any_of(plugs, [&](const lab::Plug& plug) {
               auto number = static_cast<std::size_t>(&plug - lab.plugs.data());
               return condition.wiring().plug_up[number]
                      && (!plug.port || condition.wiring().works(lab, plug.port));
           });
}

// Of a session of BGP, as one of its ends has it.
const lab::BgpEnds& ends_of(const Lab& lab, const Neighbour& n) {
    return *lab.speaker(n.machine)
                ->bgp->neighbours[n.configured]
                .session[n.family == net::Family::ipv4 ? 0 : 1];
}

std::vector<NicId> nics_with(const Lab& lab, MachineId machine, net::Address address) {
    std::vector<NicId> nics;
    for (const lab::Owner& owner : lab.owners_of(address))
        if (owner.machine == machine)
            nics.push_back(owner.nic);
    return nics;
}

bool is_dead_end(const Lab& lab, const Condition& condition, MachineId machine,
                 net::Address address) {
    return std::ranges::any_of(nics_with(lab, machine, address),
                               [&](NicId nic) { return !has_carrier(lab, condition, nic); });
}

} // namespace

// Neighbours, and how the news go among those that are full.
class Neighbourhood {
  public:
    Neighbourhood(const Lab& lab, const Learned& learned)
        : all_(learned.neighbours()), first_(lab.machines.size() + 2) {
        auto is_full = [](const Neighbour& n) { return n.state == NeighbourState::full; };
        for (const Neighbour& n : all_)
            if (is_full(n))
                ++first_[n.other.row + 2];
        std::partial_sum(first_.begin(), first_.end(), first_.begin());
        hear_.resize(first_.back());
        for (std::uint32_t number = 0; number < all_.size(); ++number)
            if (const Neighbour& n = all_[number]; is_full(n))
                hear_[first_[n.other.row + 1]++] = {n.machine, number, hop_time(lab, n)};
    }

    const std::vector<Neighbour>& all() const { return all_; }

    struct Hearer {
        MachineId machine;
        std::uint32_t number = 0; // in all()
        Duration time{};          // what news take to it
    };
    /// Those that hear the machine.
    std::span<const Hearer> of(std::uint32_t machine) const {
        return std::span(hear_).subspan(first_[machine], first_[machine + 1] - first_[machine]);
    }

    /// Where a neighbour stands among them.
    std::uint32_t find(const Neighbour& n) const {
        auto at = std::ranges::lower_bound(all_, place(n), {}, place);
        while (key_of(*at) != key_of(n))
            ++at;
        return static_cast<std::uint32_t>(at - all_.begin());
    }

    /// Calls use(n) for full neighbours that are none of the others. Both are sorted, but for those
    /// that a machine has at one NIC.
    template <class Use>
    void each_but(const Neighbourhood& other, Use use) const {
        auto same = other.all_.begin();
        for (const Neighbour& n : all_) {
            if (n.state != NeighbourState::full)
                continue;
            while (same != other.all_.end() && place(*same) < place(n))
                ++same;
            bool is_there = false;
            for (auto at = same; at != other.all_.end() && !is_there && place(*at) == place(n);
                 ++at)
                is_there = at->state == NeighbourState::full && key_of(*at) == key_of(n);
            if (!is_there)
                use(n);
        }
    }

  private:
    static std::tuple<Protocol, MachineId, net::Family, NicId> place(const Neighbour& n) {
        return {n.protocol, n.machine, n.family, n.nic};
    }

    static Duration hop_time(const Lab& lab, const Neighbour& n) {
        const SpokenProtocol& protocol = spoken(n.protocol);
        const lab::LinkId link = protocol.is_on_wire() && n.nic
                                     ? lab.segments[lab.nics[n.nic].segment].link
                                     : lab::LinkId{};
        return protocol.news_time() + (link ? Duration(lab.links[link].delay) : Duration{0});
    }

    std::vector<Neighbour> all_;
    std::vector<std::uint32_t> first_; // of hear_, by machine; and the end
    std::vector<Hearer> hear_;
};

namespace {

class Spreader {
  public:
    /// Neighbours afterwards: all but those that are gone.
    Spreader(const Lab& lab, const Condition& old, const Condition& now,
             const Neighbourhood& neighbours, const std::vector<bool>& gone)
        : lab_(lab), old_(old), now_(now), neighbours_(neighbours), gone_(gone),
          at_(lab.machines.size()) {}

    void gain(const Neighbour& n) {
        start(n.machine,
              comes_with_carrier(n) ? reconnect_time : spoken(n.protocol).meeting_time(lab_, n));
    }

    void lose(const Neighbour& n) {
        if (auto time = loss_time(n)) {
            start(n.machine, *time);
            if (n.protocol == Protocol::ospf && !n.transit)
                losses_.push_back({n.machine, area_of(n), *time});
        }
    }

    /// From what machines miss or find, and what some know at once.
    std::vector<std::optional<Duration>> run(const std::vector<bool>& knows) {
        for (const lab::Speaker& speaker : lab_.speakers)
            if (knows[speaker.machine.row])
                start(speaker.machine, Duration{0});
        spread(at_, [](const Neighbour&) { return true; });
        hold_back();
        return finish();
    }

  private:
    struct Loss { // of a neighbour of OSPF
        MachineId machine;
        std::uint32_t area = 0;
        Duration time{};
    };

    void start(MachineId machine, Duration time) {
        auto& known = at_[machine.row];
        if (!known || time < *known)
            known = time;
    }

    // A session of which an end had no carrier before.
    bool comes_with_carrier(const Neighbour& n) const {
        if (n.nic)
            return false;
        const lab::BgpEnds& ends = ends_of(lab_, n);
        return is_dead_end(lab_, old_, n.machine, ends.own)
               || is_dead_end(lab_, old_, n.other, ends.peer);
    }

    // When the machine misses its neighbour; nothing if it is off itself.
    std::optional<Duration> loss_time(const Neighbour& n) {
        if (!now_.machine_on(n.machine))
            return std::nullopt;
        lost_ = true;
        if (n.transit) // others tell it that the way through the area is gone
            return std::nullopt;
        if (n.nic && !has_carrier(lab_, now_, n.nic))
            return Duration{0};
        if (!n.nic && is_dead_end(lab_, now_, n.machine, ends_of(lab_, n).own))
            return Duration{0};
        return spoken(n.protocol).silence_time(lab_, n);
    }

    // Dijkstra: the news go from each machine to those that hear it, the earliest first.
    template <class Counts>
    void spread(std::vector<std::optional<Duration>>& at, Counts counts) const {
        using News = std::pair<Duration, std::uint32_t>;
        std::priority_queue<News, std::vector<News>, std::greater<>> news;
        for (std::uint32_t machine = 0; machine < at.size(); ++machine)
            if (at[machine])
                news.emplace(*at[machine], machine);
        while (!news.empty()) {
            const auto [time, machine] = news.top();
            news.pop();
            if (*at[machine] < time)
                continue;
            for (const Neighbourhood::Hearer& hearer : neighbours_.of(machine)) {
                auto& known = at[hearer.machine.row];
                if ((known && *known <= time + hearer.time) || gone_[hearer.number]
                    || !counts(neighbours_.all()[hearer.number]))
                    continue;
                known = time + hearer.time;
                news.emplace(*known, hearer.machine.row);
            }
        }
    }

    std::uint32_t area_of(const Neighbour& n) const {
        return lab_.speaker(n.machine)->ospf->on(n.nic)->area;
    }

    // Who is in one area alone learns that a way inside it is broken from there (RFC 2328 section
    // 16.1): what border routers tell of other areas in the meantime changes nothing about that.
    void hold_back() {
        std::set<std::uint32_t> areas;
        for (const Loss& loss : losses_)
            areas.insert(loss.area);
        for (const std::uint32_t area : areas) {
            auto is_inside = [&](const lab::Speaker& speaker) {
                return speaker.ospf && !speaker.rip && !speaker.bgp
                       && std::ranges::all_of(speaker.ospf->nics, [&](const lab::OspfNic& told) {
                              return told.area == area;
                          });
            };
            if (std::ranges::all_of(lab_.speakers, is_inside))
                return; // there is no other area
            std::vector<std::optional<Duration>> inside(at_.size());
            for (const Loss& loss : losses_)
                if (auto& known = inside[loss.machine.row];
                    loss.area == area && (!known || loss.time < *known))
                    known = loss.time;
            spread(inside, [&](const Neighbour& n) {
                return n.protocol == Protocol::ospf && !n.transit && area_of(n) == area;
            });
            for (const lab::Speaker& speaker : lab_.speakers)
                if (const auto& time = inside[speaker.machine.row]; time && is_inside(speaker))
                    at_[speaker.machine.row] = time;
        }
    }

    std::vector<std::optional<Duration>> finish() {
        for (const lab::Speaker& speaker : lab_.speakers) {
            auto& time = at_[speaker.machine.row];
            if (time && speaker.ospf)
                *time += spf_delay;
            // Another way is heard of with the next update of whoever knows it.
            if (time && speaker.rip && lost_)
                *time += Duration(std::chrono::seconds(speaker.rip->update_s)) / 2;
        }
        return std::move(at_);
    }

    const Lab& lab_;
    const Condition& old_;
    const Condition& now_;
    const Neighbourhood& neighbours_;
    const std::vector<bool>& gone_;           // by their number
    std::vector<std::optional<Duration>> at_; // by machine
    std::vector<Loss> losses_;
    bool lost_ = false;
};

} // namespace

namespace {

// NICs by which machines hear full neighbours.
std::vector<bool> with_neighbours(const Lab& lab, const Neighbourhood& neighbours,
                                  const std::vector<bool>& gone) {
    std::vector<bool> found(lab.nics.size());
    for (std::size_t i = 0; i < neighbours.all().size(); ++i) {
        const Neighbour& n = neighbours.all()[i];
        if (n.state != NeighbourState::full || gone[i])
            continue;
        if (n.nic)
            found[n.nic.row] = true;
        else
            for (NicId nic : nics_with(lab, n.machine, ends_of(lab, n).own))
                found[nic.row] = true;
    }
    return found;
}

} // namespace

Convergence::Convergence(const Lab& lab, const Learned& before, const Condition& condition)
    : lab_(&lab), before_(&before), neighbours_(std::make_unique<const Neighbourhood>(lab, before)),
      condition_(condition) {}
Convergence::~Convergence() = default;

std::vector<std::optional<Duration>> Convergence::to(const Learned& after,
                                                     const Condition& now) const {
    const std::optional<std::vector<Neighbour>> lost = after.lost_neighbours(*before_);
    std::optional<Neighbourhood> others;
    if (!lost)
        others.emplace(*lab_, after);
    const Neighbourhood& neighbours = others ? *others : *neighbours_;
    std::vector<bool> gone(neighbours.all().size());
    Spreader spreader(*lab_, condition_, now, neighbours, gone);
    auto lose = [&](const Neighbour& n) { spreader.lose(n); };
    if (others) {
        others->each_but(*neighbours_, [&](const Neighbour& n) { spreader.gain(n); });
        neighbours_->each_but(*others, lose);
    } else {
        for (const Neighbour& n : *lost) {
            gone[neighbours_->find(n)] = true;
            if (n.state == NeighbourState::full)
                lose(n);
        }
    }
    std::vector<bool> has_neighbour; // by NIC
    auto comes_alone = [&](NicId nic) {
        if (has_neighbour.empty())
            has_neighbour = with_neighbours(*lab_, neighbours, gone);
        return !has_neighbour[nic.row];
    };
    // Whoever loses a NIC or a carrier, or gets one where no neighbour comes along, knows at once.
    std::vector<bool> knows(lab_->machines.size());
    each_changed_carrier(*lab_, condition_, now, [&](NicId nic) {
        const MachineId machine = lab_->nics[nic].machine;
        auto level = [&](const Condition& condition) { // down, up, up with a carrier
            const bool is_up = condition.machine_on(machine) && condition.nic_up(nic);
            return int{is_up} + int{has_carrier(*lab_, condition, nic)};
        };
        const int was = level(condition_);
        const int is = level(now);
        if (is < was || (is > was && comes_alone(nic)))
            knows[machine.row] = now.machine_on(machine);
    });
    return spreader.run(knows);
}

Duration play(const Lab& lab, const Learned& learned,
              const std::optional<std::set<MachineId>>& machines) {
    std::uint32_t longest_s = 1;
    auto counts = [&](MachineId machine) { return !machines || machines->contains(machine); };
    for (const Neighbour& n : learned.neighbours())
        if (n.state == NeighbourState::full && n.protocol != Protocol::bgp && counts(n.machine)
            && counts(n.other))
            longest_s = std::max(longest_s, n.protocol == Protocol::rip
                                                ? lab.speaker(n.machine)->rip->update_s
                                                : lab.speaker(n.machine)->ospf->on(n.nic)->hello_s);
    return std::chrono::seconds(longest_s) + daemon_ticks;
}

} // namespace jackal::routing
