// One sweep by many processes, the ranks of MPI (MPI: A Message-Passing Interface Standard 3.1).
//
// Every rank reads the plan and works the whole lab out by itself. Rank 0 hands out cuts by their
// numbers, some at a time, to whoever is free, itself too, and takes what came of them. A rank says
// once a second that it is there; of one that has said nothing for long what it was at is given to
// others, and what it had finished before is kept.
#pragma once

#include "jackal/reach/sweep.h"

#include <functional>

namespace jackal::cluster {

/// As reach::sweep(), by all ranks; what comes back at other ranks than 0 is empty.
reach::Sweep sweep(const routing::Settled& settled, const reach::SweepQuestion& question,
                   const std::function<bool(std::size_t, std::size_t)>& progress);

/// True if ranks have gone silent: they are not to be waited for.
bool has_lost_ranks();

} // namespace jackal::cluster
