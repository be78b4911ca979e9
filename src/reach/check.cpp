#include "jackal/reach/check.h"

#include "jackal/plan/validate.h"
#include "jackal/probe/question.h"
#include "jackal/routing/discord.h"

#include "lab/mistakes/inspection.h"
#include "reach/parallel.h"
#include "reach/questions.h"
#include "reach/tables.h"
#include "speaker.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>
#include <set>
#include <tuple>

namespace jackal::reach {

using lab::Lab;
using lab::NicId;
using plan::Cause;

namespace {

// Pairs without a reply for one cause at one place; how many, and one of them: the first that an
// expectation names, else the first.
struct Gap {
    std::size_t pairs = 0;
    probe::Diagnosis first;
    std::optional<plan::AddedRule> rule; // by which a filter would let the first pass
    std::string from;
    std::string to;
    const plan::Expectation* expected = nullptr; // that runs into it
    // All of them, if one rule of a filter may let them pass: who asks, and whom.
    std::set<std::pair<lab::MachineId, lab::MachineId>> ends;
    bool is_of_one_rule = true;

    void begin_with(const probe::Diagnosis& d) {
        first = d;
        rule = rule_of(d.remedy);
    }
    // The rule by which a filter would let a packet pass, or nothing.
    static std::optional<plan::AddedRule> rule_of(const lab::Remedy& remedy) {
        return remedy.edits.size() == 1 ? added_rule(remedy.edits.front()) : std::nullopt;
    }
};

// What tells a machine from others on its segments, as far as packets go: its NICs, its routes and
// its duties, but not its own addresses.
std::vector<std::uint64_t> traits(const Lab& lab, lab::MachineId id) {
    const lab::Machine& machine = lab.machines[id];
    bool alone =
        machine.duties || machine.kind == plan::MachineKind::router || machine.forwards_any();
    std::vector<std::uint64_t> traits{machine.up, alone ? id.row : ~std::uint64_t{0}};
    for (NicId nic : lab.nics_of(id)) {
        const lab::Nic& row = lab.nics[nic];
        traits.insert(traits.end(),
                      {row.segment.row, row.up, row.mtu_bytes, row.guard.row, row.address_count});
        for (lab::AddressId address : lab.addresses_of(nic))
            traits.push_back(lab.addresses[address].length);
    }
    for (lab::RouteId route : lab.routes_of(id)) {
        const lab::StaticRoute& row = lab.routes[route];
        traits.insert(traits.end(), {row.to.first().high(), row.to.first().low(),
                                     static_cast<std::uint64_t>(row.to.length()), row.via.high(),
                                     row.via.low(), row.metric});
    }
    return traits;
}

// Sites that reach each other.
class Islands {
  public:
    explicit Islands(const Lab& lab)
        : lab_(lab), count_(lab.sites.size()), reaches_(count_ * count_) {}

    void join(lab::SiteId from, lab::SiteId to) {
        if (from && to)
            reaches_[from.row * count_ + to.row] = true;
    }

    // Each site stands with the first before it all of which it reaches, and they it.
    std::vector<std::vector<lab::SiteId>> sets() const {
        std::vector<std::vector<lab::SiteId>> sets;
        for (lab::SiteId site : lab_.sites.ids()) {
            if (lab_.sites[site].outside)
                continue;
            auto own = std::ranges::find_if(sets, [&](const auto& set) {
                return std::ranges::all_of(set,
                                           [&](auto other) { return are_joined(site, other); });
            });
            if (own == sets.end())
                sets.push_back({site});
            else
                own->push_back(site);
        }
        return sets;
    }

    // Sites of different ones of these sets that reach each other.
    std::vector<std::pair<lab::SiteId, lab::SiteId>>
    across(const std::vector<std::vector<lab::SiteId>>& sets) const {
        std::vector<std::pair<lab::SiteId, lab::SiteId>> pairs;
        for (std::size_t i = 0; i < sets.size(); ++i)
            for (std::size_t j = i + 1; j < sets.size(); ++j)
                for (lab::SiteId one : sets[i])
                    for (lab::SiteId other : sets[j])
                        if (are_joined(one, other))
                            pairs.emplace_back(one, other);
        return pairs;
    }

