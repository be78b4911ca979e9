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

class Spreader {
  public:
    /// Neighbours before and after.
    Spreader(const Lab& lab, const std::vector<Neighbour>& before,
             const std::vector<Neighbour>& after, const Condition& old, const Condition& now)
        : lab_(lab), old_(old), now_(now), before_(before), after_(after),
          at_(lab.machines.size()) {}

    /// From what each machine knows at once, if it is told.
    std::vector<std::optional<Duration>> run(const std::vector<bool>& knows) {
        each_of_one(after_, before_, [&](const Neighbour& n) {
            start(n.machine, comes_with_carrier(n) ? reconnect_time
                                                   : spoken(n.protocol).meeting_time(lab_, n));
        });
        each_of_one(before_, after_, [&](const Neighbour& n) {
            if (auto time = loss_time(n)) {
                start(n.machine, *time);
                if (n.protocol == Protocol::ospf && !n.transit)
                    losses_.push_back({n.machine, area_of(n), *time});
            }
        });
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

    // Full neighbours of the one that are none of the other. Both are sorted, but for those that a
    // machine has at one NIC.
    template <class Use>
    static void each_of_one(const std::vector<Neighbour>& one, const std::vector<Neighbour>& other,
                            Use use) {
        auto place = [](const Neighbour& n) {
            return std::tuple(n.protocol, n.machine, n.family, n.nic);
        };
        auto same = other.begin();
        for (const Neighbour& n : one) {
            if (n.state != NeighbourState::full)
                continue;
            while (same != other.end() && place(*same) < place(n))
                ++same;
            bool is_there = false;
            for (auto at = same; at != other.end() && !is_there && place(*at) == place(n); ++at)
                is_there = at->state == NeighbourState::full && key_of(*at) == key_of(n);
            if (!is_there)
                use(n);
        }
    }

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
    std::optional<Duration> loss_time(const Neighbour& n) const {
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

    Duration delay_on(NicId nic) const {
        if (!nic)
            return Duration{0};
        lab::LinkId link = lab_.segments[lab_.nics[nic].segment].link;
        return link ? Duration(lab_.links[link].delay) : Duration{0};
    }

    Duration hop_time(const Neighbour& n) const {
        const SpokenProtocol& protocol = spoken(n.protocol);
        return protocol.news_time() + (protocol.is_on_wire() ? delay_on(n.nic) : Duration{0});
    }

    // Dijkstra: the news go from each machine to those that hear it, the earliest first.
    template <class Counts>
    void spread(std::vector<std::optional<Duration>>& at, Counts counts) const {
        std::vector<std::uint32_t> first(at.size() + 2); // of those that hear a machine
        std::vector<const Neighbour*> hear(after_.size());
        for (const Neighbour& n : after_)
            if (n.state == NeighbourState::full && counts(n))
                ++first[n.other.row + 2];
        std::partial_sum(first.begin(), first.end(), first.begin());
        for (const Neighbour& n : after_)
            if (n.state == NeighbourState::full && counts(n))
                hear[first[n.other.row + 1]++] = &n;
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
            for (std::uint32_t i = first[machine]; i < first[machine + 1]; ++i) {
                const Neighbour& n = *hear[i];
                auto& known = at[n.machine.row];
                if (known && *known <= time + hop_time(n))
                    continue;
                known = time + hop_time(n);
                news.emplace(*known, n.machine.row);
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
    const std::vector<Neighbour>& before_;
    const std::vector<Neighbour>& after_;
    std::vector<std::optional<Duration>> at_; // by machine
    std::vector<Loss> losses_;
    mutable bool lost_ = false;
};

} // namespace

Convergence::Convergence(const Lab& lab, const Learned& before, const Condition& condition)
    : lab_(&lab), before_(before.neighbours()), condition_(condition) {}

std::vector<std::optional<Duration>> Convergence::to(const Learned& after,
                                                     const Condition& now) const {
    const Lab& lab = *lab_;
    // Whoever loses a carrier, or gets one where no neighbour comes along, knows at once.
    std::vector<bool> knows(lab.machines.size());
    std::vector<bool> has_neighbour(lab.nics.size());
    const std::vector<Neighbour> neighbours = after.neighbours();
    for (const Neighbour& n : neighbours)
        if (n.state == NeighbourState::full && n.nic)
            has_neighbour[n.nic.row] = true;
        else if (n.state == NeighbourState::full)
            for (NicId nic : nics_with(lab, n.machine, ends_of(lab, n).own))
                has_neighbour[nic.row] = true;
    each_changed_carrier(lab, condition_, now, [&](NicId nic) {
        const bool had = has_carrier(lab, condition_, nic);
        const bool has = has_carrier(lab, now, nic);
        if (had != has && !(has && has_neighbour[nic.row]))
            knows[lab.nics[nic].machine.row] = now.machine_on(lab.nics[nic].machine);
    });
    return Spreader(lab, before_, neighbours, condition_, now).run(knows);
}

} // namespace jackal::routing
