// Changes of a plan file at places: what stands there becomes another, more or less, and nothing
// else moves by a byte.
#pragma once

#include "jackal/plan/place.h"
#include "plan/edit/layout.h"

#include <memory>
#include <stdexcept>
#include <string>
#include <vector>

namespace jackal::plan {

/// What keeps a change from being written into the text.
class InTheWay : public std::runtime_error {
  public:
    InTheWay(Mark where, const std::string& what) : std::runtime_error(what), at(where) {}
    Mark at;
};

/// The text of a plan file on its way from one change to the next. Every change throws InTheWay,
/// and leaves the text as it is, if it cannot be written.
///
/// What a machine has from the entry that it is `like` is written out at the machine before it
/// changes there. An alias is written out, and an anchor that others use moves to the first of
/// them, so that no other place changes. `notes` tells of both.
class Surgeon {
  public:
    /// Throws std::invalid_argument if the text is no YAML.
    Surgeon(std::string text, const Settings& settings);

    const std::string& text() const { return layout_->text(); }
    const std::vector<Problem>& notes() const { return notes_; }
    /// True if something stands there.
    bool has(const Place& place) const { return walk(place).depth == place.steps.size(); }

    /// Puts `value` (YAML in flow style) there; in a list, where `before` says of which item. What
    /// is not there yet is added with all that leads to it. A parameter that is used nowhere else
    /// gets the value as its default.
    void set(const Place& place, std::string_view value, std::string_view before = "");
    /// Adds an item to a list, before the one that a last step counts, or an entry of that name.
    /// A value that stands alone becomes a list.
    void add(const Place& place, std::string_view value);
    /// Takes a key with its value away, or an item; with `value` the item of a list that says so.
    /// A list that would be empty goes with its key.
    void remove(const Place& place, std::string_view value = "");

    /// Whichever of the three the change is.
    void make(const PlaceChange& change);

    /// Has an entry with `count` stand for each of its machines by itself, in its place: it becomes
    /// a template that entries of the machines' names are like.
    void split(const Place& entry, const std::vector<std::string>& machines);

  private:
    using Id = Layout::Id;
    using Element = Layout::Element;

    // How far a place is there.
    struct Spot {
        std::size_t depth = 0;       // steps that were found
        std::vector<Id> collections; // from the root to what holds the last element found
        Element element;             // the last one found
        Id value = Layout::none;     // its value, or the root
    };

    void renew(std::vector<Splice> splices);
    Spot walk(const Place& place) const;
    Spot find(const Place& place, bool is_replaced);
    Element step_into(Id from, const Place::Step& step) const;
    Id first_shared(const Spot& spot, bool is_replaced) const;
    void part(Id shared);
    Id inherited(const Place& place, bool anyway = false) const;
    void write_out(const Place& place, bool is_replaced);
    void replace(Element element, std::string_view value);
    bool replace_parameter(Id id, std::string_view value);
    void add_missing(const Spot& spot, const Place& place, std::string_view value, bool as_item);
    std::vector<std::string> lines_of(Id mapping, std::string_view key, std::string_view value,
                                      bool as_item) const;
    void remove(const Place& place, const Spot& spot);
    [[noreturn]] void refuse(const Place& place, std::string_view why) const;

    Settings settings_;
    std::unique_ptr<Layout> layout_;
    std::vector<Problem> notes_;
};

} // namespace jackal::plan
