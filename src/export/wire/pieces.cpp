#include "export/wire/pieces.h"

#include <algorithm>

namespace jackal::exports {

namespace {

constexpr std::size_t header_of_ipv4 = 20; // at least
constexpr std::size_t header_of_ipv6 = 40;
constexpr std::size_t fragment_header_size = 8;
constexpr std::size_t most_payload = 65'535;
constexpr std::size_t next_header_at = 6;
constexpr std::uint8_t is_fragment = 44;

std::size_t number_at(std::span<const std::uint8_t> bytes, std::size_t at) {
    return std::size_t{bytes[at]} << 8 | bytes[at + 1];
}

void set_number(Bytes& bytes, std::size_t at, std::size_t number) {
    bytes[at] = static_cast<std::uint8_t>(number >> 8);
    bytes[at + 1] = static_cast<std::uint8_t>(number);
}

bool is_ipv4(std::span<const std::uint8_t> packet) {
    return packet.size() > header_of_ipv4 && packet[0] >> 4 == 4;
}

} // namespace

// What one piece says.
struct Pieces::Piece {
    Bytes key;
    Bytes header; // of the whole packet, but for its length
    std::size_t place = 0;
    bool is_last = false;
    std::size_t told_bytes = 0;
    std::span<const std::uint8_t> bytes;

    explicit Piece(std::span<const std::uint8_t> packet) {
        is_ipv4(packet) ? read_ipv4(packet) : read_ipv6(packet);
    }

    void read_ipv4(std::span<const std::uint8_t> packet) {
        const std::size_t length = std::size_t{packet[0] & 0xfU} * 4;
        told_bytes = number_at(packet, 2);
        if (length < header_of_ipv4 || told_bytes <= length || told_bytes > packet.size())
            return;
        const std::size_t flags = number_at(packet, 6);
        place = (flags & 0x1fff) * 8;
        is_last = (flags & 0x2000) == 0;
        bytes = packet.subspan(length, told_bytes - length);
        key.assign(packet.begin() + 12, packet.begin() + 20); // source and destination
        key.push_back(packet[9]);                             // protocol
        key.insert(key.end(), packet.begin() + 4, packet.begin() + 6);
        header.assign(packet.begin(), packet.begin() + static_cast<std::ptrdiff_t>(length));
        set_number(header, 6, 0);
    }

    void read_ipv6(std::span<const std::uint8_t> packet) {
        told_bytes = number_at(packet, 4) + header_of_ipv6;
        if (told_bytes <= header_of_ipv6 + fragment_header_size || told_bytes > packet.size())
            return;
        place = number_at(packet, header_of_ipv6 + 2) & 0xfff8U;
        is_last = (packet[header_of_ipv6 + 3] & 1) == 0;
        bytes = packet.subspan(header_of_ipv6 + fragment_header_size,
                               told_bytes - header_of_ipv6 - fragment_header_size);
        key.assign(packet.begin() + 8, packet.begin() + header_of_ipv6);
        key.insert(key.end(), packet.begin() + header_of_ipv6 + 4,
                   packet.begin() + header_of_ipv6 + fragment_header_size);
        header.assign(packet.begin(), packet.begin() + header_of_ipv6);
        header[next_header_at] = packet[header_of_ipv6];
    }

    bool is_sound() const {
        return !bytes.empty() && place + bytes.size() <= most_payload
               && (is_last || bytes.size() % 8 == 0);
    }
};

bool Pieces::is_piece(std::span<const std::uint8_t> packet) {
    if (is_ipv4(packet))
        return (number_at(packet, 6) & 0x3fff) != 0;
    return packet.size() > header_of_ipv6 + fragment_header_size && packet[0] >> 4 == 6
           && packet[next_header_at] == is_fragment;
}

// The oldest packets that are not whole go first: a lost piece keeps no other packet from coming.
void Pieces::make_room(std::size_t bytes, const Bytes& besides) {
    while (kept_bytes_ + bytes > most_bytes) {
        auto oldest = parts_.end();
        for (auto at = parts_.begin(); at != parts_.end(); ++at)
            if (at->first != besides
                && (oldest == parts_.end() || at->second.number < oldest->second.number))
                oldest = at;
        if (oldest == parts_.end())
            return;
        kept_bytes_ -= oldest->second.bytes;
        parts_.erase(oldest);
    }
}

std::optional<Pieces::Whole> Pieces::add(std::span<const std::uint8_t> packet) {
    const Piece piece(packet);
    if (!piece.is_sound())
        return std::nullopt;
    make_room(piece.bytes.size(), piece.key);
    Parts& parts = parts_[piece.key];
    if (parts.by_place.empty())
        parts.number = ++number_;
    if (parts.header.empty() || piece.place == 0)
        parts.header = piece.header;
    if (parts.by_place.emplace(piece.place, Bytes(piece.bytes.begin(), piece.bytes.end())).second) {
        parts.bytes += piece.bytes.size();
        kept_bytes_ += piece.bytes.size();
    }
    parts.largest_bytes = std::max(parts.largest_bytes, static_cast<unsigned>(piece.told_bytes));
    if (piece.is_last)
        parts.whole_bytes = piece.place + piece.bytes.size();
    if (parts.bytes != parts.whole_bytes)
        return std::nullopt;

    const Parts all = std::move(parts);
    parts_.erase(piece.key);
    kept_bytes_ -= all.bytes;
    Whole whole{.packet = all.header, .largest_bytes = all.largest_bytes};
    for (const auto& [at, part] : all.by_place) {
        if (at != whole.packet.size() - all.header.size())
            return std::nullopt;
        whole.packet.insert(whole.packet.end(), part.begin(), part.end());
    }
    const bool is_of_ipv4 = is_ipv4(whole.packet);
    if (whole.packet.size() > most_payload)
        return std::nullopt;
    set_number(whole.packet, is_of_ipv4 ? 2 : 4, is_of_ipv4 ? whole.packet.size() : all.bytes);
    return whole;
}

} // namespace jackal::exports
