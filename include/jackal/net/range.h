// Runs of addresses that need not be a prefix: `10.40.8.10-10.40.8.19`.
#pragma once

#include "jackal/api.h"
#include "jackal/net/prefix.h"

namespace jackal::net {

/// The addresses from first to last, both included; both of one family, first not after last.
struct Range {
    Address first;
    Address last;

    bool contains(Address a) const { return first <= a && a <= last; }
    /// True if all of `other` lies inside.
    bool contains(const Range& other) const { return first <= other.first && other.last <= last; }
    bool overlaps(const Range& other) const { return first <= other.last && other.first <= last; }
    /// How many addresses it holds, at most 2^63.
    JACKAL_API std::uint64_t size() const;

    friend bool operator==(const Range&, const Range&) = default;
};

/// Reads `FIRST-LAST`, one address, or a prefix.
JACKAL_API std::optional<Range> parse_range(std::string_view text);

/// `10.40.8.10-10.40.8.19`, or the address alone if there is only one.
JACKAL_API std::string to_string(const Range& range);

} // namespace jackal::net
