// The pairs of a grid that fare otherwise where little of the lab changes.
#pragma once

#include "reach/engine/changed_matrix.h"
#include "reach/pairs.h"

#include <unordered_map>

namespace jackal::reach {

/// Refers to the pairs of the whole lab, which must have one asking that keeps ways. Threads may
/// share one.
class ChangedPairs {
  public:
    explicit ChangedPairs(const Pairs& whole);

    /// What one thread uses for one change after another.
    class Worker {
      public:
        explicit Worker(const ChangedPairs& all)
            : matrices{ChangedMatrix::Worker(*all.index_.ipv4),
                       ChangedMatrix::Worker(*all.index_.ipv6)} {}

      private:
        friend class ChangedPairs;
        lab::PerFamily<ChangedMatrix::Worker> matrices;
    };

    /// Pairs that lose their replies, or get some, or whose packets go another way.
    struct Change {
        lab::NicId from;
        lab::NicId to;
        std::uint64_t pairs = 1;
        bool replied = false;
        bool replies = false;
    };
    /// Calls use(row, column, change), column by column. False, and perhaps some calls made, if all
    /// pairs have to be compared.
    using Use = std::function<void(std::size_t, std::size_t, const Change&)>;
    bool each(const routing::Settled& other, Worker& worker, const Use& use) const;

    /// True of a machine with one NIC of which nobody else's packets know.
    bool is_leaf(lab::MachineId machine) const;
    /// The same for all that a leaf has a part in, if it loses its NIC.
    void each_of_leaf(lab::MachineId machine, const Use& use) const;

  private:
    using Alike = Pairs::Alike;
    struct Senders {
        std::size_t row = 0;
        const Alike* alike = nullptr;
    };
    // Walks of the whole lab, and what they depend on: by machine and prefix, or by machine alone.
    struct Walks {
        std::unordered_map<std::uint64_t, std::uint32_t> numbers; // by NICs of a pair
        std::unordered_map<std::uint64_t, std::vector<std::uint32_t>> by_step;
        std::vector<std::uint32_t> prefixes;
    };
    class Comparison;

    void add_walks();
    void add_walk(const PairOfNics& pair);
    void add_steps(const packet::Journey& journey, std::uint32_t walk);

    const Pairs& whole_;
    const lab::Lab& lab_;
    Walks walks_;
    lab::PerFamily<std::unique_ptr<const MatrixIndex>> index_;
    // Plain ones of a class, side by side: so many are read that what is asked of most stands here.
    struct PlainSenders {
        std::uint32_t end_class = 0;
        std::uint32_t row = 0;
        lab::NicId first;
        std::uint32_t count = 0;
        const Alike* alike = nullptr;
    };
    class PlainList {
      public:
        void fill(std::vector<PlainSenders> all, std::size_t classes);
        std::span<const PlainSenders> of(std::uint32_t end_class) const {
            return std::span(all_).subspan(first_[end_class],
                                           first_[end_class + 1] - first_[end_class]);
        }

      private:
        std::vector<PlainSenders> all_;
        std::vector<std::uint32_t> first_; // by class, and the end
    };
    lab::PerFamily<PlainList> senders_;
    std::vector<Senders> other_senders_; // those that are not plain
    std::vector<Senders> all_senders_;
    // By column: the classes that are asked there, and those of their NICs that are plain.
    lab::PerFamily<std::vector<std::map<std::uint32_t, std::vector<const Alike*>>>> targets_;
    std::vector<bool> is_sent_on_to_; // by machine: a translation sends it what is for others
    bool has_others_ = false;
    bool has_few_others_ = true;
};

} // namespace jackal::reach
