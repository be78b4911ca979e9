// Where in a plan file something stands: steps from the top down.
//
//     plan::Place place = plan::Place{}.key("routers").name("ridge-r1").key("routes").index(0);
//     to_string(place);                        // "routers.ridge-r1.routes[0]"
#pragma once

#include "jackal/api.h"

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

} // namespace jackal::plan
