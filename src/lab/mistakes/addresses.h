// Addresses that do not go with their subnet or with each other.
#pragma once

#include "lab/mistakes/inspection.h"

namespace jackal::lab {

/// Gives the address at the NIC another value; the edits only if they are worth working out.
Remedy another_address(const Lab& lab, NicId nic, net::Address address, bool work_out = true);

/// An address that does not go with the prefix of its NIC's segment.
struct MisplacedAddress {
    enum class Kind : std::uint8_t {
        no_prefix,    ///< of that family
        outside,      ///< not in the prefix
        other_length, ///< than that of the prefix
        broadcast,    ///< the broadcast address of the prefix
        network,      ///< the address of the prefix itself
    };
    Kind kind = Kind::outside;
    AddressId address;
};

/// What is wrong with an address on the segment of a subnet, if anything is.
std::optional<MisplacedAddress> misplaced(const Lab& lab, AddressId address);
Finding describe(const Lab& lab, const MisplacedAddress& mistake, bool work_out = true);

/// An address that means all of a segment, as a packet met it: at a NIC, or asked for by somebody.
struct BroadcastAddress {
    NicId nic; ///< that has it, or none
    net::Address address;
    SegmentId segment; ///< whose broadcast address it is
};
Finding describe(const Lab& lab, const BroadcastAddress& mistake);

/// Several NICs of one network have the same address.
struct DuplicateAddress {
    net::Address address;
    NicId changed;             ///< the one to mend
    std::vector<NicId> owners; ///< all, that one too; alone: every router on its segment has it
};
Finding describe(const Lab& lab, const DuplicateAddress& mistake, Seen seen, bool work_out = true);

} // namespace jackal::lab
