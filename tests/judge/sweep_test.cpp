// What cuts do to a random lab, and what is apart in it, held against walks of every pair.
#include "../sanitized.h"
#include "jackal/jackal.h"
#include "random_lab.h"
#include "seeds.h"

#include <algorithm>
#include <doctest/doctest.h>
#include <functional>
#include <set>

using namespace jackal;

namespace {

// Calls use(from, to, exchange) for what every machine asks every NIC of every other.
using Asked = std::function<probe::Exchange(const routing::Settled&)>;
void each_pair(const lab::Lab& lab,
               const std::function<void(lab::MachineId, lab::NicId, const Asked&)>& use) {
    auto is_way_out = [&](lab::NicId nic) { return lab.is_own_way_out(lab.nics[nic].segment); };
    auto counts = [&](lab::NicId nic) {
        return lab.segments[lab.nics[nic].segment].subnet || lab.nics[nic].address_count != 0;
    };
    for (lab::MachineId from : lab.machines.ids())
        for (lab::NicId nic : lab.nics.ids()) {
            lab::MachineId to = lab.nics[nic].machine;
            const lab::Machine& target = lab.machines[to];
            bool is_asked = target.outside ? target.kind == plan::MachineKind::guest
                                                 && lab.nics[nic].address_count != 0
                                           : counts(nic) && !is_way_out(nic);
            const bool has_others = !std::ranges::all_of(lab.nics_of(from), is_way_out);
            auto asks_by = [&](lab::NicId own) {
                return counts(own) && !(has_others && is_way_out(own));
            };
            if (from == to || lab.machines[from].outside || !is_asked
                || std::ranges::none_of(lab.nics_of(from), asks_by))
                continue;
            use(from, nic, [&, from, to, nic](const routing::Settled& settled) {
                return probe::exchange(
                    settled, {.from = {.name = lab.machines[from].name, .machine = from},
                              .to = {.name = lab.nic_name(nic), .machine = to, .nic = nic},
                              .count = 1});
            });
        }
}

bool has_address(const lab::Lab& lab, lab::NicId nic, std::optional<net::Family> family) {
    return std::ranges::any_of(lab.addresses_of(nic), [&](lab::AddressId id) {
        return !family || lab.addresses[id].address.family() == *family;
    });
}

// True if the machine and the NIC of another have addresses, but of two families.
bool is_foreign(const lab::Lab& lab, lab::MachineId from, lab::NicId to) {
    auto has = [&](lab::MachineId machine, std::optional<net::Family> family) {
        return std::ranges::any_of(lab.nics_of(machine),
                                   [&](lab::NicId nic) { return has_address(lab, nic, family); });
    };
    return has(from, std::nullopt) && has(lab.nics[to].machine, std::nullopt)
           && std::ranges::none_of(net::both_families, [&](net::Family family) {
                  return has(from, family) && has_address(lab, to, family);
              });
}

// Who passes a packet on, and by which NIC but the last of them.
using Way = std::vector<std::pair<lab::MachineId, lab::NicId>>;
void add_way(const packet::Journey& journey, Way& into) {
    std::size_t first = into.size();
    for (const packet::Step& step : journey.steps)
        if (step.action == packet::Action::forward)
            into.emplace_back(step.machine, step.out);
    if (into.size() > first)
        into.back().second = {};
    into.emplace_back();
}

struct Counts {
    std::uint64_t lost = 0;
    std::uint64_t own = 0;
    std::uint64_t gained = 0;
    std::uint64_t moved = 0;
    bool forks = false; // some packet had several equal next hops, and may move to any
};

Counts count(const routing::Settled& settled, const routing::Settled& without,
             const routing::Cut& cut) {
    const lab::Lab& lab = settled.lab();
    const auto* nic = std::get_if<routing::NicCut>(&cut);
    Counts counts;
    each_pair(lab, [&](lab::MachineId from, lab::NicId asked_nic, const Asked& asked) {
        const lab::MachineId to = lab.nics[asked_nic].machine;
        if (!without.condition().machine_on(from) || !without.condition().machine_on(to))
            return;
        probe::Exchange before = asked(settled);
        probe::Exchange after = asked(without);
        if (before.reaches && !after.reaches) {
            ++counts.lost;
            bool is_own =
                nic != nullptr
                && (lab.nics[nic->nic].machine == from || lab.nics[nic->nic].machine == to);
            counts.own += is_own ? 1 : 0;
        } else if (!before.reaches && after.reaches) {
            ++counts.gained;
        } else if (before.reaches) {
            Way ways[2];
            const probe::Exchange* both[2] = {&before, &after};
            for (int i : {0, 1}) {
                add_way(*both[i]->out, ways[i]);
                add_way(*both[i]->back, ways[i]);
                counts.forks =
                    counts.forks || !both[i]->out->forks.empty() || !both[i]->back->forks.empty();
            }
            counts.moved += ways[0] != ways[1] ? 1 : 0;
        }
    });
    return counts;
}

// The longest of what machines wait for under the condition, with tables made from nothing.
std::optional<routing::Duration> longest_wait(const routing::Settled& settled,
                                              const routing::Settled& without) {
    const routing::Convergence convergence(settled.lab(), *settled.lessons(), settled.condition());
    std::optional<routing::Duration> longest;
    for (const auto& time : convergence.to(*without.lessons(), without.condition()))
        if (time && time->count() > 0)
            longest = std::max(longest.value_or(*time), *time);
    return longest;
}

} // namespace

