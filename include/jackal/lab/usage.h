// How full the address spaces of a lab are, where there is room, and whose an address is.
#pragma once

#include "jackal/api.h"
#include "jackal/lab/lab.h"
#include "jackal/net/prefix_table.h"

namespace jackal::lab {

/// One prefix of a segment and what of it is in use.
struct PrefixUsage {
    SegmentId segment;
    SiteId site; ///< none for links and loopbacks
    net::Prefix prefix;
    std::optional<net::Address> gateway;
    std::optional<net::Range> dhcp; ///< what DHCP gives out
    std::uint64_t reserved = 0;     ///< usable addresses that are reserved, at most 2^63
    std::uint64_t used = 0;         ///< addresses of NICs inside the prefix
    std::uint64_t free = 0;         ///< usable, not set aside, and of no NIC; at most 2^63
    /// Of an IPv4 subnet with `hosts`: how many hosts more than those would still have room.
    std::optional<std::uint64_t> growth_left;
};

/// A row for each prefix, subnets before links before loopbacks, in plan order, IPv4 before IPv6.
JACKAL_API std::vector<PrefixUsage> usage(const Lab& lab);

/// One space of a site or a pool, and what of it is in use: by subnets, links and loopbacks, and of
/// a site's space also what pools take out of it.
struct SpaceUsage {
    SiteId site; ///< or
    PoolId pool; ///< one of the two is none
    net::Prefix space;
    double used_share = 0;         ///< 0 to 1
    std::vector<double> parts;     ///< used share of each 32nd of it (of each address, if fewer)
    std::vector<net::Prefix> free; ///< the largest aligned blocks, ascending
};

/// A row for each space of each site, then of each pool, in plan order. O(n log n).
JACKAL_API std::vector<SpaceUsage> space_usage(const Lab& lab);

/// Free blocks in which a new subnet of one size would fit.
struct Room {
    SiteId site;
    net::Prefix first;       ///< the first place in the block for a prefix of the length asked for
    net::Prefix block;       ///< all of the free block
    std::uint64_t count = 0; ///< how many of them the block holds, at most 2^63
};

/// Where a new subnet with a prefix of `length` could go, in the order in which the planner would
/// choose: in each site the smallest block first.
JACKAL_API std::vector<Room> rooms(const Lab& lab, net::Family family, int length);

/// What an address is in a lab.
struct Whose {
    enum class Kind : std::uint8_t {
        machine,   ///< one or more NICs have it
        gateway,   ///< the gateway of its subnet, which no machine has
        network,   ///< the first address of its prefix, which names the prefix itself
        broadcast, ///< the last address of an IPv4 prefix
        dhcp,      ///< part of what its subnet gives out by DHCP
        reserved,  ///< part of a subnet, and never given out
        free,      ///< part of a subnet or link, and nobody's
        space,     ///< part of the space of a site or pool, but of no subnet or link
        lan,       ///< part of the physical network around the lab
        outside,   ///< no part of the lab
    };
    Kind kind = Kind::outside;
    std::span<const Owner> owners;     ///< of machine
    SegmentId segment;                 ///< whose prefix holds it most closely, or none
    std::optional<net::Prefix> prefix; ///< of the segment, the space, or the network around
    SiteId site;                       ///< none for links, pools and outside
    PoolId pool;                       ///< of space, where it is a pool's
};

/// Tells whose an address is: built once in O(n log n), then O(log n) for each question. Refers to
/// its lab, which must outlive it. It never changes, so threads may share one.
class JACKAL_API AddressMap {
  public:
    explicit AddressMap(const Lab& lab);
    explicit AddressMap(const Lab&& lab) = delete;

    Whose whose(net::Address address) const;

  private:
    struct Space {
        net::Prefix prefix;
        SiteId site;
        PoolId pool;
    };
    struct Range {
        net::Prefix prefix;
        SegmentId segment;
    };

    const Lab* lab_;
    std::vector<Range> ranges_;
    std::vector<Space> spaces_;
    net::PrefixTable range_table_; // values are positions in ranges_
    net::PrefixTable space_table_; // values are positions in spaces_
};

} // namespace jackal::lab