  private:
    bool are_joined(lab::SiteId one, lab::SiteId other) const {
        return reaches_[one.row * count_ + other.row] && reaches_[other.row * count_ + one.row];
    }

    const Lab& lab_;
    std::size_t count_;
    std::vector<bool> reaches_; // a row for each site
};

class Checker {
  public:
    explicit Checker(const routing::Settled& settled)
        : settled_(settled), lab_(settled.lab()), diagnoser_(settled), islands_(lab_) {}

    Check run(const std::function<void(std::size_t, std::size_t)>& progress) {
        check_.findings = table_findings(settled_);
        for (lab::Finding& finding : check_.findings)
            told_[finding.cause].push_back(&finding);
        collect_expected();
        std::vector<lab::MachineId> senders;
        collect_ends(senders);
        const std::size_t most = foresee();
        Questions questions(lab_, senders, targets_, foreseen_ ? &*foreseen_ : nullptr);
        check_.pairs = questions.pairs();
        check_.answered = check_.pairs_asked = questions.answered();
        questions.each_answered_site([&](auto one, auto other) { islands_.join(one, other); });
        const std::size_t all = std::min(questions.pairs() - questions.answered(), most);
        std::size_t done = 0;
        questions.each(most, [&](std::size_t from, std::size_t to) {
            ask(senders[from], targets_[to]);
            ++done;
            if (progress)
                progress(done, all);
        });
        if (check_.pairs_asked == check_.pairs)
            weigh_errors();
        check_.islands = islands_.sets();
        check_.joined = islands_.across(check_.islands);
        check_.verdicts = verify(settled_);
        for (const Verdict& verdict : check_.verdicts)
            if (!verdict.passed)
                run_into(verdict);
        std::vector<lab::Finding> gaps;
        for (const auto& [key, gap] : gaps_)
            report(gap, gaps);
        told_.clear();
        std::ranges::move(gaps, std::back_inserter(check_.findings));
        std::ranges::move(tunnel_findings(settled_), std::back_inserter(check_.findings));
        lab::sort_findings(check_.findings);
        lab::part_proposals(lab_, check_.findings);
        return std::move(check_);
    }

  private:
    // Gaps that the plan itself expects.
    void collect_expected() {
        for (const plan::Expectation& wanted : lab_.expectations) {
            if (wanted.service || wanted.any_cuts != 0 || !wanted.cuts.empty()
                || wanted.gets.value == "reply")
                continue;
            probe::asked(lab_, wanted.from.value, wanted.to.value)
                .each([&](const probe::Endpoint& one, const probe::Endpoint& other) {
                    if (expected_.size() >= limits::expected_pairs)
                        return;
                    expected_.emplace(std::pair(one.machine, other.machine), wanted.gets.value);
                    if (wanted.apart)
                        expected_.emplace(std::pair(other.machine, one.machine), wanted.gets.value);
                });
        }
    }

    // Every machine of the plan asks, and answers by its name and on each of its subnets; what is
    // outside answers on each. In a lab of very many machines one asks and answers for all that
    // nothing but their addresses tells from it.
    void collect_ends(std::vector<lab::MachineId>& senders) {
        bool all = lab_.machines.size() <= most_machines;
        std::set<std::vector<std::uint64_t>> known;
        for (lab::MachineId id : lab_.machines.ids()) {
            const lab::Machine& machine = lab_.machines[id];
            if (machine.outside || machine.nic_count == 0
                || (!all && !known.insert(traits(lab_, id)).second))
                continue;
            senders.push_back(id);
            targets_.push_back(end_at(lab_, id));
            for (NicId nic : lab_.nics_of(id)) // an only one is what the name means
                if (lab_.segments[lab_.nics[nic].segment].subnet && machine.nic_count > 1
                    && !lab_.is_own_way_out(lab_.nics[nic].segment))
                    targets_.push_back(end_at(lab_, nic));
        }
        for (const lab::Subnet& subnet : lab_.subnets)
            if (auto nic = speaker(settled_, subnet);
                nic && subnet.outside && !lab_.is_own_way_out(subnet.segment))
                targets_.push_back(end_at(lab_, *nic));
    }