TEST_CASE("a sweep counts of every cut what asking every pair before and after counts") {
    std::size_t looked_into = 0;
    std::size_t harmful = 0;
    std::size_t moving = 0;
    std::size_t kinds = 0;
    for (std::uint64_t seed : judge::seeds(60, 3)) {
        CAPTURE(seed);
        lab::Lab lab = lab::build(*plan::read(judge::random_any(seed).dump(), "made-up.yaml").plan);
        routing::Settled settled = routing::settle(lab);
        reach::Sweep sweep = reach::sweep(settled, {.kind = reach::Kind::all, .threads = 2});
        REQUIRE(sweep.cuts.size() == sweep.asked);
        CHECK(std::ranges::is_sorted(sweep.cuts, std::greater(), &reach::CutEffect::lost));
        std::uint64_t pairs = 0;
        std::uint64_t replies = 0;
        each_pair(lab, [&](lab::MachineId from, lab::NicId to, const Asked& asked) {
            pairs += is_foreign(lab, from, to) ? 0 : 1;
            replies += asked(settled).reaches ? 1 : 0;
        });
        CHECK(sweep.pairs == pairs);
        CHECK(sweep.replies == replies);
        judge::Random random(seed);
        for (int i = 0; i < 5; ++i) {
            const reach::CutEffect& effect = random.any_of(sweep.cuts);
            CAPTURE(to_string(lab, effect.cut.front()));
            routing::Condition condition = settled.condition();
            condition.apply(effect.cut.front());
            const routing::Settled without = routing::settle(lab, condition);
            Counts counts = count(settled, without, effect.cut.front());
            CHECK(effect.settles_after == longest_wait(settled, without));
            CHECK(effect.lost == counts.lost);
            CHECK(effect.own == counts.own);
            CHECK(effect.gained == counts.gained);
            CHECK((effect.moved == counts.moved || counts.forks));
            std::uint64_t lost = 0;
            for (const reach::CutLoss& loss : effect.losses)
                lost += loss.lost;
            CHECK(lost == effect.lost);
            ++looked_into;
            harmful += counts.lost != 0 ? 1 : 0;
            moving += counts.moved != 0 ? 1 : 0;
            kinds |= std::size_t{1} << static_cast<std::size_t>(effect.kind);
        }
    }
    MESSAGE(looked_into, " cuts, ", harmful, " lose pairs, ", moving, " move some");
    CHECK(harmful > looked_into / 10);
    if (!sanitized) {
        CHECK(moving > looked_into / 50);
        CHECK(std::popcount(kinds) >= 6);
    }
}

