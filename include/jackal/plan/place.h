// Where in a plan file something stands, steps from the top down; and what becomes of it.
//
//     plan::Place place = plan::Place{}.key("routers").name("ridge-r1").key("routes").index(0);
//     to_string(place);                        // "routers.ridge-r1.routes[0]"
#pragma once

#include "jackal/api.h"
#include "jackal/plan/mark.h"

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

namespace jackal::plan {

/// A path through the mappings and lists of a plan file.
struct JACKAL_API Place {
    struct Step {
        enum class Kind : std::uint8_t {
            key,     ///< a key of the format: `routes`
            name,    ///< the name of an entry, which is a key too: `ridge-r1`
            one_of,  ///< the same of an entry with `count`, of which one machine, `other`, is meant
            index,   ///< a position in a list, from 0
            between, ///< the item of a list whose `between` has these two ends
        };
        Kind kind = Kind::key;
        std::string word;
        std::string other;
        std::size_t index = 0;

        friend bool operator==(const Step&, const Step&) = default;
    };
    std::vector<Step> steps;

    Place key(std::string_view word) const;
    Place name(std::string_view word) const;
    Place one_of(std::string_view entry, std::string_view machine) const;
    Place index(std::size_t position) const;
    Place between(std::string_view one, std::string_view other) const;

    friend bool operator==(const Place&, const Place&) = default;
};

/// `routers.ridge-r1.routes[0]`, `guests.desk-2 (written out of desk).nics[0]`, `links (a/p1 --
/// b/p1)`.
JACKAL_API std::string to_string(const Place& place);

/// A change of whatever stands at a place.
struct PlaceChange {
    enum class Verb : std::uint8_t {
        set,    ///< `guests.desk.nics[0].subnet=quay`; what is not there is added
        add,    ///< `sites.isle.space+=10.61.0.0/16`: an item of a list
        remove, ///< `routers.r1.routes[0]-`, or the item of a list:
                ///< `sites.isle.space-=10.60.0.0/16`
        order,  ///< the entries there stand in another order: the value lists their names
    };
    Place place;
    Verb verb = Verb::set;
    std::string value;  ///< YAML in flow style; empty to remove what stands there
    std::string before; ///< what stood there, if that is known; empty for nothing
    WrittenAt at = {};  ///< where it stands in the plan's file, or the entry to add to, if known

    friend bool operator==(const PlaceChange&, const PlaceChange&) = default;
};

/// `set`, `add`, `remove`, `order`.
JACKAL_API std::string_view to_string(PlaceChange::Verb verb);

/// `guests.desk.nics[0].mtu: 1400, was the usual`, `guests.desk: added {nics: …}`, `links[2]:
/// removed {…}`.
JACKAL_API std::string to_line(const PlaceChange& change);

} // namespace jackal::plan
