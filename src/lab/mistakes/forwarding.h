// Machines that others send by way of, and that do not forward.
#pragma once

#include "lab/mistakes/inspection.h"

namespace jackal::lab {

struct NotForwarding {
    MachineId machine;
    MachineId user;       ///< the first that sends by way of it, as the tables tell; else none
    std::size_t more = 0; ///< that do, besides
};
Finding describe(const Lab& lab, const NotForwarding& mistake);

} // namespace jackal::lab