TEST_CASE("pairs of cuts that a sweep leaves out take what each takes by itself") {
    std::size_t left_out = 0;
    std::size_t lost = 0;
    for (std::uint64_t seed : judge::seeds(40, 8)) {
        CAPTURE(seed);
        lab::Lab lab = lab::build(*plan::read(judge::random_any(seed).dump(), "made-up.yaml").plan);
        routing::Settled settled = routing::settle(lab);
        reach::SweepQuestion question{.kind = reach::Kind::all};
        std::vector<routing::Cut> singles;
        for (const reach::CutKind kind : reach::all_cut_kinds())
            std::ranges::move(reach::cuts(settled, kind), std::back_inserter(singles));
        question.at_once = 2;
        const reach::Sweeping sweeping(settled, question);
        std::set<std::pair<std::string, std::string>> looked_into;
        for (std::size_t i = 0; i < sweeping.size(); ++i)
            looked_into.emplace(to_string(lab, sweeping.cut(i).cut[0]),
                                to_string(lab, sweeping.cut(i).cut[1]));
        CHECK(sweeping.size() + sweeping.sum_up({}).independent
              == singles.size() * (singles.size() - 1) / 2);
        judge::Random random(seed);
        for (int i = 0; i < 30; ++i) {
            std::size_t one = static_cast<std::size_t>(random.below(singles.size()));
            std::size_t other = static_cast<std::size_t>(random.below(singles.size()));
            if (one >= other
                || looked_into.contains(
                    {to_string(lab, singles[one]), to_string(lab, singles[other])}))
                continue;
            CAPTURE(to_string(lab, singles[one]));
            CAPTURE(to_string(lab, singles[other]));
            ++left_out;
            auto under = [&](const std::vector<routing::Cut>& cuts) {
                routing::Condition condition = settled.condition();
                for (const routing::Cut& cut : cuts)
                    condition.apply(cut);
                return routing::settle(lab, condition);
            };
            const routing::Settled first = under({singles[one]});
            const routing::Settled second = under({singles[other]});
            const routing::Settled both = under({singles[one], singles[other]});
            each_pair(lab, [&](lab::MachineId, lab::NicId, const Asked& asked) {
                if (!asked(settled).reaches)
                    return;
                bool is_lost = !asked(first).reaches || !asked(second).reaches;
                lost += is_lost ? 1 : 0;
                CHECK(is_lost == !asked(both).reaches);
            });
        }
    }
    MESSAGE(left_out, " pairs of cuts are left out, they lose ", lost, " replies");
    CHECK((sanitized || lost > left_out));
}