    // Nobody gets in where all NICs of a machine have ways out of their own.
    bool is_behind_own_way_out(lab::MachineId id) const {
        return std::ranges::all_of(lab_.nics_of(id), [&](NicId nic) {
            return lab_.is_own_way_out(lab_.nics[nic].segment);
        });
    }

    // Most verdicts at once, unless chance has a say; in a very large lab those of guests. How many
    // of the others may be asked.
    std::size_t foresee() {
        if (!Foreseen::is_possible(lab_))
            return limits::checked_walks;
        if (addresses(targets_) <= limits::checked_ends) {
            foreseen_.emplace(settled_, targets_, targets_, std::nullopt, useful_threads());
            return limits::checked_pairs;
        }
        std::vector<probe::Endpoint> guests;
        for (const probe::Endpoint& target : targets_)
            if (const lab::Machine& machine = lab_.machines[target.machine];
                machine.kind == plan::MachineKind::guest && !machine.forwards_any()
                && !machine.outside)
                guests.push_back(target);
        if (addresses(guests) > limits::checked_guests)
            return limits::checked_walks;
        foreseen_.emplace(settled_, guests, guests, std::nullopt, useful_threads());
        return limits::checked_others;
    }

    std::size_t addresses(const std::vector<probe::Endpoint>& ends) const {
        std::size_t count = 0;
        for (const probe::Endpoint& end : ends)
            for (NicId nic : lab_.nics_of(end.machine))
                count += end.nic ? 0 : lab_.nics[nic].address_count;
        return count;
    }

    void ask(lab::MachineId from, const probe::Endpoint& to) {
        ++check_.pairs_asked;
        const probe::PingQuestion question{.from = end_at(lab_, from), .to = to, .count = 1};
        if (foreseen_ && foreseen_->reaches(question) == true)
            return answered(from, to.machine);
        probe::Exchange exchange = probe::exchange(settled_, question);
        if (exchange.replied())
            return answered(from, to.machine);
        if (to.nic && exchange.gap == probe::Gap::no_address) {
            --check_.pairs_asked; // the machine is asked by its name, too
            --check_.pairs;
            return;
        }
        failing_.insert(from);
        failing_.insert(to.machine);
        if (expected_.contains({from, to.machine})) {
            ++check_.stated;
            return;
        }
        if (gaps_.size() >= limits::explained_gaps && !diagnoser_.knows(exchange)) {
            ++check_.unexplained;
            return;
        }
        const probe::Diagnosis& d = diagnoser_.of(exchange);
        failing_.insert(d.where);
        bool meant = is_lost_reply(d.cause) || d.cause == Cause::wrong_default_wins
                     || d.cause == Cause::lease_route_wins;
        if ((lab_.machines[to.machine].outside || is_behind_own_way_out(to.machine)) && !meant) {
            ++check_.outside; // a lab need not reach what is outside
            return;
        }
        auto back = expected_.find({to.machine, from});
        if (back != expected_.end() && back->second == plan::slug(d.cause)) {
            ++check_.stated; // what is expected of one way says the same of the other
            return;
        }
        ++check_.explained;
        if (is_told(d))
            return;
        Gap& gap = gaps_[key_of(d)];
        if (gap.pairs++ == 0) {
            gap.begin_with(d);
            gap.from = exchange.question.from.name;
            gap.to = to.nic ? lab_.nic_name(to.nic) : to.name;
        }
        add_ends(gap, d, from, to.machine);
    }

