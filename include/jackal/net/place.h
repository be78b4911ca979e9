// Placing subnets in address space, without a plan file.
//
//     std::vector<net::PlaceWish> wishes{{net::Family::ipv4, net::length_for_hosts(60)},
//                                        {net::Family::ipv4, 31}};
//     net::Placements placed = net::place({*net::parse_prefix("10.40.0.0/16")}, {}, wishes);
//     // placed.prefixes[0] is 10.40.0.0/26, placed.prefixes[1] 10.40.0.64/31
//
// Wishes are placed largest first, equal ones in the order given, each in the smallest free block
// that holds it, the lowest of equals. As aligned blocks either nest or are disjoint, that finds a
// place for every wish whenever there is one for all; it wastes least, and keeps large blocks
// whole. The same input always gives the same output. Costs O(n log n) for n spaces, reservations
// and wishes.
#pragma once

#include "jackal/api.h"
#include "jackal/net/free_space.h"

#include <span>

namespace jackal::net {

struct PlaceWish {
    Family family = Family::ipv4;
    int length = 24; ///< of the prefix wanted, in the family's own count
};

/// A wish for which no room was left.
struct Shortage {
    std::size_t wish = 0;          ///< position among the wishes
    std::optional<Prefix> largest; ///< the largest free block of its family at that time, if any
};

struct Placements {
    std::vector<std::optional<Prefix>> prefixes; ///< parallel to the wishes
    std::vector<std::optional<Prefix>> blocks;   ///< the free block that each was cut from
    std::vector<Shortage> shortages;             ///< in the order in which wishes were tried
    std::vector<Prefix> free;                    ///< what is left over, ascending; IPv4 first
};

/// Places `wishes` in `spaces`, clear of `reserved`. Spaces may overlap each other, and be of both
/// families; reservations may lie anywhere.
JACKAL_API Placements place(std::span<const Prefix> spaces, std::span<const Prefix> reserved,
                            std::span<const PlaceWish> wishes);

/// Those of `sorted` (ascending) that share an address with one of `spaces`, so that few of many
/// need be given to place(). O(log n) for each space, and what is found.
JACKAL_API std::vector<Prefix> overlapping(std::span<const Prefix> sorted,
                                           std::span<const Prefix> spaces);

/// The longest IPv4 prefix with at least `hosts` usable addresses (RFC 950: two of a prefix are
/// not), at most 30; 0 if there is none.
JACKAL_API int length_for_hosts(std::uint64_t hosts);

} // namespace jackal::net
