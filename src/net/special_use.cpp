#include "jackal/net/special_use.h"

#include <algorithm>
#include <array>

namespace jackal::net {

namespace {

SpecialUse entry(const char* prefix, std::string_view meaning, std::string_view source,
                 bool works = false) {
    return {parse_prefix(prefix).value(), meaning, source, works};
}

} // namespace

std::span<const SpecialUse> special_uses() {
    static const std::array table = {
        entry("0.0.0.0/8", "this network", "RFC 791"),
        entry("127.0.0.0/8", "loopback", "RFC 1122"),
        entry("169.254.0.0/16", "link-local", "RFC 3927"),
        entry("100.64.0.0/10", "shared address space of providers", "RFC 6598", true),
        entry("192.0.0.0/24", "protocol assignments", "RFC 6890", true),
        entry("192.0.2.0/24", "documentation", "RFC 5737", true),
        entry("198.18.0.0/15", "benchmarks", "RFC 2544", true),
        entry("198.51.100.0/24", "documentation", "RFC 5737", true),
        entry("203.0.113.0/24", "documentation", "RFC 5737", true),
        entry("224.0.0.0/4", "multicast", "RFC 5771"),
        entry("240.0.0.0/4", "reserved", "RFC 1112"),
        entry("::/128", "the unspecified address", "RFC 4291"),
        entry("::1/128", "loopback", "RFC 4291"),
        entry("64:ff9b::/96", "translation to IPv4", "RFC 6052", true),
        entry("100::/64", "discarded", "RFC 6666", true),
        entry("2001:db8::/32", "documentation", "RFC 3849", true),
        entry("3fff::/20", "documentation", "RFC 9637", true),
        entry("2002::/16", "6to4", "RFC 3056", true),
        entry("fe80::/10", "link-local", "RFC 4291"),
        entry("ff00::/8", "multicast", "RFC 4291"),
    };
    return table;
}

bool is_private(Address address) {
    static const std::array ranges = {
        parse_prefix("10.0.0.0/8").value(),     parse_prefix("172.16.0.0/12").value(),
        parse_prefix("192.168.0.0/16").value(), parse_prefix("100.64.0.0/10").value(),
        parse_prefix("169.254.0.0/16").value(), parse_prefix("fc00::/7").value()};
    return std::ranges::any_of(ranges,
                               [&](const Prefix& range) { return range.contains(address); });
}

const SpecialUse* special_use(const Prefix& prefix) {
    auto table = special_uses();
    auto found = std::ranges::find_if(
        table, [&](const SpecialUse& use) { return use.prefix.overlaps(prefix); });
    return found == table.end() ? nullptr : &*found;
}

} // namespace jackal::net
