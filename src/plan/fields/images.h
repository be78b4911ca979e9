// The codecs of who logs in to a machine, and of what it starts from: a plan says it of all its
// machines, and a machine of itself.
#pragma once

#include "plan/fields/codecs.h"

namespace jackal::plan {

struct UserName : Scalar<UserName> {
    static Shape shape();
    static std::optional<std::string> parse(Reader& r, NodeId node);
    static std::string text(const std::string& of) { return of; }
};

struct PublicKey : Scalar<PublicKey> {
    static Shape shape();
    static std::optional<std::string> parse(Reader& r, NodeId node);
    static std::string text(const std::string& of) { return of; }
};

struct FileName : Scalar<FileName> {
    static Shape shape();
    static std::optional<std::string> parse(Reader& r, NodeId node);
    static std::string text(const std::string& of) { return of; }
};

struct RunsAs : Choice<RunsAs> {
    static constexpr std::string_view what = "kind of machine";
    static constexpr std::array words{std::pair{"machine", false}, std::pair{"namespace", true}};
};

/// What starts in the place of the loader of an image: part of that image.
struct Boot {
    static Shape shape();
    static void read(Reader& r, NodeId node, Image& into);
    static Value write(const Image& of);
    static void reset(Image& of);
};

/// The fields of a plan or of a machine, whose login and image those are.
template <auto login>
constexpr auto user_field(std::string_view usual) {
    return field<UserName, login, &Login::user>("user", "who logs in", usual);
}
template <auto login>
constexpr auto keys_field(std::string_view usual) {
    return field<OneOrMore<PublicKey>, login, &Login::keys>(
        "keys", "public keys by which one logs in, as ssh has them: ssh-ed25519 AAAA…", usual);
}
template <auto image>
constexpr auto image_field(std::string_view usual) {
    return field<FileName, image, &Image::disk>(
        "image",
        "the disk image that a virtual machine starts from: a file, from the plan's folder "
        "on",
        usual);
}
template <auto image>
constexpr auto runs_as_field(std::string_view usual) {
    return field<RunsAs, image, &Image::is_namespace>(
        "runs-as", "machine or namespace: whether it is virtual in a lab of machines", usual);
}
template <auto image>
constexpr auto boot_field(std::string_view usual) {
    using Owner = typename MemberOf<decltype(image)>::Owner;
    auto made = unread<Owner, Boot>(
        "boot", "a kernel that starts a virtual machine, in the place of the loader of its image",
        usual);
    made.read = [](Reader& r, NodeId node, std::string_view, Owner& into) {
        Boot::read(r, node, held(into.*image));
    };
    made.write = [](const Owner& of) {
        const auto& found = of.*image;
        if constexpr (Holder<std::remove_cvref_t<decltype(found)>>)
            return found ? Boot::write(*found) : Value{};
        else
            return Boot::write(found);
    };
    made.reset = [](Owner& into) {
        Boot::reset(held(into.*image));
        if constexpr (Holder<typename MemberOf<decltype(image)>::Type>)
            if (*(into.*image) == Image{})
                (into.*image).reset();
    };
    made.members = {tag<image>};
    return made;
}

} // namespace jackal::plan
