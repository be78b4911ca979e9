// Who logs in to machines, and what they start from.
#include "plan/fields/images.h"
#include "plan/fields/codecs.h"

namespace jackal::plan {

namespace {

bool is_alphanumeric(char c) {
    return (c >= '0' && c <= '9') || (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z');
}

// Files and arguments get into scripts and command lines, so they are of harmless characters.
std::optional<std::string> parse_plain(Reader& r, NodeId node, std::string_view wanted,
                                       std::string_view others) {
    return r.value(node, wanted, [&](std::string_view text) {
        auto is_plain = [&](char c) { return is_alphanumeric(c) || others.find(c) != others.npos; };
        const bool is_good =
            !text.empty() && text.front() != '-' && std::ranges::all_of(text, is_plain);
        return is_good ? std::optional<std::string>(text) : std::nullopt;
    });
}

struct Arguments : Scalar<Arguments> {
    static Shape shape() { return {.pattern = "^[A-Za-z0-9/._+@=:, ][A-Za-z0-9/._+@=:, -]*$"}; }
    static std::optional<std::string> parse(Reader& r, NodeId node) {
        return parse_plain(r, node,
                           "what the kernel is told, such as root=/dev/vda ro: letters, digits, "
                           "blanks and / . _ + - @ = : ,",
                           "/._+-@=:, ");
    }
    static std::string text(const std::string& of) { return of; }
};

constexpr Field<Image> boot_fields[] = {
    field<FileName, &Image::kernel>("kernel", "the kernel: a file"),
    field<FileName, &Image::initrd>("initrd", "its initial file system: a file", "none"),
    field<Arguments, &Image::arguments>(
        "arguments", "what the kernel is told, such as root=/dev/vda ro", "nothing"),
};
static_assert(covers<Image>(boot_fields, {tag<&Image::disk>, tag<&Image::is_namespace>}));

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
    if (blank == text.npos || printable(text) != text
        || std::ranges::find(types, type) == types.end())
        return std::nullopt;
    std::string_view key = text.substr(blank + 1);
    auto bytes = decoded(key.substr(0, key.find(' ')));
    const std::string start =
        std::string(3, '\0') + static_cast<char>(type.size()) + std::string(type);
    return bytes && bytes->starts_with(start) ? std::optional<std::string>(text) : std::nullopt;
}

} // namespace

Shape FileName::shape() {
    return {.name = "file",
            .about = "a file, from the plan's folder on",
            .pattern = "^[A-Za-z0-9/._+@][A-Za-z0-9/._+@-]*$"};
}

std::optional<std::string> FileName::parse(Reader& r, NodeId node) {
    return parse_plain(
        r, node, "a file, from the plan's folder on: letters, digits and / . _ + - @", "/._+-@");
}

Shape UserName::shape() {
    return {.pattern = "^[a-z_][a-z0-9_-]{0,31}$"};
}

std::optional<std::string> UserName::parse(Reader& r, NodeId node) {
    return r.value(node, "the name of a user: a-z, 0-9, _ and -, 32 at most",
                   [](std::string_view text) {
                       return is_user_name(text) ? std::optional<std::string>(text) : std::nullopt;
                   });
}

Shape PublicKey::shape() {
    return {.name = "public-key",
            .about = "a public key as ssh has it",
            .pattern = "^(ssh-|ecdsa-|sk-)"};
}

std::optional<std::string> PublicKey::parse(Reader& r, NodeId node) {
    return r.value(node, "a public key as ssh has it, such as ssh-ed25519 AAAA…", parse_public_key);
}

const Entry<Image>& boot_entry() {
    static const Entry<Image> entry{
        .name = "boot",
        .what = "boot",
        .fields = boot_fields,
        .rules = {{Rule::Kind::needs, {"kernel"}}},
        .begin = [](Reader&, NodeId,
                    Image& image) { image.kernel = image.initrd = image.arguments = {}; },
        .check =
            [](Reader& r, NodeId node, Image& image) {
                if (image.kernel.value.empty())
                    r.problem(node, "boot needs `kernel: FILE`");
            }};
    return entry;
}

Shape Boot::shape() {
    return {.sort = &sort_of<boot_entry>};
}

void Boot::read(Reader& r, NodeId node, Image& into) {
    read_entry(r, node, boot_entry(), into);
}

Value Boot::write(const Image& of) {
    Value map = written(of, boot_entry());
    return map.items.empty() ? Value{} : map;
}

void Boot::reset(Image& of) {
    for (const Field<Image>& field : boot_fields)
        field.reset(of);
}

} // namespace jackal::plan
