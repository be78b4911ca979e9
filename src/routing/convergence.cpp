#include "jackal/routing/convergence.h"

#include "neighbour.h"
#include "routing/protocol.h"

#include <algorithm>
#include <numeric>
#include <queue>

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

// A switch port that goes down takes the carrier of what is plugged into it along (Linux: the peer
// of an interface that is down has none; IEEE 802.3 clause 22.2.4.2.13).
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

class Spreader {
  public:
    Spreader(const Lab& lab, const std::vector<Neighbour>& before, const Learned& after,
             const Condition& now)
        : lab_(lab), now_(now), before_(before), after_(after.neighbours()),
          at_(lab.machines.size()) {}

    /// From what each machine knows at once, if it is told.
    std::vector<std::optional<Duration>> run(const std::vector<bool>& knows) {
        each_of_one(after_, before_, [&](const Neighbour& n) {
            start(n.machine, spoken(n.protocol).meeting_time(lab_, n));
        });
        each_of_one(before_, after_, [&](const Neighbour& n) {
            if (auto time = loss_time(n))
                start(n.machine, *time);
        });
        for (const lab::Speaker& speaker : lab_.speakers)
            if (knows[speaker.machine.row])
                start(speaker.machine, Duration{0});
        spread();
        return finish();
    }

  private:
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

    // When the machine misses its neighbour; nothing if it is off itself.
    std::optional<Duration> loss_time(const Neighbour& n) const {
        if (!now_.machine_on(n.machine))
            return std::nullopt;
        lost_ = true;
        if (n.transit) // others tell it that the way through the area is gone
            return std::nullopt;
        if (n.nic && !has_carrier(lab_, now_, n.nic))
            return Duration{0};
        // A machine that is off takes the carrier of its links along.
        if (n.nic && lab_.segments[lab_.nics[n.nic].segment].link && !now_.machine_on(n.other))
            return Duration{0};
        if (!n.nic && is_own_end_dead(n))
            return Duration{0};
        return spoken(n.protocol).silence_time(lab_, n);
    }

    // The machine's own end of a session has no carrier.
    bool is_own_end_dead(const Neighbour& n) const {
        const auto& ends = lab_.speaker(n.machine)
                               ->bgp->neighbours[n.configured]
                               .session[n.family == net::Family::ipv4 ? 0 : 1];
        return ends && std::ranges::any_of(lab_.owners_of(ends->own), [&](const lab::Owner& owner) {
                   return owner.machine == n.machine && !has_carrier(lab_, now_, owner.nic);
               });
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
    void spread() {
        std::vector<std::uint32_t> first(at_.size() + 2); // of those that hear a machine
        std::vector<const Neighbour*> hear(after_.size());
        for (const Neighbour& n : after_)
            if (n.state == NeighbourState::full)
                ++first[n.other.row + 2];
        std::partial_sum(first.begin(), first.end(), first.begin());
        for (const Neighbour& n : after_)
            if (n.state == NeighbourState::full)
                hear[first[n.other.row + 1]++] = &n;
        using News = std::pair<Duration, std::uint32_t>;
        std::priority_queue<News, std::vector<News>, std::greater<>> news;
        for (std::uint32_t machine = 0; machine < at_.size(); ++machine)
            if (at_[machine])
                news.emplace(*at_[machine], machine);
        while (!news.empty()) {
            const auto [time, machine] = news.top();
            news.pop();
            if (*at_[machine] < time)
                continue;
            for (std::uint32_t i = first[machine]; i < first[machine + 1]; ++i) {
                const Neighbour& n = *hear[i];
                auto& known = at_[n.machine.row];
                if (known && *known <= time + hop_time(n))
                    continue;
                known = time + hop_time(n);
                news.emplace(*known, n.machine.row);
            }
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
    const Condition& now_;
    const std::vector<Neighbour>& before_;
    std::vector<Neighbour> after_;
    std::vector<std::optional<Duration>> at_; // by machine
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
    for (const Neighbour& n : after.neighbours())
        if (n.nic && n.state == NeighbourState::full)
            has_neighbour[n.nic.row] = true;
    auto look_at = [&](NicId nic) {
        const bool had = has_carrier(lab, condition_, nic);
        const bool has = has_carrier(lab, now, nic);
        if (had != has && !(has && has_neighbour[nic.row]))
            knows[lab.nics[nic].machine.row] = now.machine_on(lab.nics[nic].machine);
    };
    if (condition_.wiring() != now.wiring())
        std::ranges::for_each(lab.nics.ids(), look_at);
    else
        each_changed_nic(lab, condition_, now, look_at);
    return Spreader(lab, before_, after, now).run(knows);
}

} // namespace jackal::routing
