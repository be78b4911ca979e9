#include "jackal/reach/sweep.h"

#include "jackal/limits.h"
#include "jackal/reach/verify.h"
#include "jackal/sorted.h"
#include "reach/pairs.h"
#include "reach/parallel.h"

#include <algorithm>
#include <atomic>
#include <fmt/format.h>
#include <mutex>
#include <stdexcept>

namespace jackal::reach {

using lab::Lab;
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

    bool can_be_cut(lab::MachineId machine) const {
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
        for (lab::MachineId machine : lab_.machines.ids())
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

class Sweeper {
  public:
    Sweeper(const routing::Settled& settled, const SweepQuestion& question)
        : settled_(settled), lab_(settled.lab()),
          threads_(std::max(1U, question.threads)), question_{.kind = question.kind,
                                                              .family = question.family,
                                                              .service = question.service,
                                                              .threads = threads_},
          whole_(settled, question_, {{.service = question.service, .keeps_ways = true}}, true),
          row_names_(whole_.rows()), column_names_(whole_.columns()) {
        for (std::size_t row = 0; row < row_names_.size(); ++row)
            for (std::size_t column = 0; column < column_names_.size(); ++column)
                whole_.each(row, column, [&](const PairOfNics& pair) {
                    sweep_.pairs += pair.pairs;
                    sweep_.replies += whole_.gets_answer(pair, 0) ? pair.pairs : 0;
                });
        for (std::size_t i = 0; i < lab_.expectations.size(); ++i) {
            const plan::Expectation& wanted = lab_.expectations[i];
            if (wanted.cuts.empty() && wanted.any_cuts == 0 && verify(settled, i).passed)
                holding_.push_back(i);
        }
    }

    Sweep run(const std::vector<CutEffect>& wanted,
              const std::function<bool(std::size_t, std::size_t)>& progress) {
        sweep_.asked = wanted.size();
        std::atomic<std::size_t> done = 0;
        std::atomic<bool> stopped = false;
        std::mutex telling;
        std::vector<std::optional<CutEffect>> effects(wanted.size());
        in_parallel(wanted.size(), 1, threads_, [&](unsigned, std::size_t first, std::size_t last) {
            for (std::size_t i = first; i < last && !stopped; ++i) {
                effects[i] = wanted[i];
                look_into(*effects[i]);
                std::scoped_lock alone(telling);
                if (progress && !progress(++done, wanted.size()))
                    stopped = true;
            }
        });
        for (std::optional<CutEffect>& effect : effects)
            if (effect)
                sweep_.cuts.push_back(std::move(*effect));
        std::ranges::stable_sort(sweep_.cuts, std::greater(), [](const CutEffect& effect) {
            return std::tuple(effect.lost, effect.expectations.size(), effect.moved, effect.gained);
        });
        return std::move(sweep_);
    }

  private:
    void look_into(CutEffect& effect) const {
        routing::Condition condition = settled_.condition();
        for (const Cut& cut : effect.cut)
            condition.apply(cut);
        const routing::Settled without = routing::resettle(settled_, condition);
        Pairs pairs(whole_, without);
        for (std::size_t row = 0; row < row_names_.size(); ++row)
            for (std::size_t column = 0; column < column_names_.size(); ++column)
                compare(pairs, row, column, without.condition(), effect);
        std::ranges::stable_sort(effect.losses, std::greater(), [](const CutLoss& loss) {
            return std::pair(loss.lost, loss.moved);
        });
        for (std::size_t i : holding_)
            if (!verify(without, i).passed)
                effect.expectations.push_back(i);
        if (lab_.speakers.size() != 0)
            effect.settles_after = settling_time(without);
    }

    void compare(Pairs& pairs, std::size_t row, std::size_t column,
                 const routing::Condition& condition, CutEffect& effect) const {
        CutLoss loss;
        pairs.each(row, column, [&](const PairOfNics& pair) {
            if (!condition.machine_on(lab_.nics[pair.from].machine)
                || !condition.machine_on(lab_.nics[pair.to].machine))
                return;
            bool replied = pairs.gets_answer(pair, 0);
            bool replies = pairs.gets_answer(pair, 0, 1);
            if (replied && !replies) {
                loss.lost += pair.pairs;
                effect.own += is_own(pair, effect) ? pair.pairs : 0;
            } else if (!replied && replies)
                effect.gained += pair.pairs;
            else if (replied && pairs.is_moved(pair))
                loss.moved += pair.pairs;
        });
        if (loss.lost == 0 && loss.moved == 0)
            return;
        loss.from = row_names_[row];
        loss.to = column_names_[column];
        effect.lost += loss.lost;
        effect.moved += loss.moved;
        effect.losses.push_back(std::move(loss));
    }

    bool is_own(const PairOfNics& pair, const CutEffect& effect) const {
        return std::ranges::any_of(effect.cut, [&](const Cut& cut) {
            const auto* nic = std::get_if<routing::NicCut>(&cut);
            return nic != nullptr
                   && (lab_.nics[pair.from].machine == lab_.nics[nic->nic].machine
                       || lab_.nics[pair.to].machine == lab_.nics[nic->nic].machine);
        });
    }

    std::optional<routing::Duration> settling_time(const routing::Settled& without) const {
        std::optional<routing::Duration> longest;
        for (const auto& time : routing::convergence(lab_, *settled_.lessons(), *without.lessons(),
                                                     without.condition()))
            if (time && time->count() > 0)
                longest = std::max(longest.value_or(*time), *time);
        return longest;
    }

    const routing::Settled& settled_;
    const Lab& lab_;
    const unsigned threads_;
    const GridQuestion question_;
    Pairs whole_;
    const std::vector<std::string> row_names_;
    const std::vector<std::string> column_names_;
    std::vector<std::size_t> holding_; // expectations that hold in the whole lab
    Sweep sweep_;
};

} // namespace

std::vector<Cut> cuts(const routing::Settled& settled, CutKind kind) {
    return Lister(settled).run(kind);
}

Sweep sweep(const routing::Settled& settled, const SweepQuestion& question,
            const std::function<bool(std::size_t, std::size_t)>& progress) {
    std::vector<CutEffect> singles;
    for (CutKind kind :
         question.what.empty() ? all_cut_kinds() : std::span<const CutKind>(question.what))
        for (Cut& cut : cuts(settled, kind))
            singles.push_back({.cut = {std::move(cut)}, .kind = kind});
    std::size_t count =
        question.at_once == 1 ? singles.size() : singles.size() * (singles.size() - 1) / 2;
    if (singles.size() > limits::sweep_cuts || count > limits::sweep_cuts)
        throw std::length_error(fmt::format("{} cuts are more than {}", count, limits::sweep_cuts));
    std::vector<CutEffect> wanted;
    for (std::size_t one = 0; one < singles.size() && question.at_once == 2; ++one)
        for (std::size_t other = one + 1; other < singles.size(); ++other)
            wanted.push_back({.cut = {singles[one].cut.front(), singles[other].cut.front()},
                              .kind = singles[one].kind});
    return Sweeper(settled, question)
        .run(question.at_once == 1 ? std::move(singles) : std::move(wanted), progress);
}

} // namespace jackal::reach
