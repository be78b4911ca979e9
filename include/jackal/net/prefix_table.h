// Longest-prefix match over both families.
//
// A PrefixTable is built once from a list of prefixes with a number each and then only asked. It
// holds the address line cut into disjoint intervals, so a lookup is one binary search:
// O(log n) time, 24 bytes for each interval, at most 2n + 2 intervals for n prefixes.
#pragma once

#include "jackal/api.h"
#include "jackal/net/prefix.h"

#include <vector>

namespace jackal::net {

/// See above. Threads may share one that none of them changes.
class JACKAL_API PrefixTable {
  public:
    struct Entry {
        Prefix prefix;
        std::uint32_t value = 0;
    };

    static constexpr std::uint32_t none = ~std::uint32_t{0};

    PrefixTable() = default;

    /// A table of `entries`, in any order; of several with one prefix the first in the list wins.
    explicit PrefixTable(std::vector<Entry> entries);

    /// The value of the longest prefix that holds `address`, or `none`.
    std::uint32_t lookup(Address address) const;

  private:
    std::vector<Address> starts_;       // ascending; interval i runs up to starts_[i + 1]
    std::vector<std::uint32_t> values_; // parallel to starts_
};

} // namespace jackal::net