    static void add_ends(Gap& gap, const probe::Diagnosis& d, lab::MachineId from,
                         lab::MachineId to) {
        constexpr std::size_t most = 1000;
        if (!gap.is_of_one_rule)
            return;
        const auto& first = gap.rule;
        const auto own = Gap::rule_of(d.remedy);
        const bool is_like = first && own && first->filter == own->filter
                             && first->position == own->position && first->rule.way == own->rule.way
                             && first->rule.protocol == own->rule.protocol;
        if (is_like && gap.ends.size() < most)
            gap.ends.emplace(from, to);
        else
            gap.is_of_one_rule = false;
    }

    // One rule for all pairs, if they are all that there are between those who ask and those who
    // are asked.
    lab::Remedy remedy_of(const Gap& gap) const {
        lab::Remedy remedy = gap.first.remedy;
        const auto& one = gap.rule;
        if (!one || !gap.is_of_one_rule || gap.ends.size() < 2 || one->rule.from.size() != 1
            || one->rule.to.size() != 1)
            return remedy;
        std::set<lab::MachineId> askers;
        std::set<lab::MachineId> asked;
        for (const auto& [from, to] : gap.ends) {
            askers.insert(from);
            asked.insert(to);
        }
        for (lab::MachineId from : askers)
            for (lab::MachineId to : asked)
                if (from != to && !gap.ends.contains({from, to}))
                    return remedy;
        const std::string asker(plan::split_endpoint(gap.from).first);
        const bool is_reply = plan::to_string(one->rule.from.front().value) != asker;
        plan::FilterRule all = one->rule;
        all.from = names_of(is_reply ? asked : askers);
        all.to = names_of(is_reply ? askers : asked);
        if (!all.from.empty() && !all.to.empty())
            remedy.edits = {plan::add_filter_rule(lab_.plan, one->filter, one->position, all)};
        return remedy;
    }

    // Subnets whose machines of one NIC are all among them, and the names of the others, if those
    // are few.
    std::vector<plan::Placed<plan::Ends>> names_of(std::set<lab::MachineId> machines) const {
        constexpr std::size_t few = 8;
        std::vector<plan::Placed<plan::Ends>> names;
        for (const lab::Subnet& subnet : lab_.subnets) {
            std::set<lab::MachineId> there;
            for (NicId nic : lab_.segments[subnet.segment].nics)
                if (lab_.machines[lab_.nics[nic].machine].nic_count == 1)
                    there.insert(lab_.nics[nic].machine);
            if (there.size() < 2 || !std::ranges::includes(machines, there))
                continue;
            names.emplace_back(plan::Ends(subnet.name));
            for (lab::MachineId machine : there)
                machines.erase(machine);
        }
        for (lab::MachineId machine : machines)
            names.emplace_back(plan::Ends(lab_.machines[machine].name));
        return names.size() <= few ? names : std::vector<plan::Placed<plan::Ends>>();
    }

    using GapKey = std::tuple<Cause, std::uint32_t, std::uint32_t, lab::MachineId>;
    static GapKey key_of(const probe::Diagnosis& d) {
        return {d.cause, d.at.line, d.at.column, d.at ? lab::MachineId{} : d.where};
    }

    // What an expectation runs into is an error, of the pair that it names.
    void run_into(const Verdict& verdict) {
        const plan::Expectation& wanted = lab_.expectations[verdict.expectation];
        if (!verdict.answer || !verdict.answer->diagnosis || !wanted.cuts.empty()
            || wanted.any_cuts != 0)
            return;
        const probe::Diagnosis& d = *verdict.answer->diagnosis;
        if (lab::Finding* told = found(d, lab_.machines[d.where].name)) {
            told->severity = lab::Severity::error;
            return;
        }
        Gap& gap = gaps_[key_of(d)];
        if (gap.expected != nullptr)
            return;
        gap.pairs = std::max(gap.pairs, verdict.failed);
        gap.begin_with(d);
        if (gap.ends.empty() || !gap.rule)
            gap.is_of_one_rule = false;
        gap.from = verdict.answer->question.from.name;
        gap.to = verdict.answer->question.to.name;
        gap.expected = &wanted;
    }

