#include "jackal/net/range.h"

#include <algorithm>

namespace jackal::net {

std::uint64_t Range::size() const {
    constexpr std::uint64_t most = std::uint64_t{1} << 63;
    if (first.high() != last.high())
        return most;
    return std::min(last.low() - first.low(), most - 1) + 1;
}

std::optional<Range> parse_range(std::string_view text) {
    if (auto prefix = parse_address_with_length(text)) {
        if (prefix->prefix().first() != prefix->address)
            return std::nullopt;
        return Range{prefix->prefix().first(), prefix->prefix().last()};
    }
    std::size_t dash = text.find('-');
    auto first = parse_address(text.substr(0, dash));
    auto last = dash == text.npos ? first : parse_address(text.substr(dash + 1));
    if (!first || !last || first->family() != last->family() || *last < *first)
        return std::nullopt;
    return Range{*first, *last};
}

std::string to_string(const Range& range) {
    return range.first == range.last ? to_string(range.first)
                                     : to_string(range.first) + "-" + to_string(range.last);
}

} // namespace jackal::net
