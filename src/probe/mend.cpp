#include "jackal/probe/mend.h"

#include "jackal/lab/build.h"

namespace jackal::probe {

std::optional<PingQuestion> question(const lab::Lab& lab, std::string_view from,
                                     std::string_view to, const PingOptions& options) {
    auto sender = endpoint(lab, from);
    auto target = endpoint(lab, to);
    if (!sender || !sender->machine || !target)
        return std::nullopt;
    return PingQuestion{.from = *sender,
                        .to = *target,
                        .family = options.family,
                        .source = options.source,
                        .count = options.count,
                        .ttl = options.ttl,
                        .payload_bytes = options.payload_bytes,
                        .seed = options.seed};
}

Mending mend(const plan::Plan& plan, std::string_view from, std::string_view to,
             const PingOptions& options) {
    Mending mending;
    plan::Plan current = plan;
    for (int round = 0; round < most_mending_rounds; ++round) {
        lab::Lab lab = lab::build(current);
        routing::Settled settled = routing::settle(lab);
        auto asked = question(lab, from, to, options);
        if (!asked)
            return mending;
        PingAnswer answer = ping(settled, *asked);
        mending.mends = !answer.diagnosis;
        if (mending.mends)
            return mending;
        mending.advice = answer.diagnosis->remedy.advice;
        if (answer.diagnosis->remedy.edits.empty())
            return mending;
        mending.advice.clear();
        for (const plan::Edit& edit : answer.diagnosis->remedy.edits) {
            mending.edits.push_back(edit);
            current = plan::apply(std::move(current), {edit});
        }
    }
    return mending;
}

} // namespace jackal::probe
