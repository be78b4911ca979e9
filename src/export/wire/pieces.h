// Pieces of IPv6 packets put together again (RFC 8200 section 4.5).
#pragma once

#include "jackal/export/wire.h"

#include <map>

namespace jackal::exports {

class Ipv6Pieces {
  public:
    /// Whether a packet, from its IPv6 header on, is a piece of another.
    static bool is_piece(std::span<const std::uint8_t> packet);

    struct Whole {
        Bytes packet;
        unsigned largest_bytes = 0; ///< of its pieces, with their headers
    };
    /// The packet that a piece makes whole, if it does.
    std::optional<Whole> add(std::span<const std::uint8_t> piece);

  private:
    struct Parts {
        std::map<std::size_t, Bytes> by_place; // in bytes behind the headers
        std::size_t bytes = 0;
        std::optional<std::size_t> whole_bytes; // known from the last piece
        unsigned largest_bytes = 0;
    };

    static constexpr std::size_t most_bytes = 1 << 20; // of packets that are not whole yet

    std::map<Bytes, Parts> parts_; // by addresses and identification
    std::size_t kept_bytes_ = 0;
};

} // namespace jackal::exports
