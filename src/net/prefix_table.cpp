#include "jackal/net/prefix_table.h"

#include <algorithm>

namespace jackal::net {

namespace {

constexpr Address highest{~std::uint64_t{0}, ~std::uint64_t{0}};

} // namespace

PrefixTable::PrefixTable(std::vector<Entry> entries) {
    // Keeps IPv6 prefixes shorter than ::ffff:0:0/96 from answering for IPv4 addresses; a real
    // IPv4 default route stands before it in the list and wins.
    entries.push_back({Prefix::everything(Family::ipv4), none});
    std::stable_sort(entries.begin(), entries.end(), [](const Entry& a, const Entry& b) {
        return a.prefix.first() != b.prefix.first() ? a.prefix.first() < b.prefix.first()
                                                    : a.prefix.bits128() < b.prefix.bits128();
    });

    auto start_interval = [this](Address at, std::uint32_t value) {
        if (!starts_.empty() && starts_.back() == at)
            values_.back() = value;
        else {
            starts_.push_back(at);
            values_.push_back(value);
        }
    };
    std::vector<const Entry*> open; // the prefixes around the current point, outermost first
    auto close_before = [&](Address point, bool at_end) {
        while (!open.empty() && (at_end || open.back()->prefix.last() < point)) {
            Address last = open.back()->prefix.last();
            open.pop_back();
            if (last != highest)
                start_interval(last.plus(1), open.empty() ? none : open.back()->value);
        }
    };
    start_interval({}, none);
    for (const Entry& entry : entries) {
        close_before(entry.prefix.first(), false);
        if (!open.empty() && open.back()->prefix == entry.prefix)
            continue;
        open.push_back(&entry);
        start_interval(entry.prefix.first(), entry.value);
    }
    close_before({}, true);
    starts_.shrink_to_fit();
    values_.shrink_to_fit();
}

std::uint32_t PrefixTable::lookup(Address address) const {
    auto after = std::upper_bound(starts_.begin(), starts_.end(), address);
    if (after == starts_.begin())
        return none;
    return values_[static_cast<std::size_t>(after - starts_.begin()) - 1];
}

} // namespace jackal::net
