// Whether tests may make network namespaces.
#pragma once

#include "program.h"

#include <doctest/doctest.h>
#include <stdlib.h>
#include <unistd.h>

inline bool has_kernel() {
    const bool has = geteuid() == 0 && run("unshare --net true 2>&1").status == 0;
    if (!has && getenv("JACKAL_KERNEL_REQUIRED") != nullptr)
        FAIL("needs root and network namespaces");
    return has;
}
