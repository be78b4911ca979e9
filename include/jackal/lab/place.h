// Where something new could go in a lab that is built already: the numbers that remedies propose.
#pragma once

#include "jackal/api.h"
#include "jackal/lab/lab.h"
#include "jackal/plan/edit.h"

#include <functional>
#include <span>

namespace jackal::lab {

/// A prefix of `length` bits of the site's space (or of private space, RFC 1918, if the site has
/// none of the family) that no segment uses and that overlaps none of `besides`, or nothing.
JACKAL_API std::optional<net::Prefix> free_prefix(const Lab& lab, SiteId site, net::Family family,
                                                  int length,
                                                  std::span<const net::Prefix> besides = {});

/// Private space of `length` bits for a site, overlapping nothing in the lab and none of `besides`:
/// of 10.0.0.0/8 (RFC 1918), or the prefix that `words` give (RFC 4193, always a /48). Nothing if
/// there is none.
JACKAL_API std::optional<net::Prefix> free_space(const Lab& lab, net::Family family, int length,
                                                 std::string_view words,
                                                 std::span<const net::Prefix> besides = {});

/// The change that makes room for something that found none: further private space (RFC 1918)
/// for the site, overlapping nothing in the lab. Nothing for IPv6, whose private prefixes are
/// drawn at random (RFC 4193), and for addresses inside a subnet.
JACKAL_API std::vector<plan::Edit> make_room(const Lab& lab, const Unplaced& unplaced);

/// The lowest usable address of a segment that nobody has, that is not its gateway, and none of
/// `besides`.
JACKAL_API std::optional<net::Address> free_address(const Lab& lab, SegmentId segment,
                                                    net::Family family,
                                                    std::span<const net::Address> besides = {});

/// The changes that move a subnet to the prefix `to` of the same family: the subnet's own prefix,
/// with the ranges written in it, and every address, gateway and next hop in the plan that was
/// written inside the old one.
JACKAL_API std::vector<plan::Edit> renumber(const Lab& lab, SubnetId subnet, const net::Prefix& to);

/// A router with a NIC on each of the subnets, under a name that is not taken (plan::machine_in).
JACKAL_API plan::Edit new_router(const Lab& lab, const std::vector<std::string>& subnets);

/// The change of the address of `owner` to a free one of its segment; nothing if it was not
/// written in the plan or no address is free.
JACKAL_API std::vector<plan::Edit> readdress(const Lab& lab, const Owner& owner);

/// The first address of the family that a forwarding machine has on the segment inside its
/// prefix, or nothing.
JACKAL_API std::optional<net::Address> router_address(const Lab& lab, SegmentId segment,
                                                      net::Family family);

/// For each segment the number of the island it is on. Segments are on one island when machines
/// join them: any machine, or only those that forward.
enum class JoinedBy : std::uint8_t { any_machine, forwarding_machines };
JACKAL_API std::vector<std::uint32_t> islands(const Lab& lab, JoinedBy joined_by);

/// The same, joined by the machines that `joins` is true of.
JACKAL_API std::vector<std::uint32_t> islands(const Lab& lab,
                                              const std::function<bool(MachineId)>& joins);

} // namespace jackal::lab
