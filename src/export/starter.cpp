#include "jackal/export/starter.h"

#include "jackal/net/prefix.h"

#include <algorithm>
#include <array>
#include <fmt/format.h>
#include <vector>

namespace jackal::exports {

namespace {

constexpr std::array<std::string_view, 5> shape_names = {"chain", "ring", "star", "tree",
                                                         "leaf-spine"};

// Room k (from 1) owns one block: 10.60.k.0/24 and fd60:0:0:k00::/56. Its subnet is the first half
// of the one and the first /64 of the other; the links that it counts as its own come behind.
net::Prefix block(unsigned room, net::Family family) {
    if (family == net::Family::ipv4)
        return {net::Address::ipv4((10U << 24 | 60U << 16) + (room << 8)), 24};
    return {net::Address(0xfd60'0000'0000'0000 | std::uint64_t{room} << 8, 0), 56};
}

net::Prefix subnet(unsigned room, net::Family family) {
    return {block(room, family).first(), family == net::Family::ipv4 ? 25 : 64};
}

net::Prefix link(unsigned room, unsigned number, net::Family family) {
    if (family == net::Family::ipv4)
        return {block(room, family).first().plus(128 + 2 * number), 31};
    net::Address first = block(room, family).first();
    return {net::Address(first.high() | 1, 2 * std::uint64_t{number}), 127};
}

// The fewest prefixes that cover the blocks of rooms `first` to `last`.
std::vector<net::Prefix> cover(unsigned first, unsigned last, net::Family family) {
    std::vector<net::Prefix> prefixes;
    while (first <= last) {
        unsigned size = 1;
        while (first % (2 * size) == 0 && first + 2 * size - 1 <= last)
            size *= 2;
        net::Prefix base = block(first, family);
        int length = base.length();
        for (unsigned s = size; s > 1; s /= 2)
            --length;
        prefixes.emplace_back(base.first(), length);
        first += size;
    }
    return prefixes;
}

std::string quoted(const net::Prefix& prefix) {
    std::string text = net::to_string(prefix);
    return prefix.family() == net::Family::ipv4 ? text : fmt::format("\"{}\"", text);
}

struct Link {
    std::string first;
    std::string second;
    unsigned room; // whose block it is numbered from
    unsigned number;
};

class StarterWriter {
  public:
    explicit StarterWriter(const Starter& starter) : starter_(starter), n_(starter.size) {
        families_ = {net::Family::ipv4};
        if (starter.with_ipv6)
            families_.push_back(net::Family::ipv6);
        routes_.resize(n_ + 1);
    }

    std::string run() {
        switch (starter_.shape) {
        case Shape::chain: below(1, 2, n_); break;
        case Shape::ring: ring(); break;
        case Shape::star:
            for (unsigned k = 2; k <= n_; ++k)
                join_below(1, k, k);
            break;
        case Shape::tree: tree(1, n_); break;
        case Shape::leaf_spine: leaf_spine(); break;
        }
        return text();
    }

  private:
    static std::string router(unsigned room) { return fmt::format("room-{}-r1", room); }

    void route(std::vector<std::string>& routes, const std::string& to, const std::string& via) {
        routes.push_back(fmt::format("{{to: {}, via: {}}}", to, via));
    }

    void routes_to(std::vector<std::string>& routes, unsigned first, unsigned last,
                   const std::string& via) {
        for (net::Family family : families_)
            for (const net::Prefix& prefix : cover(first, last, family))
                route(routes, quoted(prefix), via);
    }

    // Hangs rooms `first` to `last` below `room`; `first` is the one it is joined to.
    void join_below(unsigned room, unsigned first, unsigned last) {
        links_.push_back({router(room), router(first), first, 0});
        routes_to(routes_[room], first, last, router(first));
        route(routes_[first], "default", router(room));
    }

    void below(unsigned room, unsigned first, unsigned last) {
        for (; first <= last; room = first++)
            join_below(room, first, last);
    }

    // Rooms `root` to `last`, numbered so that those below a room follow it.
    void tree(unsigned root, unsigned last) {
        unsigned rest = last - root;
        if (rest == 0)
            return;
        unsigned left_last = root + (rest + 1) / 2;
        join_below(root, root + 1, left_last);
        tree(root + 1, left_last);
        if (left_last == last)
            return;
        join_below(root, left_last + 1, last);
        tree(left_last + 1, last);
    }

    // To the rooms ahead one way, to those behind the other way, whichever is nearer.
    void ring() {
        unsigned ahead = n_ / 2;
        for (unsigned k = 1; k <= n_; ++k) {
            unsigned next = k % n_ + 1;
            unsigned before = (k + n_ - 2) % n_ + 1;
            links_.push_back({router(k), router(next), k, 0});
            around(routes_[k], k + 1, k + ahead, router(next));
            around(routes_[k], k + ahead + 1, k + n_ - 1, router(before));
        }
    }

    // Rooms `first` to `last`, counted on past the last room.
    void around(std::vector<std::string>& routes, unsigned first, unsigned last,
                const std::string& via) {
        if (first > last)
            return;
        if (first > n_)
            routes_to(routes, first - n_, last - n_, via);
        else if (last <= n_)
            routes_to(routes, first, last, via);
        else {
            routes_to(routes, first, n_, via);
            routes_to(routes, 1, last - n_, via);
        }
    }

    void leaf_spine() {
        spines_.resize(std::clamp(n_ / 4, 2U, 16U));
        for (unsigned s = 0; s < spines_.size(); ++s)
            for (unsigned k = 1; k <= n_; ++k) {
                std::string spine = fmt::format("spine-{}", s + 1);
                links_.push_back({router(k), spine, k, s});
                routes_to(spines_[s], k, k, router(k));
                if (k % spines_.size() == s)
                    route(routes_[k], "default", spine);
            }
    }

    std::string name() const {
        return starter_.lab.empty()
                   ? fmt::format("{}-{}", shape_names[static_cast<std::size_t>(starter_.shape)], n_)
                   : starter_.lab;
    }

    // One value, or a list of one for each family.
    template <class Of>
    std::string prefixes(Of of) const {
        if (families_.size() == 1)
            return quoted(of(net::Family::ipv4));
        return fmt::format("[{}, {}]", quoted(of(net::Family::ipv4)),
                           quoted(of(net::Family::ipv6)));
    }

    void add_router(const std::string& router, const std::string& nics,
                    const std::vector<std::string>& routes) {
        auto out = std::back_inserter(text_);
        fmt::format_to(out, "  {}:\n", router);
        if (!nics.empty())
            fmt::format_to(out, "    nics: [{{subnet: {}}}]\n", nics);
        if (routes.empty())
            return;
        text_ += "    routes:\n";
        for (const std::string& route : routes)
            fmt::format_to(out, "      - {}\n", route);
    }

    void add_header() {
        std::string_view shape = shape_names[static_cast<std::size_t>(starter_.shape)];
        auto out = std::back_inserter(text_);
        fmt::format_to(
            out,
            "# A {} of {} rooms, each with a router, a subnet and one guest.\n"
            "#\n"
            "# Room k owns one block of addresses: its subnet is the first half, and its "
            "links are\n"
            "# numbered from the second, so that one route to the block leads to both.\n"
            "# Try: jackal check THIS-FILE, then jackal ping THIS-FILE desk-1 desk-{}\n"
            "lab: {}\n\n"
            "sites:\n"
            "  campus: {{space: [10.60.0.0/14{}]}}\n\n"
            "subnets:\n",
            shape, n_, n_, name(), starter_.with_ipv6 ? ", \"fd60::/40\"" : "");
    }

    std::string text() {
        add_header();
        auto out = std::back_inserter(text_);
        for (unsigned k = 1; k <= n_; ++k)
            fmt::format_to(out, "  room-{}: {{prefix: {}}}\n", k,
                           prefixes([&](net::Family f) { return subnet(k, f); }));
        text_ += "\nguests:\n";
        for (unsigned k = 1; k <= n_; ++k)
            fmt::format_to(out, "  desk-{}: {{nics: [{{subnet: room-{}}}]}}\n", k, k);
        text_ += "\nrouters:\n";
        for (unsigned k = 1; k <= n_; ++k)
            add_router(router(k), fmt::format("room-{}", k), routes_[k]);
        for (std::size_t s = 0; s < spines_.size(); ++s)
            add_router(fmt::format("spine-{}", s + 1), "", spines_[s]);
        text_ += "\nlinks:\n";
        for (const Link& l : links_)
            fmt::format_to(out, "  - {{between: [{}, {}], prefix: {}, delay: 1ms}}\n", l.first,
                           l.second,
                           prefixes([&](net::Family f) { return link(l.room, l.number, f); }));
        add_expectations();
        return std::move(text_);
    }

    void add_expectations() {
        constexpr unsigned few = 12;       // up to here every pair is expected, else some
        constexpr unsigned most_hops = 50; // packets start with a TTL of 64
        auto out = std::back_inserter(text_);
        text_ += "\nexpect:\n";
        if (n_ <= few)
            text_ += "  - {ping: [campus, campus], about: every guest reaches every other}\n";
        else
            for (auto [from, to] : {std::pair{1U, std::min(n_, most_hops)},
                                    std::pair{n_ / 2, std::min(n_, n_ / 2 + most_hops)},
                                    std::pair{n_, n_ - std::min(n_ - 1, most_hops)}})
                fmt::format_to(out, "  - {{ping: [desk-{}, desk-{}]}}\n", from, to);
        if (starter_.with_ipv6)
            fmt::format_to(out, "  - {{ping: [desk-1, desk-{}], family: 6}}\n",
                           std::min(n_, most_hops));
    }

    const Starter& starter_;
    unsigned n_;
    std::vector<net::Family> families_;
    std::vector<std::vector<std::string>> routes_; // by room
    std::vector<std::vector<std::string>> spines_; // routes of each spine
    std::vector<Link> links_;
    std::string text_;
};

} // namespace

std::optional<Shape> shape_from_name(std::string_view name) {
    auto found = std::ranges::find(shape_names, name);
    if (found == shape_names.end())
        return std::nullopt;
    return static_cast<Shape>(found - shape_names.begin());
}

unsigned least_size(Shape shape) {
    return shape == Shape::ring ? 3 : 2;
}

std::string starter_plan(const Starter& starter) {
    Starter bounded = starter;
    bounded.size = std::clamp(starter.size, least_size(starter.shape), most_size);
    return StarterWriter(bounded).run();
}

} // namespace jackal::exports