    void answered(lab::MachineId from, lab::MachineId to) {
        ++check_.answered;
        islands_.join(lab_.site_of(from), lab_.site_of(to));
    }

    // --- what the tables tell ------------------------------------------------------------------

    // An error about packets that no failing ping bears out is none.
    void weigh_errors() {
        for (lab::Finding& finding : check_.findings)
            if (finding.severity == lab::Severity::error && is_about_packets(finding.cause)
                && (is_decision(finding.cause) || !is_borne_out(finding)))
                finding.severity = lab::Severity::warning;
    }

    // What is down is down because somebody wrote so.
    static bool is_decision(Cause cause) {
        return cause == Cause::nic_down || cause == Cause::port_down
               || cause == Cause::no_router_between;
    }

    // False for what is wrong even if every ping gets its reply: ranges, leases, sessions, loops of
    // frames, sizes.
    static bool is_about_packets(Cause cause) {
        switch (cause) {
        case Cause::duplicate_address:
        case Cause::address_outside_subnet:
        case Cause::network_address:
        case Cause::broadcast_address:
        case Cause::prefix_length_differs:
        case Cause::nic_down:
        case Cause::nic_unaddressed:
        case Cause::port_down:
        case Cause::wrong_vlan:
        case Cause::vlan_not_carried:
        case Cause::native_vlan_differs:
        case Cause::segment_split:
        case Cause::gateway_off_subnet:
        case Cause::gateway_unclaimed:
        case Cause::next_hop_off_link:
        case Cause::next_hop_unclaimed:
        case Cause::next_hop_does_not_forward:
        case Cause::default_route_loop:
        case Cause::routing_loop:
        case Cause::no_router_between: return true;
        default: return false;
        }
    }

    // True if a machine that it is about, or one on a subnet that it is about, is an end of a ping
    // that fails, or where that fails.
    bool is_borne_out(const lab::Finding& finding) const {
        std::string subject = finding.subject.substr(0, finding.subject.find('/'));
        if (auto machine = lab_.machine(subject))
            return failing_.contains(*machine);
        auto subnet = lab_.subnet(subject);
        if (!subnet)
            return !failing_.empty();
        return std::ranges::any_of(failing_, [&](lab::MachineId machine) {
            return std::ranges::any_of(lab_.nics_of(machine), [&](NicId nic) {
                return lab_.segments[lab_.nics[nic].segment].subnet == *subnet;
            });
        });
    }

    static bool is_lost_reply(Cause cause) {
        return cause == Cause::no_return_route || cause == Cause::routing_loop
               || cause == Cause::private_untranslated;
    }

    // True if a finding of the tables tells of it: about the same place, or about what the
    // diagnosis names, or naming who it is about.
    bool is_told(const probe::Diagnosis& d) {
        auto [known, is_new] = is_told_.try_emplace(&d);
        if (is_new)
            known->second = found(d, lab_.machines[d.where].name) != nullptr;
        return known->second;
    }

    lab::Finding* found(const probe::Diagnosis& d, const std::string& where) const {
        auto same = told_.find(d.cause);
        if (same == told_.end())
            return nullptr;
        auto at = std::ranges::find_if(same->second, [&](const lab::Finding* finding) {
            return finding->at && finding->at == d.at;
        });
        if (at == same->second.end())
            at = std::ranges::find_if(same->second, [&](const lab::Finding* finding) {
                std::string_view subject = finding->subject;
                return names(d.explanation, subject.substr(0, subject.find('/')))
                       || names(finding->message, where);
            });
        return at == same->second.end() ? nullptr : *at;
    }

