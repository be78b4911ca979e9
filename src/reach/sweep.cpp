#include "jackal/reach/sweep.h"

#include "jackal/limits.h"
#include "jackal/reach/verify.h"
#include "jackal/sorted.h"
#include "reach/changed_pairs.h"
#include "reach/parallel.h"

#include <algorithm>
#include <atomic>
#include <fmt/format.h>
#include <mutex>
#include <stdexcept>

namespace jackal::reach {

using lab::Lab;
using lab::MachineId;
using routing::Cut;

// --- what can be cut ---------------------------------------------------------------------------

std::string_view to_string(CutKind kind) {
    switch (kind) {
    case CutKind::link: return "link";
    case CutKind::tunnel: return "tunnel";
    case CutKind::peering: return "peering";
    case CutKind::nic: return "nic";
    case CutKind::wire: return "wire";
    case CutKind::machine: return "machine";
    case CutKind::switch_: return "switch";
    case CutKind::port: return "port";
    case CutKind::vlan: return "vlan";
    case CutKind::session: break;
    }
    return "session";
}

std::span<const CutKind> all_cut_kinds() {
    static constexpr CutKind all[] = {
        CutKind::link,    CutKind::tunnel,  CutKind::peering, CutKind::nic,  CutKind::wire,
        CutKind::machine, CutKind::switch_, CutKind::port,    CutKind::vlan, CutKind::session};
    return all;
}

namespace {

class Lister {
  public:
    explicit Lister(const routing::Settled& settled)
        : settled_(settled), lab_(settled.lab()), condition_(settled.condition()) {}

    std::vector<Cut> run(CutKind kind) {
        switch (kind) {
        case CutKind::link:
        case CutKind::tunnel: add_links(kind == CutKind::tunnel); break;
        case CutKind::peering: add_peerings(); break;
        case CutKind::nic: add_nics(); break;
        case CutKind::wire: add_wires(); break;
        case CutKind::machine: add_machines(); break;
        case CutKind::switch_: add_switches(); break;
        case CutKind::port: add_ports(); break;
        case CutKind::vlan: add_vlans(); break;
        case CutKind::session: add_sessions(); break;
        }
        return std::move(cuts_);
    }

  private:
    void add_links(bool tunnels) {
        for (Cut& cut : routing::single_cuts(lab_)) {
            const auto& between = std::get<routing::LinkCut>(cut);
            bool is_tunnel = !between.links.empty() && lab_.links[between.links.front()].is_tunnel;
            bool works =
                std::ranges::all_of(between.links,
                                    [&](lab::LinkId link) { return condition_.link_up(link); })
                && std::ranges::all_of(between.cables, [&](lab::CableId cable) {
                       return bool(condition_.wiring().cable_up[cable.row]);
                   });
            if (works && is_tunnel == tunnels)
                cuts_.push_back(std::move(cut));
        }
    }

    void add_peerings() {
        for (const lab::Peering& peering : lab_.peerings)
            if (peering.link && condition_.link_up(peering.link))
                cuts_.emplace_back(routing::LinkCut{
                    {lab_.sites[peering.sites[0]].name, lab_.sites[peering.sites[1]].name},
                    {peering.link},
                    {}});
    }

    bool can_be_cut(MachineId machine) const {
        return condition_.machine_on(machine) && !lab_.machines[machine].outside;
    }

    void add_nics() {
        for (lab::NicId nic : lab_.nics.ids())
            if (can_be_cut(lab_.nics[nic].machine) && condition_.nic_up(nic)
                && !lab_.nics[nic].is_loopback() && !lab_.is_peering(nic))
                cuts_.emplace_back(routing::NicCut{nic});
    }

    void add_wires() {
        for (std::uint32_t i = 0; i < lab_.plugs.size(); ++i)
            if (!lab_.plugs[i].member.empty() && condition_.wiring().plug_up[i]
                && can_be_cut(lab_.nics[lab_.plugs[i].nic].machine))
                cuts_.emplace_back(routing::WireCut{i});
    }

