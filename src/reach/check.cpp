#include "jackal/reach/check.h"

#include "jackal/routing/discord.h"

#include "speaker.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>

namespace jackal::reach {

using lab::Lab;
using lab::NicId;
using plan::Cause;

namespace {

// Replies lost at one place for one cause; how often, and the first case.
struct OneWay {
    std::size_t pairs = 0;
    probe::Diagnosis first;
    std::string between;
};

class Checker {
  public:
    explicit Checker(const routing::Settled& settled)
        : settled_(settled), lab_(settled.lab()), diagnoser_(settled) {}

    Check run(const std::function<void(std::size_t, std::size_t)>& progress) {
        check_.findings = lab::findings(lab_);
        for (lab::Finding& f : routing::protocol_findings(lab_, *settled_.lessons()))
            check_.findings.push_back(std::move(f));
        std::vector<NicId> askers;
        for (const lab::Subnet& subnet : lab_.subnets)
            if (auto nic = speaker(settled_, subnet)) {
                speakers_.push_back(*nic);
                if (!subnet.outside)
                    askers.push_back(*nic);
            }
        check_.subnets = askers.size();
        std::size_t pairs = askers.empty() ? 0 : askers.size() * (speakers_.size() - 1);
        for (NicId from : askers) {
            for (NicId to : speakers_)
                if (from != to && check_.pairs_asked < most_pairs)
                    ask(from, to);
            if (progress)
                progress(check_.pairs_asked, std::min(pairs, most_pairs));
        }
        for (const auto& [key, one_way] : lost_replies_)
            report(one_way);
        for (const lab::Link& link : lab_.links)
            if (link.is_tunnel)
                try_tunnel(link);
        lab::sort_findings(check_.findings);
        return std::move(check_);
    }

  private:
    void ask(NicId from, NicId to) {
        ++check_.pairs_asked;
        probe::Exchange exchange = probe::exchange(
            settled_, {.from = end_at(lab_, from), .to = end_at(lab_, to), .count = 1});
        if (!exchange.back || exchange.replied())
            return;
        const probe::Diagnosis& d = diagnoser_.of(exchange);
        Cause cause = d.cause;
        if (cause != Cause::no_return_route && cause != Cause::routing_loop
            && cause != Cause::private_untranslated)
            return; // the others are findings of the lab already
        OneWay& entry = lost_replies_[{cause, d.where}];
        if (entry.pairs++ == 0) {
            entry.first = d;
            entry.between = fmt::format("{} and {}", lab_.segment_name(lab_.nics[from].segment),
                                        lab_.segment_name(lab_.nics[to].segment));
        }
    }

    void try_tunnel(const lab::Link& link) {
        auto d = probe::explain_tunnel(settled_, link.first);
        if (!d)
            return;
        check_.findings.push_back({d->cause, lab::Severity::error, lab_.segment_name(link.segment),
                                   std::move(d->explanation),
                                   lab::within(lab_, std::move(d->remedy)), d->at});
    }

    void report(const OneWay& one_way) {
        const probe::Diagnosis& d = one_way.first;
        std::string more;
        if (one_way.pairs > 1)
            more = fmt::format(" (and for {} more pairs of subnets)", one_way.pairs - 1);
        check_.findings.push_back(
            {d.cause, lab::Severity::error, lab_.machines[d.where].name,
             fmt::format("between {}{}: {}", one_way.between, more, d.explanation), d.remedy,
             d.at});
    }

    const routing::Settled& settled_;
    const Lab& lab_;
    probe::Diagnoser diagnoser_;
    Check check_;
    std::vector<NicId> speakers_;
    std::map<std::pair<Cause, lab::MachineId>, OneWay> lost_replies_;
};

} // namespace

bool Check::has_errors() const {
    return std::ranges::any_of(
        findings, [](const lab::Finding& f) { return f.severity == lab::Severity::error; });
}

Check check(const routing::Settled& settled,
            const std::function<void(std::size_t, std::size_t)>& progress) {
    return Checker(settled).run(progress);
}

} // namespace jackal::reach