    // True if the sentence has the name as a word.
    static bool names(std::string_view sentence, std::string_view name) {
        auto is_inner = [&](std::size_t i) {
            char c = i < sentence.size() ? sentence[i] : ' ';
            return (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') || c == '-';
        };
        for (std::size_t at = sentence.find(name); at != sentence.npos && !name.empty();
             at = sentence.find(name, at + 1))
            if ((at == 0 || !is_inner(at - 1)) && !is_inner(at + name.size()))
                return true;
        return false;
    }

    void report(const Gap& gap, std::vector<lab::Finding>& into) const {
        const probe::Diagnosis& d = gap.first;
        const std::string& where = lab_.machines[d.where].name;
        bool returns =
            d.cause == Cause::no_route && std::ranges::any_of(gaps_, [&](const auto& other) {
                return other.second.first.cause == Cause::no_return_route
                       && other.second.first.where == d.where;
            });
        if (returns && gap.expected == nullptr)
            return;
        std::string more;
        if (gap.pairs > 1)
            more =
                fmt::format(" (and {} more {})", gap.pairs - 1, gap.pairs == 2 ? "pair" : "pairs");
        const bool is_error = gap.expected != nullptr || d.cause == Cause::routing_loop;
        const std::string service =
            gap.expected != nullptr && gap.expected->service
                ? fmt::format(" on {}", net::to_string(*gap.expected->service))
                : "";
        into.push_back({d.cause, is_error ? lab::Severity::error : lab::Severity::warning, where,
                        fmt::format("{} gets no reply from {}{}{}: {}", gap.from, gap.to, service,
                                    more, d.explanation),
                        lab::within(remedy_of(gap)), d.at, gap.from, gap.to});
        // An expectation may ask by a service, a family or a NIC: a ping by names is another
        // question.
        if (gap.expected != nullptr && !fails_by_names(gap))
            into.back().from = into.back().to = "";
    }

    bool fails_by_names(const Gap& gap) const {
        const auto question = probe::question(lab_, gap.from, gap.to);
        return !gap.expected->service && question
               && !probe::exchange(settled_, *question).replied();
    }

    // So many machines each ask all others.
    static constexpr std::size_t most_machines = 1000;

    const routing::Settled& settled_;
    const Lab& lab_;
    probe::Diagnoser diagnoser_;
    std::optional<Foreseen> foreseen_;
    Islands islands_;
    std::set<lab::MachineId> failing_; // ends of pings without a reply, and where those fail
    Check check_;
    std::vector<probe::Endpoint> targets_;
    std::map<const probe::Diagnosis*, bool> is_told_;
    std::map<Cause, std::vector<lab::Finding*>> told_;                          // by the tables
    std::map<std::pair<lab::MachineId, lab::MachineId>, std::string> expected_; // and what for
    // By cause and place in the plan, or who it is at if that is not written there.
    std::map<GapKey, Gap> gaps_;
};

} // namespace

std::vector<lab::Finding> table_findings(const routing::Settled& settled) {
    std::vector<lab::Finding> found = lab::findings(settled.lab());
    std::ranges::move(routing::protocol_findings(settled.lab(), *settled.lessons()),
                      std::back_inserter(found));
    return found;
}

std::vector<lab::Finding> tunnel_findings(const routing::Settled& settled) {
    const Lab& lab = settled.lab();
    std::vector<lab::Finding> found;
    for (const lab::Link& link : lab.links)
        if (auto d = link.is_tunnel ? probe::explain_tunnel(settled, link.first) : std::nullopt)
            found.push_back({d->cause, lab::Severity::error, lab.segment_name(link.segment),
                             std::move(d->explanation), lab::within(std::move(d->remedy)), d->at});
    return found;
}

bool Check::has_errors() const {
    return std::ranges::any_of(
        findings, [](const lab::Finding& f) { return f.severity == lab::Severity::error; });
}

std::size_t Check::expectations_met() const {
    return static_cast<std::size_t>(std::ranges::count(verdicts, true, &Verdict::passed));
}

Check check(const routing::Settled& settled,
            const std::function<void(std::size_t, std::size_t)>& progress) {
    return Checker(settled).run(progress);
}

} // namespace jackal::reach
