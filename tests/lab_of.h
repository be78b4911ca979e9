// The lab that a text means.
#pragma once

#include "jackal/lab/build.h"
#include "jackal/plan/read.h"
#include "jackal/probe/question.h"

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

// The outcome of a ping, or of asking for a service, in a word.
inline std::string outcome(const jackal::routing::Settled& settled, const std::string& from,
                           const std::string& to,
                           std::optional<jackal::net::Service> service = std::nullopt) {
    using namespace jackal;
    auto question = probe::question(settled.lab(), from, to, {.service = service});
    REQUIRE(question.has_value());
    auto answer = probe::ping(settled, *question);
    return answer.diagnosis ? std::string(plan::slug(answer.diagnosis->cause))
                            : std::string(probe::to_string(answer.outcome()));
}
inline std::string outcome(const jackal::lab::Lab& lab, const std::string& from,
                           const std::string& to,
                           std::optional<jackal::net::Service> service = std::nullopt) {
    return outcome(jackal::routing::settle(lab), from, to, service);
}
