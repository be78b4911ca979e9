// The free part of an address space, as aligned blocks.
//
// A buddy system: free space is held as the largest aligned prefixes that fit. Taking the
// smallest block that is large enough, lowest first, wastes least and keeps large blocks whole;
// when wishes are taken largest first, a placement is found whenever one exists, because
// aligned power-of-two blocks either nest or are disjoint. Each operation costs
// O(128 log n) for n free blocks.
#pragma once

#include "jackal/api.h"
#include "jackal/net/prefix.h"

#include <array>
#include <optional>
#include <set>
#include <vector>

namespace jackal::net {

/// Free space of one family; prefixes of the two families must not be mixed in one object. Threads
/// may share one that none of them changes.
class JACKAL_API FreeSpace {
  public:
    /// Makes `prefix` free. It must not overlap what is free already.
    void add(const Prefix& prefix);

    /// Makes `prefix` used; parts of it that are not free are left as they are.
    void remove(const Prefix& prefix);

    /// The free block that take() would cut its answer from, or nothing if none is left.
    std::optional<Prefix> fitting(Family family, int length) const;

    /// Takes a free block of `length` bits (the family's own count), or nothing if none is left.
    std::optional<Prefix> take(Family family, int length);

    /// All free blocks, ascending. O(n log n).
    std::vector<Prefix> blocks() const;

    /// The largest free block, the lowest one of equals.
    std::optional<Prefix> largest() const;

  private:
    std::array<std::set<Prefix>, 129> by_bits_; // index: Prefix::bits128()
};

} // namespace jackal::net
