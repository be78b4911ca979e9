// A change of a plan on its way down from the plan to what stands at its place.
//
// Lists and mappings of entries are walked as what they are, so that all that does not change keeps
// its marks. What stands below the last entry on the way is written, changed as the text of a file
// would be, and read again: what a value means is known by its field alone.
#pragma once

#include "jackal/plan/place.h"
#include "plan/fields/value.h"
#include "plan/read/reader.h"

#include <functional>
#include <span>
#include <unordered_map>

namespace jackal::plan {

using Steps = std::span<const Place::Step>;

/// Whether a list at that place says something even with no item: an empty one goes with its key,
/// but a port with no VLAN tagged is a trunk still.
inline bool means_something_empty(Steps list) {
    return list.back().word == "trunk";
}

class Change {
  public:
    using Verb = PlaceChange::Verb;

    /// The first of several changes; those of the same entry may be made with it (alter_all).
    explicit Change(std::span<const PlaceChange> changes) : changes_(changes) {}

    const PlaceChange& of() const { return changes_.front(); }
    std::span<const PlaceChange> behind() const { return changes_.subspan(1); }

    Mark at;             ///< of the innermost entry on the way so far
    std::string problem; ///< why it does not apply; empty if nothing speaks against it

    bool applies() const { return problem.empty(); }
    void refuse(std::string why) {
        if (problem.empty())
            problem = std::move(why);
    }
    /// Nothing of that name, or at that position, is there.
    void refuse(const Place::Step& step);

    /// Makes the change of what stands `rest` below a value.
    void alter(Value& value, Steps rest);
    /// The same of an entry whose keys mean something only together, with all changes of it that
    /// come next.
    void alter_all(Value& entry, Steps rest);
    /// Calls use(reader, root) with a value as it is read from a file.
    void read(const Value& value, const std::function<void(Reader&, NodeId)>& use);
    /// The same with what the change brings.
    void read_value(const std::function<void(Reader&, NodeId)>& use);

  private:
    void read_text(std::string_view text, const std::function<void(Reader&, NodeId)>& use);

    std::span<const PlaceChange> changes_;
};

/// Sorts entries by the places of their names in the change; others stay behind.
template <class T, class NameOf>
void put_in_order(Change& change, std::vector<T>& entries, NameOf name_of) {
    std::unordered_map<std::string, std::size_t> places;
    change.read_value([&](Reader& r, NodeId node) {
        r.each_item(node, [&](NodeId item) { places.emplace(r.text(item), places.size()); });
    });
    std::ranges::stable_sort(entries, {}, [&](const T& entry) {
        auto found = places.find(std::string(name_of(entry)));
        return found == places.end() ? places.size() : found->second;
    });
}

} // namespace jackal::plan
