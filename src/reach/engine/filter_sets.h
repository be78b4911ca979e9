// Whom filters let pass, for all senders at once.
#pragma once

#include "reach/engine/classes.h"
#include "reach/engine/points.h"

#include <algorithm>
#include <memory>

namespace jackal::reach {

using Bits = std::vector<std::uint64_t>;

inline bool has_bit(const Bits& bits, std::size_t at) {
    return bits[at / 64] >> at % 64 & 1;
}

inline void clear_bit(Bits& bits, std::size_t at) {
    bits[at / 64] &= ~(std::uint64_t{1} << at % 64);
}

inline void set_bit(Bits& bits, std::size_t at) {
    bits[at / 64] |= std::uint64_t{1} << at % 64;
}

/// Calls use(word, mask) for the words that the bits from `first` up to `last` stand in.
template <class Use>
void each_word(std::size_t first, std::size_t last, Use use) {
    while (first < last) {
        std::size_t end = std::min(last, (first / 64 + 1) * 64);
        std::uint64_t mask = ~std::uint64_t{0} >> (64 - (end - first)) << first % 64;
        use(first / 64, mask);
        first = end;
    }
}

/// What the filters of a lab make of packets between classes. The rules of one filter tell only so
/// many classes apart as they name prefixes. Refers to what it is made from. Threads may share one.
class FilterSets {
  public:
    FilterSets(const lab::Lab& lab, const std::vector<EndClass>& classes, const Packets& packets);

    /// Which of the kinds that the filter tells apart a class is of.
    std::uint32_t kind(lab::FilterId filter, std::size_t end_class) const {
        return views_[filter.row].kinds[end_class];
    }
    /// How many those are.
    std::size_t kinds(lab::FilterId filter) const { return views_[filter.row].samples.size(); }
    /// The classes whose requests to such a target pass: a bit for each. Nothing if that is all.
    std::optional<Bits> senders(FilterCheck check, std::uint32_t target_kind) const;
    /// Whether an answer from one class to another passes, by itself.
    bool passes_answer(FilterCheck check, std::size_t from, std::size_t to) const;
    std::size_t words() const { return words_; }
    std::size_t count() const { return views_.size(); }

  private:
    struct View {
        std::vector<std::uint32_t> kinds;   // by class
        std::vector<std::uint32_t> samples; // by kind: a class of it, or none
        std::vector<Bits> members;          // by kind: the classes; empty if there are many kinds
    };
    View view(const lab::Filter& filter) const;
    bool passes(FilterCheck check, std::size_t from, std::size_t to, bool is_answer) const;

    static constexpr std::uint32_t none = ~std::uint32_t{0};
    const lab::Lab& lab_;
    const Packets& packets_;
    std::vector<net::Address> addresses_;   // by class, of its first member
    std::vector<std::uint32_t> by_address_; // the classes in that order
    std::size_t words_;
    std::vector<View> views_; // by filter
};

/// The same along lists of points, for one target after another. Not to be shared by threads.
class PassingSets {
  public:
    PassingSets(const FilterSets& filters, const Points& points);

    void aim_at(std::size_t target);
    /// The senders whose requests all machines of a list let pass; null if that is all.
    const Bits* along(std::uint32_t list);
    /// The same of a filter.
    const Bits* through(const FilterCheck& check);
    /// True if no filter, wherever it stands, denies anybody's requests. Kept for each target.
    bool lets_all_pass();

  private:
    const FilterSets& filters_;
    const Points& points_;
    std::size_t target_ = 0;
    std::uint32_t turn_ = 0;
    // By filter and way: by the target's kind.
    struct Checked {
        bool is_known = false;
        std::unique_ptr<const Bits> set;
    };
    std::vector<std::vector<Checked>> checked_;
    std::size_t checked_words_ = 0;
    enum class Lets : std::uint8_t { unknown, all, some };
    std::vector<Lets> lets_;                  // by target
    std::vector<std::uint32_t> turns_;        // by list: of its set
    std::vector<const Bits*> sets_;           // by list
    std::vector<std::unique_ptr<Bits>> made_; // for this target
    std::size_t made_count_ = 0;
};

} // namespace jackal::reach
