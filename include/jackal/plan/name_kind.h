// What a name in a plan is the name of.
#pragma once

#include "jackal/api.h"

#include <cstdint>
#include <string_view>

namespace jackal::plan {

enum class NameKind : std::uint8_t {
    site,
    region,
    pool,
    subnet,
    machine, ///< a host outside, too
    nic,
    link,
    device, ///< a switch
    port,
    filter,
    policy,
    parameter,
    cut, ///< whatever `--cut` takes
};

/// "site", "subnet", …; "switch" for a device.
JACKAL_API std::string_view to_string(NameKind kind);

} // namespace jackal::plan
