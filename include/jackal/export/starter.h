// Starter plans: complete plan files of common shapes, to be changed by hand.
#pragma once

#include "jackal/api.h"

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

namespace jackal::exports {

enum class Shape : std::uint8_t {
    chain,      ///< routers in a row
    ring,       ///< routers in a circle
    star,       ///< one router in the middle, all others around it
    tree,       ///< each router joined to one above and at most two below
    leaf_spine, ///< every leaf joined to every spine
};

/// The shape with that name (`leaf-spine`), or nothing.
JACKAL_API std::optional<Shape> shape_from_name(std::string_view name);

struct Starter {
    Shape shape = Shape::chain;
    unsigned size = 4;      ///< routers with a subnet of their own; see least_size and most_size
    std::string lab;        ///< the lab's name; empty: made from shape and size
    bool with_ipv6 = false; ///< every subnet has an IPv6 prefix too
};

constexpr unsigned most_size = 1000;
JACKAL_API unsigned least_size(Shape shape);

/// A plan file as text, with comments. Each of `size` routers has a subnet with one guest; all
/// guests reach each other by static routes, and the plan expects it. It has no findings.
JACKAL_API std::string starter_plan(const Starter& starter);

} // namespace jackal::exports
