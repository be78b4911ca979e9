#include "jackal/export/starter.h"

#include "jackal/plan/write.h"

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

class StarterMaker {
  public:
    explicit StarterMaker(const Starter& starter) : starter_(starter), n_(starter.size) {
        families_ = {net::Family::ipv4};
        if (starter.with_ipv6)
            families_.push_back(net::Family::ipv6);
    }

    std::string run() {
        add_rooms();
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
        add_expectations();
        return header() + plan::text_of(plan_);
    }

  private:
    static std::string router(unsigned room) { return fmt::format("room-{}-r1", room); }
    static std::string desk(unsigned room) { return fmt::format("desk-{}", room); }

    // One prefix for each family.
    template <class Of>
    std::vector<plan::Placed<net::Prefix>> prefixes(Of of) const {
        std::vector<plan::Placed<net::Prefix>> all;
        for (net::Family family : families_)
            all.emplace_back(of(family));
        return all;
    }

    // Guests first, then the routers of rooms: that of room k stands at n_ + k - 1.
    void add_rooms() {
        plan_.lab = starter_.lab.empty() ? fmt::format("{}-{}", shape(), n_) : starter_.lab;
        plan::Site& campus = plan_.sites.emplace_back();
        campus.name = "campus";
        campus.space = prefixes([](net::Family family) {
            return *net::parse_prefix(family == net::Family::ipv4 ? "10.60.0.0/14" : "fd60::/40");
        });
        for (plan::MachineKind kind : {plan::MachineKind::guest, plan::MachineKind::router})
            for (unsigned k = 1; k <= n_; ++k) {
                const bool is_guest = kind == plan::MachineKind::guest;
                plan::Machine& machine = add_machine(kind, is_guest ? desk(k) : router(k));
                machine.nics.emplace_back().subnet = fmt::format("room-{}", k);
                if (!is_guest)
                    continue;
                plan::Subnet& own = plan_.subnets.emplace_back();
                own.name = fmt::format("room-{}", k);
                own.prefixes = prefixes([&](net::Family family) { return subnet(k, family); });
            }
    }

    plan::Machine& add_machine(plan::MachineKind kind, std::string name) {
        plan::Machine& machine = plan_.machines.emplace_back();
        machine.kind = kind;
        machine.name = std::move(name);
        return machine;
    }

    std::size_t row(unsigned room) const { return n_ + room - 1; }

    void route(std::size_t machine, plan::Route::Target to, const std::string& via) {
        plan::Route& added = plan_.machines[machine].routes.emplace_back();
        added.to = std::move(to);
        added.via = plan::Route::NextHop(via);
    }

    void routes_to(std::size_t machine, unsigned first, unsigned last, const std::string& via) {
        for (net::Family family : families_)
            for (const net::Prefix& prefix : cover(first, last, family))
                route(machine, prefix, via);
    }

    // A link that is number `number` of those that are numbered from the room's block.
    void join(const std::string& first, const std::string& second, unsigned room, unsigned number) {
        plan::Link& added = plan_.links.emplace_back();
        added.first = first;
        added.second = second;
        added.prefixes = prefixes([&](net::Family family) { return link(room, number, family); });
        added.delay = std::chrono::milliseconds(1);
    }

    // Hangs rooms `first` to `last` below `room`; `first` is the one it is joined to.
    void join_below(unsigned room, unsigned first, unsigned last) {
        join(router(room), router(first), first, 0);
        routes_to(row(room), first, last, router(first));
        route(row(first), plan::Route::Default{}, router(room));
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
            join(router(k), router(next), k, 0);
            around(row(k), k + 1, k + ahead, router(next));
            around(row(k), k + ahead + 1, k + n_ - 1, router(before));
        }
    }

    // Rooms `first` to `last`, counted on past the last room.
    void around(std::size_t machine, unsigned first, unsigned last, const std::string& via) {
        if (first > last)
            return;
        if (first > n_)
            routes_to(machine, first - n_, last - n_, via);
        else if (last <= n_)
            routes_to(machine, first, last, via);
        else {
            routes_to(machine, first, n_, via);
            routes_to(machine, 1, last - n_, via);
        }
    }

    void leaf_spine() {
        const unsigned spines = std::clamp(n_ / 4, 2U, 16U);
        for (unsigned s = 0; s < spines; ++s) {
            const std::string spine =
                add_machine(plan::MachineKind::router, fmt::format("spine-{}", s + 1)).name;
            const std::size_t spine_row = plan_.machines.size() - 1;
            for (unsigned k = 1; k <= n_; ++k) {
                join(router(k), spine, k, s);
                routes_to(spine_row, k, k, router(k));
                if (k % spines == s)
                    route(row(k), plan::Route::Default{}, spine);
            }
        }
    }

    std::string_view shape() const { return shape_names[static_cast<std::size_t>(starter_.shape)]; }

    std::string header() const {
        return fmt::format(
            "# A {} of {} rooms, each with a router, a subnet and one guest.\n"
            "#\n"
            "# Room k owns one block of addresses: its subnet is the first half, and its links "
            "are\n"
            "# numbered from the second, so that one route to the block leads to both.\n"
            "# Try: jackal check THIS-FILE, then jackal ping THIS-FILE desk-1 desk-{}\n",
            shape(), n_, n_);
    }

    plan::Expectation& expect(std::string from, std::string to) {
        plan::Expectation& added = plan_.expectations.emplace_back();
        added.from = std::move(from);
        added.to = std::move(to);
        return added;
    }

    void add_expectations() {
        constexpr unsigned few = 12;       // up to here every pair is expected, else some
        constexpr unsigned most_hops = 50; // packets start with a TTL of 64
        if (n_ <= few)
            expect("campus", "campus").about = "every guest reaches every other";
        else
            for (auto [from, to] : {std::pair{1U, std::min(n_, most_hops)},
                                    std::pair{n_ / 2, std::min(n_, n_ / 2 + most_hops)},
                                    std::pair{n_, n_ - std::min(n_ - 1, most_hops)}})
                expect(desk(from), desk(to));
        if (starter_.with_ipv6)
            expect(desk(1), desk(std::min(n_, most_hops))).family = net::Family::ipv6;
    }

    const Starter& starter_;
    unsigned n_;
    std::vector<net::Family> families_;
    plan::Plan plan_;
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
    return StarterMaker(bounded).run();
}

} // namespace jackal::exports
