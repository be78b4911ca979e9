// Which machines check has to ask one by one, and what one matrix tells of all others.
#pragma once

#include "reach/foreseen.h"

#include <algorithm>
#include <map>
#include <numeric>
#include <span>

namespace jackal::reach {

/// The questions of `senders`, each to all `targets` but itself. They need not be asked where a
/// matrix tells at once that all addresses of the one get replies from all that may be meant of the
/// other, whichever are taken. Refers to what it is made from.
class Questions {
  public:
    Questions(const lab::Lab& lab, std::span<const lab::MachineId> senders,
              std::span<const probe::Endpoint> targets, const Foreseen* foreseen);

    std::size_t pairs() const { return pairs_; }
    /// How many of them need not be asked, as they get their replies.
    std::size_t answered() const { return answered_; }

    /// Calls found(one, other) for sites of which some machine of the other needs not be asked.
    template <class Found>
    void each_answered_site(Found found) const;

    /// Calls ask(sender, target), positions, for those that have to be asked, sender by sender; if
    /// they are more than `most`, for so many, in an order in which every machine soon has its turn
    /// at both ends.
    template <class Ask>
    void each(std::size_t most, Ask ask) const;

  private:
    static constexpr std::uint32_t nowhere = ~std::uint32_t{0};
    // A sender or target, with its addresses in the matrix.
    struct Known {
        std::uint32_t number = 0; // of the sender or target
        lab::MachineId machine;
        std::vector<std::size_t> ends;
    };

    void find_known(const Foreseen& foreseen);
    void collect_doubtful();
    bool is_sure(const Known& sender, const Known& target) const;
    bool is_own(std::size_t sender, std::size_t target) const {
        return senders_[sender] == targets_[target].machine;
    }
    template <class Ask>
    void each_of(std::uint32_t sender, Ask ask) const;
    template <class Ask>
    void each_spread(std::size_t most, Ask ask) const;

    const lab::Lab& lab_;
    std::span<const lab::MachineId> senders_;
    std::span<const probe::Endpoint> targets_;
    std::size_t pairs_ = 0;
    std::size_t answered_ = 0;
    const Matrix* matrix_ = nullptr;
    std::vector<Known> known_senders_; // of the family that most ask by
    std::vector<Known> known_targets_;
    std::vector<bool> is_known_sender_;  // by sender
    std::vector<bool> is_known_machine_; // by machine: that it is such a sender
    std::vector<bool> is_known_target_;  // by target
    std::vector<std::uint32_t> others_;  // targets that are not known
    // Targets, by sender, both known, of which the matrix does not tell that they reply.
    std::vector<std::vector<std::uint32_t>> doubtful_;
};

template <class Found>
void Questions::each_answered_site(Found found) const {
    std::map<lab::SiteId, std::array<std::vector<const Known*>, 2>> sites;
    for (const auto* known : {&known_senders_, &known_targets_})
        for (const Known& one : *known)
            if (lab::SiteId site = lab_.site_of(one.machine))
                sites[site][known == &known_targets_].push_back(&one);
    for (const auto& [from, ones] : sites)
        for (const auto& [to, others] : sites)
            if (std::ranges::any_of(ones[0], [&](const Known* one) {
                    return std::ranges::any_of(others[1], [&](const Known* other) {
                        return one->machine != other->machine && is_sure(*one, *other);
                    });
                }))
                found(from, to);
}

template <class Ask>
void Questions::each(std::size_t most, Ask ask) const {
    if (pairs_ - answered_ > most)
        return each_spread(most, ask);
    for (std::uint32_t sender = 0; sender < senders_.size(); ++sender)
        each_of(sender, ask);
}

template <class Ask>
void Questions::each_of(std::uint32_t sender, Ask ask) const {
    auto ask_other = [&](std::uint32_t target) {
        if (!is_own(sender, target))
            ask(sender, target);
    };
    if (is_known_sender_[sender]) {
        std::vector<std::uint32_t> all;
        std::ranges::merge(others_, doubtful_[sender], std::back_inserter(all));
        std::ranges::for_each(all, ask_other);
        return;
    }
    for (std::uint32_t target = 0; target < targets_.size(); ++target)
        ask_other(target);
}

template <class Ask>
void Questions::each_spread(std::size_t most, Ask ask) const {
    std::size_t left = most;
    for (std::uint32_t sender = 0; sender < senders_.size(); ++sender)
        for (std::uint32_t target : doubtful_[sender]) {
            if (left <= most / 2)
                break;
            ask(sender, target);
            --left;
        }
    std::size_t step = targets_.size() * 5 / 8; // far from those that come before and after
    while (std::gcd(step, targets_.size()) != 1)
        ++step;
    std::size_t start = 0;
    for (std::size_t round = 0; round < targets_.size(); ++round, start += step)
        for (std::uint32_t sender = 0; sender < senders_.size(); ++sender) {
            auto target = static_cast<std::uint32_t>((start + sender) % targets_.size());
            if (is_own(sender, target) || (is_known_sender_[sender] && is_known_target_[target]))
                continue;
            if (left-- == 0)
                return;
            ask(sender, target);
        }
}

} // namespace jackal::reach
