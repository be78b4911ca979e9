// What the makers of edits share: the entries that a plan has, the places where they stand, and how
// a change of a value is put.
#pragma once

#include "jackal/plan/edit.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::plan {

/// What the plan does not have; thrown where it is looked for, and caught by made().
struct Missing {
    std::string what;
};

using Changes = std::vector<PlaceChange>;

/// Changes that may take back what the plan says on purpose.
struct Reversal {
    Changes changes;
    std::optional<Decision> against;
};

/// The edit of what make() returns, Changes or a Reversal, or the one that says what is missing.
template <class Make>
Edit made(Move move, Make make) {
    Edit edit{move, {}, "", std::nullopt};
    try {
        if constexpr (std::is_same_v<decltype(make()), Reversal>) {
            Reversal reversal = make();
            edit.changes = std::move(reversal.changes);
            edit.against = std::move(reversal.against);
        } else {
            edit.changes = make();
        }
    } catch (Missing& missing) {
        edit.problem = std::move(missing.what);
    }
    return edit;
}

inline PlaceChange set(Place place, std::string value, Mark at, std::string before = {}) {
    return {std::move(place), PlaceChange::Verb::set, std::move(value), std::move(before), at};
}
inline PlaceChange add(Place place, std::string value, Mark at) {
    return {std::move(place), PlaceChange::Verb::add, std::move(value), "", at};
}
inline PlaceChange removal(Place place, Mark at, std::string value = {}) {
    return {std::move(place), PlaceChange::Verb::remove, std::move(value), "", at};
}

template <class T>
const T& item_of(std::span<const T> items, const char* what, std::size_t position) {
    if (position >= items.size())
        throw Missing{fmt::format("there is no {} number {}", what, position)};
    return items[position];
}
template <class T>
const T& item_of(const std::vector<T>& items, const char* what, std::size_t position) {
    return item_of(std::span<const T>(items), what, position);
}

template <class T>
const T& entry_of(const std::vector<T>& entries, const char* what, const std::string& name) {
    auto found = std::ranges::find(entries, name, &T::name);
    if (found == entries.end())
        throw Missing{fmt::format("the plan has no {} {}", what, name)};
    return *found;
}

const Machine& machine_of(const Written& plan, const std::string& name);
const Subnet& subnet_of(const Written& plan, const std::string& name);
const Site& site_of(const Written& plan, const std::string& name);

Place place_of(const Machine& machine);
Place place_of(const Subnet& subnet);

/// A NIC of a machine's, and where it stands.
struct NicEntry {
    const Machine& machine;
    const Nic& nic;
    Place place;
};
NicEntry nic_of(const Written& plan, const std::string& machine, std::size_t nic);

/// What is taken back where something that is down is set up.
inline std::optional<Decision> down(bool is_up, Mark at) {
    return is_up ? std::nullopt : std::optional(Decision{"state: down", at});
}

/// The value of one family among those written, as text; empty if there is none.
template <class T>
std::string of_family(const std::vector<Placed<T>>& values, net::Family family) {
    for (const Placed<T>& value : values)
        if (value.value.family() == family)
            return net::to_string(value.value);
    return "";
}

/// Where a value stands that is told from others of its list by what it is: a list of one may be
/// written without brackets, and is its value.
template <class T, class Is>
Place place_in(Place list, const std::vector<T>& values, Is is) {
    const auto found = std::ranges::find_if(values, is);
    if (values.size() < 2 || found == values.end())
        return list;
    return list.index(static_cast<std::size_t>(found - values.begin()));
}

/// Has `to` take the place of the value of its family, or stand beside that of the other one.
template <class T>
PlaceChange set_of_family(Place list, const std::vector<Placed<T>>& values, const T& to, Mark at) {
    const net::Family family = to.family();
    std::string before = of_family(values, family);
    if (before.empty() && !values.empty())
        return add(std::move(list), net::to_string(to), at);
    Place place = place_in(std::move(list), values,
                           [&](const Placed<T>& value) { return value.value.family() == family; });
    return set(std::move(place), net::to_string(to), at, std::move(before));
}

} // namespace jackal::plan
