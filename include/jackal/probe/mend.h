// Every change that a ping needs before it gets its reply, tried out one after another.
#pragma once

#include "jackal/api.h"
#include "jackal/limits.h"
#include "jackal/probe/ping.h"

namespace jackal::probe {

struct Mending {
    std::vector<plan::Edit> edits; ///< in the order to make them
    std::string advice;            ///< what is left to do where no change is certain; may be empty
    bool mends = false;            ///< with the edits made, the ping gets its reply
};

/// Options of a ping that do not depend on the lab it is asked of; see PingQuestion.
struct PingOptions {
    std::optional<net::Service> service;
    std::optional<net::Family> family;
    std::optional<net::Address> source;
    int count = 4;
    int ttl = 64;
    unsigned payload_bytes = 56;
    std::uint64_t seed = 1;
};

/// The question by the names of its ends, or nothing if the lab does not have them or the sender
/// is no machine.
JACKAL_API std::optional<PingQuestion> question(const lab::Lab& lab, std::string_view from,
                                                std::string_view to,
                                                const PingOptions& options = {});

/// Makes the remedy of each diagnosis in turn, builds the lab again and asks again, until a reply
/// comes or nothing more is known to do. At most `most_mending_rounds` labs are built.
JACKAL_API Mending mend(const plan::Plan& plan, std::string_view from, std::string_view to,
                        const PingOptions& options = {});

constexpr int most_mending_rounds = limits::mending_rounds;

} // namespace jackal::probe
