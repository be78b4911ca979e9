#include "jackal/probe/mend.h"

#include "jackal/lab/build.h"
#include "jackal/plan/validate.h"

#include <set>

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

Mending mend(const plan::Plan& plan, std::string_view from, std::string_view to,
             const PingOptions& options) {
    Mending mending;
    plan::Plan current = plan;
    std::set<std::string> made;
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
        const lab::Remedy& remedy = answer.diagnosis->remedy;
        std::string change;
        for (const std::string& line : lab::to_lines(remedy, current))
            change += line + '\n';
        mending.advice = remedy.advice;
        if (remedy.edits.empty() || !made.insert(change).second)
            return mending; // nothing is known to do, or it did not help the first time
        plan::Plan changed = plan::apply(current, remedy.edits);
        if (!plan::problems(changed).empty())
            return mending;
        mending.advice.clear();
        mending.edits.insert(mending.edits.end(), remedy.edits.begin(), remedy.edits.end());
        current = std::move(changed);
    }
    return mending;
}

} // namespace jackal::probe
