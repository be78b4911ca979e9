#include "reader.h"

#include "plan/units.h"

#include <charconv>

namespace jackal::plan {

std::string shown(std::string_view text) {
    constexpr std::size_t longest = 60;
    std::string result = "\"";
    for (unsigned char c : text.substr(0, longest)) {
        if (c < 0x20 || c == 0x7f)
            result += fmt::format("\\x{:02x}", c);
        else
            result += static_cast<char>(c);
    }
    return result + (text.size() > longest ? "…\"" : "\"");
}

std::optional<std::uint64_t> parse_count(std::string_view text) {
    std::uint64_t n = 0;
    auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), n);
    if (error != std::errc{} || end != text.data() + text.size())
        return std::nullopt;
    return n;
}

std::optional<double> parse_percent(std::string_view text) {
    return parse_with_unit(text, {{"%", 1}});
}

void read_word(Reader& r, NodeId node, Placed<std::string>& into) {
    if (auto text = r.scalar(node, "a name"))
        into = {std::string(*text), r.at(node)};
}

void refuse_empty_list(Reader& r, NodeId node, std::string_view what) {
    bool is_empty = r.kind(node) == NodeKind::sequence;
    r.each_item(node, [&](NodeId) { is_empty = false; });
    if (is_empty)
        r.problem(node, fmt::format("an empty list is no {}", what));
}

} // namespace jackal::plan
