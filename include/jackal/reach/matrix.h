// Which ends of a lab get a reply from which: every pair at once.
//
//     reach::Matrix matrix = reach::matrix(settled, reach::ends(lab, net::Family::ipv4));
//     for (std::size_t from = 0; from < matrix.ends().size(); ++from)
//         if (!matrix.reaches(from, to)) …
//
// The verdict is that of an exchange (probe/exchange.h) for every pair, but no pair is asked. Ends
// that nothing tells apart, but what comes of their own addresses, are one class. For each class
// the machines' next hops towards it form a graph (packet/decide.h says who passes it to whom), and
// that is followed once for all senders. Filters are asked apart, once for each set of senders and
// targets that their rules tell apart; what comes back is let through by the machines that the
// request passed, and asked of the others.
//
// Some of it is walked, two packet walks a pair: pairs of which one end has an address that another
// machine has too, or that is a broadcast address; those that a translation on the way may change;
// those whose packets are fragmented; and those that equal next hops lead to different ends or past
// different filters, as the two addresses decide which is taken. Such pairs are counted in
// `walked`.
//
// For n classes, m machines and e entrances (machines that forward, and others that are no plain
// guests): O(n m) time for the graphs, O(n^2) bits for the matrix, 16 n e bytes meanwhile.
#pragma once

#include "jackal/api.h"
#include "jackal/routing/settled.h"

#include <bit>
#include <functional>
#include <memory>
#include <unordered_map>
#include <vector>

namespace jackal::reach {

/// What every end asks every other.
struct Asking {
    std::optional<net::Service> service; ///< unset: an echo request of 56 bytes
    bool is_served = false;              ///< takes it that something listens wherever it is asked
    bool is_one_way = false;             ///< whether it arrives, not whether an answer does
    bool keeps_ways = false;             ///< for Matrix::way
    unsigned threads = 1;
};

class MatrixWays;

/// See above. Refers to nothing, but to the lab if it keeps ways; threads may share one.
class JACKAL_API Matrix {
  public:
    /// Of one family, in the order in which they were given.
    const std::vector<lab::AddressId>& ends() const { return ends_; }

    /// True if the machine with the address `from` of ends(), sending from it, gets an answer from
    /// the address `to`.
    bool reaches(std::size_t from, std::size_t to) const {
        if (from == to)
            return bit(self_, class_of_[from]);
        std::size_t cell = std::size_t{class_of_[to]} * words_ * 64 + class_of_[from];
        if (!bit(unsettled_, cell))
            return bit(cells_, cell);
        const std::vector<bool>& pairs = each_.at(cell);
        return pairs[std::size_t{place_[to]} * sizes_[class_of_[from]] + place_[from]];
    }
    /// True if the pair was walked; of others it holds for all pairs of the two classes, but of an
    /// end and itself.
    bool is_walked(std::size_t from, std::size_t to) const {
        return bit(unsettled_, std::size_t{class_of_[to]} * words_ * 64 + class_of_[from]);
    }
    /// Stands for the way there and back, of a pair that is neither walked nor an end and itself:
    /// if it is the same under another condition of the lab, the packets pass the same machines,
    /// and leave each by the same NIC; what is left out are the ends' own NICs, and that by which
    /// the last machine sends to the end. Needs Asking::keeps_ways.
    std::uint64_t way(std::size_t from, std::size_t to) const;
    /// Calls found(c) for classes of which not every end surely gets an answer from the end `to`.
    template <class Found>
    void each_class_in_doubt(std::size_t to, Found found) const {
        each_class(
            to, [&](std::size_t w) { return ~cells_[w] | unsettled_[w]; }, found);
    }
    /// Calls found(c) for classes whose pairs with the end `to` were walked.
    template <class Found>
    void each_walked_class(std::size_t to, Found found) const {
        each_class(
            to, [&](std::size_t w) { return unsettled_[w]; }, found);
    }
    /// How many ends get an answer from how many, an end and itself left out.
    std::uint64_t replies() const;

    std::size_t classes() const { return sizes_.size(); }
    std::uint32_t class_of(std::size_t end) const { return class_of_[end]; }
    /// Pairs of ends that were walked.
    std::uint64_t walked() const { return walked_; }

  private:
    friend class MatrixMaker;
    friend class MatrixIndex;
    using Bits = std::vector<std::uint64_t>;
    static bool bit(const Bits& bits, std::size_t at) { return bits[at / 64] >> at % 64 & 1; }
    template <class Word, class Found>
    void each_class(std::size_t to, Word word, Found found) const {
        std::size_t row = class_of_[to] * words_;
        for (std::size_t w = 0; w < words_; ++w)
            for (std::uint64_t left = word(row + w); left != 0; left &= left - 1) {
                std::size_t c = w * 64 + static_cast<std::size_t>(std::countr_zero(left));
                if (c < sizes_.size())
                    found(c);
            }
    }

    std::vector<lab::AddressId> ends_;
    std::vector<std::uint32_t> class_of_; // by end
    std::vector<std::uint32_t> place_;    // by end: its position in its class
    std::vector<std::uint32_t> sizes_;    // by class
    std::size_t words_ = 0;               // of 64 senders each, in a row
    Bits cells_;                          // a row for each class as target, a bit for each sender
    Bits unsettled_;                      // the same: those that are in each_
    Bits self_;                           // by class: whether an end reaches itself
    std::unordered_map<std::size_t, std::vector<bool>> each_; // by cell: target by target
    std::uint64_t walked_ = 0;
    std::shared_ptr<const MatrixWays> ways_;
};

/// The addresses of the family that the machines of the lab have, outside or not, in the order of
/// their NICs.
JACKAL_API std::vector<lab::AddressId> ends(const lab::Lab& lab, net::Family family);

/// What comes of `asking` between all of `ends`, addresses of one family, in the lab and condition
/// of `settled`. Throws std::length_error beyond limits::matrix_words or limits::walked_pairs.
JACKAL_API Matrix matrix(const routing::Settled& settled, std::vector<lab::AddressId> ends,
                         const Asking& asking = {});

} // namespace jackal::reach
