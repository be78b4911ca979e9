// What mends a single question, and what mends each finding of a check: by the same search.
#pragma once

#include "jackal/mend/search.h"
#include "jackal/reach/check.h"

namespace jackal::mend {

struct Mending {
    std::vector<plan::Edit> edits; ///< in the order to make them
    std::string advice;            ///< what is left to do where no change is certain; may be empty
    bool mends = false;            ///< with the edits made, the question gets its reply
};

/// What gets the question its reply and, in labs of no more than most_machines_beside, makes
/// nothing else worse. At most limits::mending_labs labs are built, and none once `goes_on`, if
/// given, returns false. Throws std::invalid_argument if the question names no machine of the lab.
///
///     mend::Mending mending = mend::reply(plan, {"chart-desk-1", "kettle"});
JACKAL_API Mending reply(const plan::Plan& plan, const Question& question,
                         const std::function<bool()>& goes_on = {});

/// Looks for what mends each finding of `check`, which is that of `lab`, built from `plan`: the
/// finding is gone then, and nothing new is wrong, so what a NIC behind two things that are down
/// needs is both up. Puts those first that others follow from (Finding::follows). How it went is
/// Remedy::proof; of a large lab some stay untried (limits::tried_rows), and all that are left once
/// `goes_on`, asked before each lab that is built, if given, returns false.
JACKAL_API void try_remedies(const plan::Plan& plan, const lab::Lab& lab, reach::Check& check,
                             const std::function<bool()>& goes_on = {});

} // namespace jackal::mend
