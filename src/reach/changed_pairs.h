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
        std::uint32_t row = 0;
        lab::NicId from;
        lab::NicId to;
        bool replied = false;
        bool replies = false;
        bool is_whole_cell = false; ///< no other change is of this row and column
        std::uint64_t pairs = 1;
    };
    /// Calls use(column, changes) for each column that has any, in ascending order. False, and
    /// perhaps some calls made, if all pairs have to be compared.
    using Use = std::function<void(std::size_t, std::span<const Change>)>;
    bool each(const routing::Settled& other, Worker& worker, const Use& use) const;

    /// Of the whole lab, what Pairs::each tells of a column. Nothing if they are too many to be
    /// looked at one by one.
    struct Count {
        std::uint64_t pairs = 0;
        std::uint64_t replies = 0;
    };
    std::optional<Count> count(std::size_t column) const;

    /// True of a machine with one NIC of which nobody else's packets know.
    bool is_leaf(lab::MachineId machine) const;
    /// The same for all that a leaf has a part in, if it loses its NIC.
    void each_of_leaf(lab::MachineId machine, const Use& use) const;

  private:
    using Alike = Pairs::Alike;
    struct Senders {
        std::uint32_t row = 0;
        const Alike* alike = nullptr;
    };
    using Passed = std::vector<std::pair<lab::MachineId, lab::NicId>>; // see passed_by()
    struct WalkedPair {
        std::uint32_t row = 0;
        lab::NicId from;
        lab::NicId to;
    };
    // Of the whole lab, and what those that are kept depend on: by machine and prefix, or by
    // machine alone.
    struct Walks {
        std::vector<WalkedPair> pairs;  // column by column
        std::vector<std::size_t> first; // by column, and the end
        std::size_t kept = 0;           // the first of them
        std::vector<Passed> passed;     // of those, if they get a reply
        std::unordered_map<std::uint64_t, std::vector<std::uint32_t>> by_step;
        std::vector<bool> has_prefix; // by prefix: it leads somewhere

        std::uint32_t column(std::uint32_t walk) const {
            auto behind = std::ranges::upper_bound(first, walk);
            return static_cast<std::uint32_t>(behind - first.begin() - 1);
        }
    };
    // Those of a line that are of one class: so many are read that what is asked of most stands
    // here.
    struct Members {
        std::uint32_t end_class = 0;
        std::uint32_t line = 0;
        lab::NicId first;
        lab::NicId last;
        std::uint32_t plain = 0; // how many
        bool is_only = false;    // there are no others on the line
        const Alike* alike = nullptr;
    };
    // Side by side, by something of theirs.
    class Grouped {
      public:
        void fill(std::vector<Members> all, std::uint32_t Members::*group, std::size_t groups);
        std::span<const Members> of(std::size_t group) const {
            return std::span(all_).subspan(first_[group], first_[group + 1] - first_[group]);
        }

      private:
        std::vector<Members> all_;
        std::vector<std::uint32_t> first_; // by group, and the end
    };
    // How many plain NICs ask, by class.
    struct Weights {
        void add(std::size_t end_class, std::uint32_t nics, std::size_t classes);

        std::vector<std::uint32_t> of;
        std::vector<std::uint64_t> of_word; // of 64 classes
        std::uint64_t all = 0;
    };
    class Comparison;

    void add_walks();
    static Members members(const Pairs::Line& line, std::size_t number, const Alike& alike,
                           net::Family family);
    void count_plain(const Members& target, net::Family family, Count& into) const;
    template <class Tell>
    void each_other_pair(std::size_t column, Tell tell) const;
    template <class Tell>
    void each_walked_pair(const Members& target, net::Family family, Tell tell) const;
    void add_walk(std::uint32_t number);
    void add_steps(const packet::Journey& journey, std::uint32_t walk);

    const Pairs& whole_;
    const lab::Lab& lab_;
    Walks walks_;
    lab::PerFamily<std::unique_ptr<const MatrixIndex>> index_;
    lab::PerFamily<Grouped> senders_; // plain ones, by class
    lab::PerFamily<Grouped> targets_; // by column, then class; plain or not
    lab::PerFamily<std::vector<std::vector<std::uint32_t>>> columns_; // of those, by class
    lab::PerFamily<Weights> weights_;
    Weights weights_without_ipv4_;       // of IPv6: those that have no IPv4 address
    std::vector<Senders> other_senders_; // those that are not plain
    std::vector<Senders> all_senders_;
    std::vector<bool> is_sent_on_to_; // by machine: a translation sends it what is for others
    bool has_others_ = false;
    bool has_few_others_ = true;
};

} // namespace jackal::reach
