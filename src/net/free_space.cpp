#include "jackal/net/free_space.h"

#include <algorithm>

namespace jackal::net {

void FreeSpace::add(const Prefix& prefix) {
    by_bits_[static_cast<std::size_t>(prefix.bits128())].insert(prefix);
}

void FreeSpace::remove(const Prefix& prefix) {
    auto bits = static_cast<std::size_t>(prefix.bits128());
    for (std::size_t longer = bits; longer < by_bits_.size(); ++longer) {
        auto& blocks = by_bits_[longer];
        auto inside = blocks.lower_bound(Prefix(prefix.first(), address_bits(prefix.family())));
        if (inside != blocks.begin() && prefix.contains(*std::prev(inside)))
            --inside; // a block that starts where `prefix` does sorts before its single address
        while (inside != blocks.end() && prefix.contains(*inside))
            inside = blocks.erase(inside);
    }
    for (int length = prefix.length() - 1; length >= 0; --length) {
        Prefix around(prefix.first(), length);
        auto& blocks = by_bits_[static_cast<std::size_t>(around.bits128())];
        auto found = blocks.find(around);
        if (found == blocks.end())
            continue;
        blocks.erase(found);
        while (around != prefix) {
            bool in_lower = around.lower_half().contains(prefix);
            add(in_lower ? around.upper_half() : around.lower_half());
            around = in_lower ? around.lower_half() : around.upper_half();
        }
        return;
    }
}

std::optional<Prefix> FreeSpace::fitting(Family family, int length) const {
    for (int bits = length + 128 - address_bits(family); bits >= 0; --bits)
        if (const auto& blocks = by_bits_[static_cast<std::size_t>(bits)]; !blocks.empty())
            return *blocks.begin();
    return std::nullopt;
}

std::optional<Prefix> FreeSpace::take(Family family, int length) {
    auto block = fitting(family, length);
    if (!block)
        return std::nullopt;
    auto& blocks = by_bits_[static_cast<std::size_t>(block->bits128())];
    blocks.erase(blocks.begin());
    while (block->length() < length) {
        add(block->upper_half());
        block = block->lower_half();
    }
    return block;
}

std::vector<Prefix> FreeSpace::blocks() const {
    std::vector<Prefix> all;
    for (const auto& blocks : by_bits_)
        all.insert(all.end(), blocks.begin(), blocks.end());
    std::ranges::sort(all);
    return all;
}

std::optional<Prefix> FreeSpace::largest() const {
    for (const auto& blocks : by_bits_)
        if (!blocks.empty())
            return *blocks.begin();
    return std::nullopt;
}

} // namespace jackal::net