    void add_machines() {
        for (MachineId machine : lab_.machines.ids())
            if (can_be_cut(machine) && lab_.machines[machine].nic_count != 0)
                cuts_.emplace_back(routing::MachineCut{machine});
    }

    void add_switches() {
        for (lab::SwitchId owner : lab_.switches.ids())
            if (condition_.wiring().switch_on[owner.row])
                cuts_.emplace_back(routing::SwitchCut{owner});
    }

    void add_ports() {
        for (lab::PortId port : lab_.ports.ids())
            if (condition_.wiring().works(lab_, port))
                cuts_.emplace_back(routing::PortCut{port, std::nullopt});
    }

    void add_vlans() {
        for (lab::PortId port : lab_.ports.ids())
            if (condition_.wiring().works(lab_, port))
                for (std::uint16_t vlan : lab_.ports[port].tagged)
                    if (!condition_.wiring().barred.contains({port, vlan}))
                        cuts_.emplace_back(routing::PortCut{port, vlan});
    }

    void add_sessions() {
        std::vector<std::tuple<routing::Protocol, lab::MachineId, lab::MachineId>> known;
        for (const routing::Neighbour& n : settled_.lessons()->neighbours())
            if (n.other && n.discord == routing::Discord::none)
                known.emplace_back(n.protocol, std::min(n.machine, n.other),
                                   std::max(n.machine, n.other));
        sort_unique(known);
        for (const auto& [protocol, one, other] : known)
            cuts_.emplace_back(routing::SessionCut{protocol, {one, other}});
    }

    const routing::Settled& settled_;
    const Lab& lab_;
    const routing::Condition& condition_;
    std::vector<Cut> cuts_;
};

// --- what comes of it --------------------------------------------------------------------------

void refuse_more(std::size_t count) {
    if (count > limits::sweep_cuts)
        throw std::length_error(fmt::format("{} cuts are more than {}", count, limits::sweep_cuts));
}

std::vector<CutEffect> single_effects(const routing::Settled& settled,
                                      const std::vector<CutKind>& kinds) {
    std::vector<CutEffect> singles;
    for (CutKind kind : kinds.empty() ? all_cut_kinds() : std::span<const CutKind>(kinds))
        for (Cut& cut : cuts(settled, kind))
            singles.push_back({.cut = {std::move(cut)}, .kind = kind});
    refuse_more(singles.size());
    return singles;
}

} // namespace

class Sweeping::Work {
  public:
    Work(const routing::Settled& settled, const SweepQuestion& question)
        : wanted_(single_effects(settled, question.what)), settled_(settled),
          lab_(settled.lab()), question_{.kind = question.kind,
                                         .family = question.family,
                                         .service = question.service,
                                         .threads = std::max(1U, question.threads)},
          whole_(settled, question_, {{.service = question.service, .keeps_ways = true}}, true),
          changed_(whole_), convergence_(lab_, *settled.lessons(), settled.condition()) {
        if (question.at_once == 2)
            take_pairs();
        sum_.asked = wanted_.size();
        sum_.rows = whole_.rows();
        sum_.columns = whole_.columns();
        count_whole();
        for (std::size_t i = 0; i < lab_.expectations.size(); ++i) {
            const plan::Expectation& expected = lab_.expectations[i];
            if (expected.cuts.empty() && expected.any_cuts == 0 && verify(settled, i).passed)
                holding_.push_back(i);
        }
    }

    /// Nothing but the cuts.
    const std::vector<CutEffect>& wanted() const { return wanted_; }

