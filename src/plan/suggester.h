// The nearest known name to an unknown one, for the first few of a kind: searching takes its time.
#pragma once

#include "jackal/limits.h"
#include "jackal/plan/mark.h"

#include <string>
#include <string_view>
#include <vector>

namespace jackal::plan {

class Suggester {
  public:
    /// did_you_mean() for a word that is none of the entries' names; empty after
    /// limits::suggestions.
    template <class Entries, class NameOf>
    std::string suggestion(std::string_view word, const Entries& entries, NameOf name_of) {
        std::vector<std::string_view> known;
        if (made_++ < limits::suggestions)
            for (const auto& entry : entries)
                known.push_back(name_of(entry));
        return did_you_mean(nearest_word(word, known));
    }

  private:
    int made_ = 0;
};

} // namespace jackal::plan
