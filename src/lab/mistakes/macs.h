// NICs that share a MAC.
#pragma once

#include "lab/mistakes/inspection.h"

namespace jackal::lab {

/// NICs of one broadcast domain have the same MAC.
struct DuplicateMac {
    NicId changed;           ///< the one to mend
    std::vector<NicId> nics; ///< those in question, that one too
};
Finding describe(const Lab& lab, const DuplicateMac& mistake, Seen seen);

} // namespace jackal::lab
