#include "reach/questions.h"

#include "jackal/limits.h"

#include <algorithm>

namespace jackal::reach {

Questions::Questions(const lab::Lab& lab, std::span<const lab::MachineId> senders,
                     std::span<const probe::Endpoint> targets, const Foreseen* foreseen)
    : lab_(lab), senders_(senders), targets_(targets), is_single_sender_(senders.size()),
      is_single_target_(targets.size()), doubtful_(senders.size()) {
    std::vector<std::size_t> own(lab.machines.size());
    for (const probe::Endpoint& target : targets)
        ++own[target.machine.row];
    for (lab::MachineId sender : senders)
        pairs_ += targets.size() - own[sender.row];
    if (foreseen != nullptr)
        find_singles(*foreseen);
    for (std::uint32_t target = 0; target < targets.size(); ++target)
        if (!is_single_target_[target])
            others_.push_back(target);
    if (matrix_ != nullptr)
        collect_doubtful(*matrix_);
}

void Questions::find_singles(const Foreseen& foreseen) {
    std::vector<std::uint32_t> sender_of(lab_.machines.size(), nowhere);
    for (std::uint32_t sender = 0; sender < senders_.size(); ++sender)
        sender_of[senders_[sender].row] = sender;
    lab::PerFamily<std::vector<Single>> singles;
    for (std::uint32_t target = 0; target < targets_.size(); ++target) {
        std::uint32_t sender = sender_of[targets_[target].machine.row];
        if (sender == nowhere)
            continue;
        if (auto end = foreseen.only_end(targets_[target].machine))
            singles[end->family].push_back({sender, target, end->place});
    }
    net::Family family = singles[net::Family::ipv4].size() < singles[net::Family::ipv6].size()
                             ? net::Family::ipv6
                             : net::Family::ipv4;
    singles_ = std::move(singles[family]);
    matrix_ = &foreseen.matrix(family);
    for (const Single& single : singles_) {
        is_single_sender_[single.sender] = true;
        is_single_target_[single.target] = true;
    }
}

void Questions::collect_doubtful(const Matrix& matrix) {
    std::vector<std::vector<const Single*>> by_class(matrix.classes());
    for (const Single& single : singles_)
        by_class[matrix.class_of(single.end)].push_back(&single);
    std::size_t kept = 0;
    for (const Single& target : singles_) {
        std::size_t doubtful = 0;
        matrix.each_class_in_doubt(target.end, [&](std::size_t c) {
            for (const Single* one : by_class[c]) {
                if (one->sender == target.sender)
                    continue;
                ++doubtful;
                if (++kept <= limits::checked_pairs) // more are never asked
                    doubtful_[one->sender].push_back(target.target);
            }
        });
        answered_ += singles_.size() - 1 - doubtful;
    }
}

} // namespace jackal::reach
