#include "jackal/net/place.h"

#include <algorithm>
#include <numeric>

namespace jackal::net {

Placements place(std::span<const Prefix> spaces, std::span<const Prefix> reserved,
                 std::span<const PlaceWish> wishes) {
    std::array<FreeSpace, 2> free; // by family
    auto of = [&](Family family) -> FreeSpace& { return free[family == Family::ipv4 ? 0 : 1]; };
    for (const Prefix& space : spaces) {
        of(space.family()).remove(space); // where spaces overlap, each address is there once
        of(space.family()).add(space);
    }
    for (const Prefix& prefix : reserved)
        of(prefix.family()).remove(prefix);

    std::vector<std::size_t> order(wishes.size());
    std::iota(order.begin(), order.end(), 0);
    std::ranges::stable_sort(order, {}, [&](std::size_t i) { return wishes[i].length; });
    Placements placed;
    placed.prefixes.resize(wishes.size());
    placed.blocks.resize(wishes.size());
    for (std::size_t i : order) {
        FreeSpace& space = of(wishes[i].family);
        placed.blocks[i] = space.fitting(wishes[i].family, wishes[i].length);
        placed.prefixes[i] = space.take(wishes[i].family, wishes[i].length);
        if (!placed.prefixes[i])
            placed.shortages.push_back({i, space.largest()});
    }
    for (const FreeSpace& space : free) {
        auto blocks = space.blocks();
        placed.free.insert(placed.free.end(), blocks.begin(), blocks.end());
    }
    return placed;
}

std::vector<Prefix> overlapping(std::span<const Prefix> sorted, std::span<const Prefix> spaces) {
    std::vector<Prefix> found;
    for (const Prefix& space : spaces) {
        auto inside = std::ranges::lower_bound(sorted, space.first(), {}, &Prefix::first);
        for (; inside != sorted.end() && inside->first() <= space.last(); ++inside)
            if (inside->overlaps(space))
                found.push_back(*inside);
        for (int length = 0; length < space.length(); ++length)
            if (Prefix around(space.first(), length);
                around.first() != space.first() && std::ranges::binary_search(sorted, around))
                found.push_back(around);
    }
    return found;
}

int length_for_hosts(std::uint64_t hosts) {
    int length = 30;
    while (length > 0 && Prefix(Address::ipv4(0), length).usable() < hosts)
        --length;
    return length;
}

} // namespace jackal::net
