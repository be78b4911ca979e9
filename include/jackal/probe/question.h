// A question by the names of its ends.
#pragma once

#include "jackal/api.h"
#include "jackal/probe/ping.h"

namespace jackal::probe {

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

} // namespace jackal::probe
