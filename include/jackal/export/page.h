// A page that stands alone: the picture of a lab, who reaches whom by which way, what is wrong, and
// all tables, as one HTML file that asks nothing of any server.
//
//     std::ofstream("lab.html") << exports::page(plan, settled, check);
#pragma once

#include "jackal/api.h"
#include "jackal/plan/plan.h"
#include "jackal/reach/check.h"

#include <functional>
#include <string>

namespace jackal::exports {

struct PageOptions {
    bool is_live = false;  ///< asks the server that it came from, and follows it (jackal serve)
    bool with_cuts = true; ///< tells what single cuts would take
    /// Called now and then with what is done and all that is to do, if set.
    std::function<void(std::size_t, std::size_t)> progress = {};
};

/// The page of the lab in the condition of `settled`, which is built from `plan`, with the findings
/// and verdicts of `check`. It tells of every pair of machines, or, if they are more than
/// limits::page_ends, of one for each segment, as far as these are no more; and of so many single
/// links and machines, the most harmful first, what cutting it would take, that no more than
/// limits::page_walks pings are asked. The page says what it leaves out. Throws std::runtime_error
/// as drawing::svg does.
JACKAL_API std::string page(const plan::Plan& plan, const routing::Settled& settled,
                            const reach::Check& check, const PageOptions& options = {});

} // namespace jackal::exports
