#include "jackal/routing/convergence.h"

#include "neighbour.h"
#include "routing/protocol.h"

#include <algorithm>

namespace jackal::routing {

using lab::Lab;
using lab::MachineId;
using lab::NicId;

namespace {

// What tells one neighbour from all others.
using Key = std::tuple<Protocol, MachineId, net::Family, NicId, MachineId, NicId, std::uint32_t>;

Key key_of(const Neighbour& n) {
    return {n.protocol, n.machine, n.family, n.nic, n.other, n.other_nic, n.configured};
}

class Spreader {
  public:
    Spreader(const Lab& lab, const Learned& before, const Learned& after, const Condition& now)
        : lab_(lab), now_(now), before_(before.neighbours()), after_(after.neighbours()),
          at_(lab.machines.size()) {}

    std::vector<std::optional<Duration>> run() {
        const std::vector<Known> old = full(before_);
        const std::vector<Known> now = full(after_);
        each_of_one(now, old, [&](const Neighbour& n) {
            start(n.machine, spoken(n.protocol).meeting_time(lab_, n));
        });
        each_of_one(old, now, [&](const Neighbour& n) {
            if (auto time = loss_time(n))
                start(n.machine, *time);
        });
        // Prefixes of NICs without neighbours: their machine knows at once.
        for (const lab::Speaker& speaker : lab_.speakers)
            if (now_.machine_on(speaker.machine))
                for (NicId nic : lab_.nics_of(speaker.machine))
                    if (!lab_.nics[nic].is_loopback() && !has_carrier(nic))
                        start(speaker.machine, Duration{0});
        spread();
        return finish();
    }

  private:
    using Known = std::pair<Key, const Neighbour*>;

    static std::vector<Known> full(const std::vector<Neighbour>& neighbours) {
        std::vector<Known> known;
        for (const Neighbour& n : neighbours)
            if (n.state == NeighbourState::full)
                known.emplace_back(key_of(n), &n);
        if (!std::ranges::is_sorted(known, {}, &Known::first))
            std::ranges::sort(known, {}, &Known::first);
        return known;
    }

    // Those of the one that are not in the other.
    template <class Use>
    static void each_of_one(const std::vector<Known>& one, const std::vector<Known>& other,
                            Use use) {
        auto same = other.begin();
        for (const auto& [key, neighbour] : one) {
            while (same != other.end() && same->first < key)
                ++same;
            if (same == other.end() || same->first != key)
                use(*neighbour);
        }
    }

    // A switch port that goes down takes the carrier of what is plugged into it along (Linux: the
    // peer of an interface that is down has none; IEEE 802.3 clause 22.2.4.2.13).
    bool has_carrier(NicId nic) const {
        if (!is_live(lab_, now_, nic, net::Family::ipv4))
            return false;
        auto plugs = lab_.plugs_of(nic);
        return plugs.empty() || std::ranges::any_of(plugs, [&](const lab::Plug& plug) {
                   auto number = static_cast<std::size_t>(&plug - lab_.plugs.data());
                   return now_.wiring().plug_up[number]
                          && (!plug.port || now_.wiring().works(lab_, plug.port));
               });
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
        if (n.nic && !has_carrier(n.nic))
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
                   return owner.machine == n.machine && !has_carrier(owner.nic);
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

    // Bellman and Ford: the news go from each machine to those that hear it.
    void spread() {
        bool changed = true;
        while (changed) {
            changed = false;
            for (const Neighbour& n : after_) {
                if (n.state != NeighbourState::full || !at_[n.other.row])
                    continue;
                Duration time = *at_[n.other.row] + hop_time(n);
                if (at_[n.machine.row] && *at_[n.machine.row] <= time)
                    continue;
                at_[n.machine.row] = time;
                changed = true;
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
    std::vector<Neighbour> before_;
    std::vector<Neighbour> after_;
    std::vector<std::optional<Duration>> at_; // by machine
    mutable bool lost_ = false;
};

} // namespace

std::vector<std::optional<Duration>> convergence(const Lab& lab, const Learned& before,
                                                 const Learned& after, const Condition& now) {
    return Spreader(lab, before, after, now).run();
}

} // namespace jackal::routing
