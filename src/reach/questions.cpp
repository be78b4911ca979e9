#include "reach/questions.h"

#include "jackal/limits.h"

#include <algorithm>

namespace jackal::reach {

Questions::Questions(const lab::Lab& lab, std::span<const lab::MachineId> senders,
                     std::span<const probe::Endpoint> targets, const Foreseen* foreseen)
    : lab_(lab), senders_(senders), targets_(targets), is_known_sender_(senders.size()),
      is_known_machine_(lab.machines.size()), is_known_target_(targets.size()),
      doubtful_(senders.size()) {
    std::vector<std::size_t> own(lab.machines.size());
    for (const probe::Endpoint& target : targets)
        ++own[target.machine.row];
    for (lab::MachineId sender : senders)
        pairs_ += targets.size() - own[sender.row];
    if (foreseen != nullptr)
        find_known(*foreseen);
    for (std::uint32_t target = 0; target < targets.size(); ++target)
        if (!is_known_target_[target])
            others_.push_back(target);
    if (matrix_ != nullptr)
        collect_doubtful();
}

void Questions::find_known(const Foreseen& foreseen) {
    // A machine with addresses of both families asks by IPv4 whoever has one, too.
    lab::PerFamily<std::vector<Known>> senders;
    for (std::uint32_t i = 0; i < senders_.size(); ++i)
        for (net::Family family : net::both_families)
            if (auto ends = foreseen.ends(senders_[i], {}, family); !ends.empty()) {
                senders[family].push_back({i, senders_[i], std::move(ends)});
                break;
            }
    const net::Family family =
        senders.ipv4.size() < senders.ipv6.size() ? net::Family::ipv6 : net::Family::ipv4;
    known_senders_ = std::move(senders[family]);
    for (std::uint32_t i = 0; i < targets_.size(); ++i)
        if (auto ends = foreseen.ends(targets_[i].machine, targets_[i].nic, family); !ends.empty())
            known_targets_.push_back({i, targets_[i].machine, std::move(ends)});
    matrix_ = &foreseen.matrix(family);
    for (const Known& sender : known_senders_) {
        is_known_sender_[sender.number] = true;
        is_known_machine_[sender.machine.row] = true;
    }
    for (const Known& target : known_targets_)
        is_known_target_[target.number] = true;
}

bool Questions::is_sure(const Known& sender, const Known& target) const {
    return std::ranges::all_of(sender.ends, [&](std::size_t from) {
        return std::ranges::all_of(target.ends,
                                   [&](std::size_t to) { return matrix_->reaches(from, to); });
    });
}

void Questions::collect_doubtful() {
    std::vector<std::vector<const Known*>> by_class(matrix_->classes());
    for (const Known& sender : known_senders_)
        for (std::size_t end : sender.ends)
            by_class[matrix_->class_of(end)].push_back(&sender);
    std::size_t kept = 0;
    std::vector<std::uint32_t> seen_for(senders_.size(), nowhere); // the last target
    for (const Known& target : known_targets_) {
        std::size_t doubtful = 0;
        for (std::size_t end : target.ends)
            matrix_->each_class_in_doubt(end, [&](std::size_t c) {
                for (const Known* one : by_class[c]) {
                    if (one->machine == target.machine
                        || std::exchange(seen_for[one->number], target.number) == target.number)
                        continue;
                    ++doubtful;
                    if (++kept <= limits::checked_pairs) // more are never asked
                        doubtful_[one->number].push_back(target.number);
                }
            });
        const std::size_t own = is_known_machine_[target.machine.row] ? 1 : 0;
        answered_ += known_senders_.size() - own - doubtful;
    }
}

} // namespace jackal::reach