    CutEffect effect(std::size_t number) {
        CutEffect effect = wanted_.at(number);
        routing::Condition condition = settled_.condition();
        for (const Cut& cut : effect.cut)
            condition.apply(cut);
        const routing::Settled without = routing::resettle(settled_, condition);
        Losses losses(sum_.rows.size(), most_losses());
        const bool takes_machine = std::ranges::any_of(effect.cut, [](const Cut& cut) {
            return std::holds_alternative<routing::MachineCut>(cut);
        });
        const ChangedPairs::Use add = [&](std::size_t column,
                                          std::span<const ChangedPairs::Change> changes) {
            for (const ChangedPairs::Change& change : changes)
                if (!takes_machine || is_between_others(change, condition))
                    count(column, change, losses, effect);
            losses.end_column();
        };
        auto worker = take_worker();
        if (!add_leaf(effect, add) && !changed_.each(without, *worker, add)) {
            effect = wanted_.at(number);
            losses = Losses(sum_.rows.size(), most_losses());
            compare_all(without, add);
        }
        give_back(std::move(worker));
        losses.move_into(effect);
        for (std::size_t i : holding_)
            if (!verify(without, i).passed)
                effect.expectations.push_back(i);
        if (lab_.speakers.size() != 0)
            effect.settles_after = settling_time(without);
        return effect;
    }

    Sweep sum_up(std::vector<std::optional<CutEffect>> effects) const {
        Sweep sweep = sum_;
        for (std::optional<CutEffect>& effect : effects)
            if (effect)
                sweep.cuts.push_back(std::move(*effect));
        std::ranges::stable_sort(sweep.cuts, std::greater(), [](const CutEffect& effect) {
            return std::tuple(effect.lost, effect.expectations.size(), effect.moved, effect.gained);
        });
        return sweep;
    }

  private:
    // The worst losses of one cut by subnets, no more than `most`.
    class Losses {
      public:
        Losses(std::size_t rows, std::size_t most) : most_(most), places_(rows, nowhere) {}

        /// Of a part of a cell; the others of its column are added before its end.
        void add(const CutLoss& part) {
            if (places_[part.from] == nowhere) {
                places_[part.from] = static_cast<std::uint32_t>(of_column_.size());
                of_column_.push_back({.from = part.from, .to = part.to});
            }
            of_column_[places_[part.from]].lost += part.lost;
            of_column_[places_[part.from]].moved += part.moved;
        }
        void end_column() {
            for (const CutLoss& loss : of_column_) {
                places_[loss.from] = nowhere;
                add_cell(loss);
            }
            of_column_.clear();
        }

        /// Of all of a cell.
        void add_cell(const CutLoss& loss) {
            ++count_;
            if (worst_.size() == most_) {
                if (most_ == 0 || !is_worse(loss, worst_.front()))
                    return;
                std::ranges::pop_heap(worst_, is_worse);
                worst_.pop_back();
            }
            worst_.push_back(loss);
            std::ranges::push_heap(worst_, is_worse);
        }

        void move_into(CutEffect& effect) {
            effect.more_losses = count_ - worst_.size();
            std::ranges::sort(worst_, is_worse);
            effect.losses = std::move(worst_);
        }

      private:
        static constexpr std::uint32_t nowhere = ~std::uint32_t{0};

        static bool is_worse(const CutLoss& one, const CutLoss& other) {
            return std::tuple(other.lost, other.moved, one.from, one.to)
                   < std::tuple(one.lost, one.moved, other.from, other.to);
        }

        std::size_t most_;
        std::size_t count_ = 0;
        std::vector<CutLoss> worst_; // a heap, the least on top
        std::vector<CutLoss> of_column_;
        std::vector<std::uint32_t> places_; // by row: where this column's are
    };

