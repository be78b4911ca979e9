// Pieces of packets put together again (RFC 791 section 3.2, RFC 8200 section 4.5).
#pragma once

#include "jackal/export/wire.h"

#include <map>

namespace jackal::exports {

class Pieces {
  public:
    /// Whether a packet, from its IP header on, is a piece of another.
    static bool is_piece(std::span<const std::uint8_t> packet);

    struct Whole {
        Bytes packet;
        unsigned largest_bytes = 0; ///< of its pieces, with their headers
    };
    /// The packet that a piece makes whole, if it does. One of which a piece overlaps another is no
    /// packet (RFC 5722; Linux has it so for both families).
    std::optional<Whole> add(std::span<const std::uint8_t> piece);

  private:
    struct Parts {
        std::uint64_t number = 0;              // those of the lowest are the oldest
        Bytes header;                          // of the first piece, or of any before that has come
        std::map<std::size_t, Bytes> by_place; // in bytes behind the headers
        std::size_t bytes = 0;
        std::optional<std::size_t> whole_bytes; // known from the last piece
        unsigned largest_bytes = 0;
    };
    struct Piece;

    void make_room(std::size_t bytes, const Bytes& besides);

    static constexpr std::size_t most_bytes = 1 << 20; // of packets that are not whole yet

    std::map<Bytes, Parts> parts_; // by what their pieces have in common
    std::size_t kept_bytes_ = 0;
    std::uint64_t number_ = 0;
};

} // namespace jackal::exports