TEST_CASE("what is apart lets no packet through, and else one is named that gets through") {
    std::uint64_t labs = sanitized ? 6 : 150;
    std::size_t apart = 0;
    std::size_t open = 0;
    for (std::uint64_t seed = 1; seed <= labs; ++seed) {
        CAPTURE(seed);
        judge::Json text = judge::random_any(seed);
        judge::Random random(seed);
        std::vector<std::string> names;
        for (const auto& [name, subnet] : text["subnets"].items())
            names.push_back(name);
        text["expect"] = judge::Json::array();
        for (int i = 0; i < 3; ++i)
            text["expect"].push_back({{"apart", {random.any_of(names), random.any_of(names)}}});
        plan::Reading reading = plan::read(text.dump(), "apart.yaml");
        REQUIRE(reading.plan);
        lab::Lab lab = lab::build(*reading.plan);
        routing::Settled settled = routing::settle(lab);
        for (const reach::Verdict& verdict : reach::verify(settled)) {
            const plan::Expectation& wanted = lab.expectations[verdict.expectation];
            CAPTURE(wanted.from.value);
            CAPTURE(wanted.to.value);
            CAPTURE(verdict.explanation);
            if (!verdict.passed && verdict.pairs != 0) {
                REQUIRE(verdict.answer);
                REQUIRE(verdict.answer->out);
                CHECK(verdict.answer->out->ending == packet::Ending::delivered);
                ++open;
                continue;
            }
            apart += verdict.passed ? 1 : 0;
            for (bool there : {true, false}) // pings and services, asked one by one
                for (const probe::Endpoint& from :
                     probe::endpoints(lab, (there ? wanted.from : wanted.to).value))
                    for (const probe::Endpoint& to :
                         probe::endpoints(lab, (there ? wanted.to : wanted.from).value))
                        for (std::optional<net::Service> service :
                             {std::optional<net::Service>{},
                              std::optional(net::Service{net::Protocol::tcp, 22}),
                              std::optional(net::Service{net::Protocol::udp, 53}),
                              std::optional(net::Service{net::Protocol::tcp, 8080})}) {
                            if (from.machine == to.machine)
                                continue;
                            probe::Exchange exchange = probe::exchange(
                                settled, {.from = from, .to = to, .service = service, .count = 1});
                            bool arrived = exchange.out
                                           && exchange.out->ending == packet::Ending::delivered
                                           && exchange.out->last_machine() == to.machine;
                            CHECK(!arrived);
                        }
        }
    }
    MESSAGE(apart, " are apart, ", open, " are not");
    CHECK(apart > 0);
    CHECK(open > apart / 10);
}

TEST_CASE(
    "a course that forgets what is over knows of each later moment what one that does not does") {
    std::size_t turns = 0;
    for (std::uint64_t seed : judge::seeds(20, 4)) {
        CAPTURE(seed);
        const auto plan = plan::read(judge::random_lab(seed, true).dump(), "random");
        if (!plan.plan)
            continue;
        const lab::Lab lab = lab::build(*plan.plan);
        judge::Random random(seed);
        probe::Course whole(lab);
        probe::Course short_lived(lab);
        probe::Microseconds now{0};
        std::vector<routing::Cut> cuts;
        for (int i = 0; i < 12; ++i) {
            now += std::chrono::milliseconds(random.between(1, 30'000));
            const bool mends = !cuts.empty() && random.percent(50);
            const lab::NicId nic{static_cast<std::uint32_t>(random.below(lab.nics.size()))};
            const auto cut = routing::parse_cut(lab, lab.nic_name(nic));
            if (!mends && !cut)
                continue;
            const probe::TimelineEvent event{now, mends, mends ? cuts.back() : *cut};
            if (mends)
                cuts.pop_back();
            else
                cuts.push_back(*cut);
            short_lived.forget_before(now);
            for (probe::Course* course : {&whole, &short_lived})
                course->happen(event);
            turns += short_lived.turns().size();
            for (int later : {0, 500, 5'000, 40'000}) {
                const probe::Microseconds moment = now + std::chrono::milliseconds(later);
                const routing::Settled one = whole.at(moment);
                const routing::Settled other = short_lived.at(moment);
                for (lab::NicId id : lab.nics.ids())
                    CHECK(one.is_usable(id) == other.is_usable(id));
                for (lab::MachineId id : lab.machines.ids()) {
                    const auto wanted = one.routes(id);
                    const auto found = other.routes(id);
                    CHECK(std::ranges::equal(wanted, found, [](const auto& a, const auto& b) {
                        return a.to == b.to && a.kind == b.kind && a.out == b.out && a.via == b.via
                               && a.metric == b.metric;
                    }));
                }
            }
        }
        short_lived.forget_before(now + std::chrono::hours(1));
        CHECK(short_lived.events().empty());
        CHECK(short_lived.turns().empty());
        CHECK(short_lived.cuts() == whole.cuts());
    }
    CHECK(turns > 20);
}