    // Pairs of those cuts, but such as cannot be worse together than apart.
    void take_pairs() {
        std::vector<CutEffect> pairs;
        std::vector<const CutEffect*> others;
        for (const CutEffect& single : wanted_)
            if (!leaf(single.cut.front()))
                others.push_back(&single);
        auto pairs_of = [](std::size_t count) { return count * (count - 1) / 2; };
        refuse_more(pairs_of(others.size()));
        for (std::size_t one = 0; one < others.size(); ++one)
            for (std::size_t other = one + 1; other < others.size(); ++other)
                pairs.push_back({.cut = {others[one]->cut.front(), others[other]->cut.front()},
                                 .kind = others[one]->kind});
        sum_.independent = pairs_of(wanted_.size()) - pairs.size();
        wanted_ = std::move(pairs);
    }

    void count_whole() {
        std::atomic<std::uint64_t> all = 0;
        std::atomic<std::uint64_t> answered = 0;
        in_parallel(sum_.columns.size(), 1, question_.threads,
                    [&](unsigned, std::size_t first, std::size_t last) {
                        std::uint64_t pairs = 0;
                        std::uint64_t replies = 0;
                        for (std::size_t column = first; column < last; ++column) {
                            const ChangedPairs::Count found = count(column);
                            pairs += found.pairs;
                            replies += found.replies;
                        }
                        all += pairs;
                        answered += replies;
                    });
        sum_.pairs = all;
        sum_.replies = answered;
    }

    ChangedPairs::Count count(std::size_t column) const {
        if (auto found = changed_.count(column))
            return *found;
        ChangedPairs::Count found;
        for (std::size_t row = 0; row < sum_.rows.size(); ++row)
            whole_.each(row, column, [&](const PairOfNics& pair) {
                found.pairs += pair.pairs;
                found.replies += whole_.gets_answer(pair, 0) ? pair.pairs : 0;
            });
        return found;
    }

    std::size_t most_losses() const {
        return std::min(limits::cut_losses,
                        limits::sweep_losses / std::max<std::size_t>(wanted_.size(), 1));
    }

    // That one is off of which the cut is goes without saying.
    bool is_between_others(const ChangedPairs::Change& change,
                           const routing::Condition& condition) const {
        return condition.machine_on(lab_.nics[change.from].machine)
               && condition.machine_on(lab_.nics[change.to].machine);
    }

    void count(std::size_t column, const ChangedPairs::Change& change, Losses& losses,
               CutEffect& effect) const {
        if (!change.replied) {
            effect.gained += change.pairs;
            return;
        }
        CutLoss loss{.from = change.row, .to = static_cast<std::uint32_t>(column)};
        if (!change.replies) {
            effect.lost += loss.lost = change.pairs;
            effect.own += is_own(change, effect) ? change.pairs : 0;
        } else {
            effect.moved += loss.moved = change.pairs;
        }
        if (change.is_whole_cell)
            losses.add_cell(loss);
        else
            losses.add(loss);
    }

    // Who is cut off, if it is a guest that is but one end of packets.
    MachineId leaf(const Cut& cut) const {
        const auto* nic = std::get_if<routing::NicCut>(&cut);
        const auto* off = std::get_if<routing::MachineCut>(&cut);
        if (nic == nullptr && off == nullptr)
            return {};
        MachineId machine = nic != nullptr ? lab_.nics[nic->nic].machine : off->machine;
        return changed_.is_leaf(machine) ? machine : MachineId{};
    }

    // Nobody else's pairs change than those of such a guest. False if the cut is something else.
    bool add_leaf(const CutEffect& effect, const ChangedPairs::Use& add) const {
        const MachineId machine = effect.cut.size() == 1 ? leaf(effect.cut.front()) : MachineId{};
        if (machine && std::holds_alternative<routing::NicCut>(effect.cut.front()))
            changed_.each_of_leaf(machine, add);
        return bool(machine);
    }

