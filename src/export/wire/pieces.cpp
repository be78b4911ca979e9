#include "export/wire/pieces.h"

#include <algorithm>

namespace jackal::exports {

namespace {

constexpr std::size_t header = 40;
constexpr std::size_t fragment_header = 8;
constexpr std::size_t most_payload = 65'535;
constexpr std::size_t kind_at = 6; // of what follows the header
constexpr std::uint8_t is_fragment = 44;

} // namespace

bool Ipv6Pieces::is_piece(std::span<const std::uint8_t> packet) {
    return packet.size() > header + fragment_header && packet[0] >> 4 == 6
           && packet[kind_at] == is_fragment;
}

std::optional<Ipv6Pieces::Whole> Ipv6Pieces::add(std::span<const std::uint8_t> piece) {
    const std::size_t place = std::size_t{piece[header + 2]} << 8 | (piece[header + 3] & 0xf8);
    const bool is_last = (piece[header + 3] & 1) == 0;
    const std::size_t told = std::size_t{piece[4]} << 8 | piece[5];
    if (told <= fragment_header || header + told > piece.size())
        return std::nullopt;
    const auto bytes = piece.subspan(header + fragment_header, told - fragment_header);
    if (place + bytes.size() > most_payload || (!is_last && bytes.size() % 8 != 0))
        return std::nullopt;

    if (kept_bytes_ + bytes.size() > most_bytes) {
        parts_.clear();
        kept_bytes_ = 0;
    }
    Bytes key(piece.begin() + 8, piece.begin() + header);
    key.insert(key.end(), piece.begin() + header + 4, piece.begin() + header + fragment_header);
    Parts& parts = parts_[key];
    if (parts.by_place.emplace(place, Bytes(bytes.begin(), bytes.end())).second) {
        parts.bytes += bytes.size();
        kept_bytes_ += bytes.size();
    }
    parts.largest_bytes = std::max(parts.largest_bytes, static_cast<unsigned>(header + told));
    if (is_last)
        parts.whole_bytes = place + bytes.size();
    if (parts.bytes != parts.whole_bytes)
        return std::nullopt;

    const Parts all = std::move(parts);
    parts_.erase(key);
    kept_bytes_ -= all.bytes;
    Whole whole{.packet = Bytes(piece.begin(), piece.begin() + header),
                .largest_bytes = all.largest_bytes};
    for (const auto& [at, part] : all.by_place) {
        if (at != whole.packet.size() - header) // overlaps (RFC 5722): none of it counts
            return std::nullopt;
        whole.packet.insert(whole.packet.end(), part.begin(), part.end());
    }
    whole.packet[4] = static_cast<std::uint8_t>(all.bytes >> 8);
    whole.packet[5] = static_cast<std::uint8_t>(all.bytes);
    whole.packet[kind_at] = piece[header];
    return whole;
}

} // namespace jackal::exports
