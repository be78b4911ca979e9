#include "reader.h"

#include <array>

namespace jackal::plan {

namespace {

// As useradd(8) of Debian takes them.
bool is_user_name(std::string_view text) {
    constexpr std::size_t longest = 32;
    auto starts = [](char c) { return (c >= 'a' && c <= 'z') || c == '_'; };
    return !text.empty() && text.size() <= longest && starts(text.front())
           && std::ranges::all_of(
               text, [&](char c) { return starts(c) || (c >= '0' && c <= '9') || c == '-'; });
}

// The bytes of a text in base64 (RFC 4648 section 4), or nothing.
std::optional<std::string> decoded(std::string_view text) {
    constexpr std::string_view digits =
        "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    const std::size_t padding = text.size() - std::min(text.size(), text.find_last_not_of('=') + 1);
    if (text.empty() || text.size() % 4 != 0 || padding > 2)
        return std::nullopt;
    std::string bytes;
    std::uint32_t bits = 0;
    unsigned count = 0;
    for (char c : text.substr(0, text.size() - padding)) {
        const std::size_t digit = digits.find(c);
        if (digit == digits.npos)
            return std::nullopt;
        bits = bits << 6 | static_cast<std::uint32_t>(digit);
        count += 6;
        if (count >= 8) {
            count -= 8;
            bytes += static_cast<char>(bits >> count & 0xff);
        }
    }
    return bytes;
}

// `ssh-ed25519 AAAA… comment`: the bytes begin with the type once more, after its length (RFC 4253
// section 6.6).
std::optional<std::string> parse_public_key(std::string_view text) {
    constexpr std::array types{"ssh-ed25519",
                               "ssh-rsa",
                               "ecdsa-sha2-nistp256",
                               "ecdsa-sha2-nistp384",
                               "ecdsa-sha2-nistp521",
                               "sk-ssh-ed25519@openssh.com",
                               "sk-ecdsa-sha2-nistp256@openssh.com"};
    const std::size_t blank = text.find(' ');
    const std::string_view type = text.substr(0, blank);
    const bool is_plain = std::ranges::none_of(
        text, [](char c) { return static_cast<unsigned char>(c) < ' ' || c == 0x7f; });
    if (blank == text.npos || !is_plain || std::ranges::find(types, type) == types.end())
        return std::nullopt;
    std::string_view key = text.substr(blank + 1);
    auto bytes = decoded(key.substr(0, key.find(' ')));
    const std::string start =
        std::string(3, '\0') + static_cast<char>(type.size()) + std::string(type);
    return bytes && bytes->starts_with(start) ? std::optional<std::string>(text) : std::nullopt;
}

} // namespace

void read_user(Reader& r, NodeId node, Login& into) {
    auto name = r.value(
        node, "the name of a user: a-z, 0-9, _ and -, 32 at most", [](std::string_view text) {
            return is_user_name(text) ? std::optional<std::string>(text) : std::nullopt;
        });
    if (name)
        into.user = {std::move(*name), r.at(node)};
}

void read_keys(Reader& r, NodeId node, Login& into) {
    into.keys.clear();
    r.each_item(node, [&](NodeId item) {
        if (auto key = r.value(item, "a public key as ssh has it, such as ssh-ed25519 AAAA…",
                               parse_public_key))
            into.keys.emplace_back(std::move(*key), r.at(item));
    });
}

} // namespace jackal::plan