    void compare_all(const routing::Settled& without, const ChangedPairs::Use& add) const {
        Pairs pairs(whole_, without);
        std::vector<ChangedPairs::Change> changes; // of one column
        for (std::size_t column = 0; column < sum_.columns.size(); ++column) {
            changes.clear();
            for (std::uint32_t row = 0; row < sum_.rows.size(); ++row)
                pairs.each(row, column, [&](const PairOfNics& pair) {
                    bool replied = pairs.gets_answer(pair, 0);
                    bool replies = pairs.gets_answer(pair, 0, 1);
                    if (replied != replies || (replied && pairs.is_moved(pair)))
                        changes.push_back({.row = row,
                                           .from = pair.from,
                                           .to = pair.to,
                                           .replied = replied,
                                           .replies = replies,
                                           .pairs = pair.pairs});
                });
            add(column, changes);
        }
    }

    bool is_own(const ChangedPairs::Change& change, const CutEffect& effect) const {
        return std::ranges::any_of(effect.cut, [&](const Cut& cut) {
            const auto* nic = std::get_if<routing::NicCut>(&cut);
            return nic != nullptr
                   && (lab_.nics[change.from].machine == lab_.nics[nic->nic].machine
                       || lab_.nics[change.to].machine == lab_.nics[nic->nic].machine);
        });
    }

    std::optional<routing::Duration> settling_time(const routing::Settled& without) const {
        std::optional<routing::Duration> longest;
        for (const auto& time : convergence_.to(*without.lessons(), without.condition()))
            if (time && time->count() > 0)
                longest = std::max(longest.value_or(*time), *time);
        return longest;
    }

    std::unique_ptr<ChangedPairs::Worker> take_worker() {
        std::scoped_lock alone(workers_mutex_);
        if (idle_.empty())
            return std::make_unique<ChangedPairs::Worker>(changed_);
        auto worker = std::move(idle_.back());
        idle_.pop_back();
        return worker;
    }
    void give_back(std::unique_ptr<ChangedPairs::Worker> worker) {
        std::scoped_lock alone(workers_mutex_);
        idle_.push_back(std::move(worker));
    }

    std::vector<CutEffect> wanted_;
    const routing::Settled& settled_;
    const Lab& lab_;
    const GridQuestion question_;
    const Pairs whole_;
    const ChangedPairs changed_;
    const routing::Convergence convergence_;
    std::vector<std::size_t> holding_; // expectations that hold in the whole lab
    Sweep sum_;                        // without cuts
    std::mutex workers_mutex_;
    std::vector<std::unique_ptr<ChangedPairs::Worker>> idle_;
};

Sweeping::Sweeping(const routing::Settled& settled, const SweepQuestion& question)
    : work_(std::make_unique<Work>(settled, question)) {}
Sweeping::~Sweeping() = default;

std::size_t Sweeping::size() const {
    return work_->wanted().size();
}

const CutEffect& Sweeping::cut(std::size_t number) const {
    return work_->wanted().at(number);
}

CutEffect Sweeping::effect(std::size_t number) const {
    return work_->effect(number);
}

Sweep Sweeping::sum_up(std::vector<std::optional<CutEffect>> effects) const {
    return work_->sum_up(std::move(effects));
}

std::vector<Cut> cuts(const routing::Settled& settled, CutKind kind) {
    return Lister(settled).run(kind);
}

Sweep sweep(const routing::Settled& settled, const SweepQuestion& question,
            const std::function<bool(std::size_t, std::size_t)>& progress) {
    const Sweeping sweeping(settled, question);
    const std::size_t count = sweeping.size();
    std::atomic<std::size_t> done = 0;
    std::atomic<bool> stopped = false;
    std::mutex telling;
    std::vector<std::optional<CutEffect>> effects(count);
    in_parallel(count, 1, std::max(1U, question.threads),
                [&](unsigned, std::size_t first, std::size_t last) {
                    for (std::size_t i = first; i < last && !stopped; ++i) {
                        effects[i] = sweeping.effect(i);
                        std::scoped_lock alone(telling);
                        if (progress && !progress(++done, count))
                            stopped = true;
                    }
                });
    return sweeping.sum_up(std::move(effects));
}

} // namespace jackal::reach
