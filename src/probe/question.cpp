#include "jackal/probe/question.h"

namespace jackal::probe {

std::optional<PingQuestion> question(const lab::Lab& lab, std::string_view from,
                                     std::string_view to, const PingOptions& options) {
    auto sender = endpoint(lab, from);
    auto target = endpoint(lab, to);
    if (!sender || !sender->machine || !target)
        return std::nullopt;
    return PingQuestion{.from = *sender,
                        .to = *target,
                        .service = options.service,
                        .family = options.family,
                        .source = options.source,
                        .count = options.count,
                        .ttl = options.ttl,
                        .payload_bytes = options.payload_bytes,
                        .seed = options.seed};
}

} // namespace jackal::probe
