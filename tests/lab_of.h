// The lab that a text means.
#pragma once

#include "jackal/lab/build.h"
#include "jackal/plan/read.h"

#include <doctest/doctest.h>
#include <string>

inline jackal::lab::Lab lab_of(const std::string& text) {
    using namespace jackal;
    plan::Reading reading = plan::read(text, "t");
    for (const plan::Problem& p : reading.problems)
        MESSAGE(plan::to_string(p.at, "t") << ": " << p.message);
    REQUIRE(reading.plan.has_value());
    return lab::build(*reading.plan);
}
