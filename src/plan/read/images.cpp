#include "reader.h"

#include <algorithm>

namespace jackal::plan {

namespace {

bool is_alphanumeric(char c) {
    return (c >= '0' && c <= '9') || (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z');
}

// Files and arguments get into scripts and command lines, so they are of harmless characters.
void read_plain(Reader& r, NodeId node, std::string_view wanted, std::string_view others,
                Placed<std::string>& into) {
    auto plain = r.value(node, wanted, [&](std::string_view text) {
        auto is_plain = [&](char c) { return is_alphanumeric(c) || others.find(c) != others.npos; };
        const bool is_good =
            !text.empty() && text.front() != '-' && std::ranges::all_of(text, is_plain);
        return is_good ? std::optional<std::string>(text) : std::nullopt;
    });
    if (plain)
        into = {std::move(*plain), r.at(node)};
}

void read_file(Reader& r, NodeId node, Placed<std::string>& into) {
    read_plain(r, node, "a file, from the plan's folder on: letters, digits and / . _ + - @",
               "/._+-@", into);
}

const Key<Image> boot_keys[] = {
    {"arguments",
     [](Reader& r, NodeId n, Image& image) {
         read_plain(r, n,
                    "what the kernel is told, such as root=/dev/vda ro: letters, digits, blanks "
                    "and / . _ + - @ = : ,",
                    "/._+-@=:, ", image.arguments);
     }},
    {"initrd", [](Reader& r, NodeId n, Image& image) { read_file(r, n, image.initrd); }},
    {"kernel", [](Reader& r, NodeId n, Image& image) { read_file(r, n, image.kernel); }},
};

} // namespace

void read_image(Reader& r, NodeId node, Image& into) {
    read_file(r, node, into.disk);
}

void read_boot(Reader& r, NodeId node, Image& into) {
    into.kernel = into.initrd = into.arguments = {};
    r.mapping(node, "boot", boot_keys, into);
    if (into.kernel.value.empty())
        r.problem(node, "boot needs `kernel: FILE`");
}

void read_runs_as(Reader& r, NodeId node, Image& into) {
    if (auto choice = r.word(node, "kind of machine", {"machine", "namespace"}))
        into.is_namespace = *choice == 1;
}

} // namespace jackal::plan
