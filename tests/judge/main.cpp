// Holds every engine against the others on made-up labs: judge --seeds FIRST:COUNT[:STEP], --fresh
// COUNT, --protocols; or the tables of real routing daemons against Jackal's: --speakers.
#include "asks.h"
#include "outages.h"
#include "random_lab.h"
#include "shrink.h"
#include "speakers.h"

#include <CLI/CLI.hpp>
#include <atomic>
#include <chrono>
#include <fmt/format.h>
#include <fstream>
#include <iostream>
#include <mutex>
#include <random>
#include <sys/resource.h>
#include <thread>

namespace judge {
namespace {

using namespace jackal;
using Clock = std::chrono::steady_clock;
using Seconds = std::chrono::duration<double>;

constexpr int status_skipped = 77; // what ctest takes for "could not run here"

struct Options {
    std::string seeds;
    unsigned fresh = 0;
    std::vector<std::string> plans;
    unsigned workers = 4;
    bool protocols = false;
    bool speakers = false;
    bool outages = false;
    bool shrinks = false;
};

// The addresses of a machine in one family; with `usable` only those it can send from.
std::vector<net::Address> addresses_of(const routing::Settled& settled, lab::MachineId machine,
                                       net::Family family, bool usable) {
    const lab::Lab& lab = settled.lab();
    std::vector<net::Address> found;
    for (lab::NicId nic : lab.nics_of(machine))
        for (lab::AddressId row : lab.addresses_of(nic))
            if (lab.addresses[row].address.family() == family
                && (!usable || settled.condition().carries(lab, nic, family)))
                found.push_back(lab.addresses[row].address);
    return found;
}

// All ordered pairs of machines that are on, in both families: mostly small packets with a usual
// TTL to the first address of the target, sometimes larger ones, to another address, from an
// address that the kernel would not choose; and where something listens, services. How a pair is
// asked depends on names alone, so it stays when the plan shrinks.
std::vector<Question> questions_of(const routing::Settled& settled) {
    const lab::Lab& lab = settled.lab();
    static const std::vector<net::Service> services = {
        {net::Protocol::tcp, 22}, {net::Protocol::tcp, 80}, {net::Protocol::udp, 53}};
    bool any_listens = std::ranges::any_of(
        lab.duties, [](const lab::Duties& duties) { return !duties.listens.empty(); });
    std::vector<Question> questions;
    for (lab::MachineId from : lab.machines.ids())
        for (lab::MachineId to : lab.machines.ids())
            for (net::Family family : net::both_families) {
                if (!settled.condition().machine_on(from))
                    continue;
                auto sources = addresses_of(settled, from, family, true);
                auto targets = addresses_of(settled, to, family, false);
                std::string names = lab.machines[from].name + ">" + lab.machines[to].name
                                    + std::string(net::to_string(family));
                Random random(std::hash<std::string>{}(names));
                if (targets.empty() || (sources.empty() && !random.percent(10)))
                    continue;
                Question question{.from = from,
                                  .to = to,
                                  .destination =
                                      random.percent(70) ? targets.front() : random.any_of(targets),
                                  .source = {}};
                if (random.percent(8))
                    question.ttl = random.between(1, 4);
                if (random.percent(12))
                    question.payload_bytes = random.percent(50) ? 1226 : 1440;
                if (random.percent(8) && !sources.empty())
                    question.source = random.any_of(sources);
                questions.push_back(question);
                if (!any_listens || !random.percent(60))
                    continue;
                question.service = random.any_of(services);
                question.payload_bytes = 1;
                questions.push_back(question);
            }
    return questions;
}

// What is known of one lab after all engines were asked.
struct Result {
    std::size_t asked = 0;
    std::size_t replies = 0;
    std::map<std::string, std::size_t> causes;
    std::map<std::string, Seconds> time; // by engine
    std::string mismatch;                // the first; empty if there is none
    bool ran = true;                     // all engines; else that is the mismatch
};

std::optional<lab::Lab> build(const std::string& text) {
    plan::Reading reading = plan::read(text, "made-up.yaml");
    if (!reading.plan)
        return std::nullopt;
    return lab::build(*reading.plan);
}

std::string unreadable(const std::string& text) {
    plan::Problem problem = plan::read(text, "made-up.yaml").problems.at(0);
    return fmt::format("line {}: {}", problem.at.line, problem.message);
}

std::string words(const lab::Lab& lab, const Question& question, const Answer& walk,
                  const std::string& engine, const Answer& answer) {
    return fmt::format("{} to {} ({}), {}, TTL {}, {} bytes: walk says {}{}, {} says {}",
                       lab.machines[question.from].name, lab.machines[question.to].name,
                       net::to_string(question.destination),
                       question.service ? net::to_string(*question.service) : "ping", question.ttl,
                       question.payload_bytes, to_string(walk),
                       walk.cause.empty() ? "" : " (" + walk.cause + ")", engine,
                       to_string(answer));
}

// Asks all pairs, and what `text` asks in its comments.
Result hold(const lab::Lab& lab, const std::string& text) {
    Result result;
    routing::Settled settled = routing::settle(lab);
    reach::check(settled); // no lab, however odd, may be too much for the findings
    std::vector<Question> questions = questions_of(settled);
    for (const Asked& asked : asks_of(text, lab))
        questions.push_back(asked.question);
    Answers first;
    for (const Engine& engine : engines()) {
        auto start = Clock::now();
        try {
            Answers answers = engine.ask(settled, questions);
            result.time[engine.name] += Clock::now() - start;
            if (first.empty())
                first = answers;
            for (std::size_t i = 0; i < questions.size() && result.mismatch.empty(); ++i) {
                if (first[i].agrees(answers[i]))
                    continue;
                // Alone, and in a lab started anew: pings at the same time can disturb each other,
                // as a kernel drops packets that wait for the neighbour which its own error waits
                // for.
                Answer alone = engine.ask(settled, {questions[i]}).front();
                if (!first[i].agrees(alone))
                    result.mismatch = words(lab, questions[i], first[i], engine.name, alone);
            }
        } catch (const std::runtime_error& e) {
            result.mismatch = fmt::format("{}: {}", engine.name, e.what());
            result.ran = false;
            return result;
        }
    }
    result.asked = questions.size();
    for (const Answer& answer : first)
        if (answer.kind == Answer::Kind::reply)
            ++result.replies;
        else
            ++result.causes[answer.cause.empty() ? to_string(answer) : answer.cause];
    return result;
}

// Labs that run at the same time need names of their own.
std::string fresh_name() {
    static std::atomic<unsigned> number = 0;
    return fmt::format("judge-{}-{}", getpid(), number++);
}

class Court {
  public:
    // Judges one plan; `name` says where it is from.
    void judge(const std::string& name, const std::string& text) {
        std::optional<lab::Lab> lab = build(text);
        if (!lab)
            return report(name, text, unreadable(text), {});
        lab->name = fresh_name();
        Result result = hold(*lab, text);
        std::string small = text;
        if (!result.mismatch.empty() && Json::accept(text)) {
            fmt::print("{} differs; looking for a smaller plan that does\n", name);
            std::fflush(stdout);
            small = shrunk(text, result.ran);
        }
        report(name, small, result.mismatch, result);
    }

    bool finish(Seconds time) const {
        fmt::print("\n{} labs, {} pings, {:.0f} % without a reply, in {:.1f} s\n", labs_,
                   total_.asked,
                   100.0 * static_cast<double>(total_.asked - total_.replies)
                       / static_cast<double>(std::max<std::size_t>(total_.asked, 1)),
                   time.count());
        for (const auto& [cause, count] : total_.causes)
            fmt::print("  {:8} {}\n", count, cause);
        if (total_.time.contains("kernel"))
            fmt::print(
                "asking took walk {:.3f} s, matrix {:.3f} s, wire {:.3f} s, kernel {:.1f} s: "
                "{:.0f} times as long as the walk\n",
                total_.time.at("walk").count(), total_.time.at("matrix").count(),
                total_.time.at("wire").count(), total_.time.at("kernel").count(),
                total_.time.at("kernel") / total_.time.at("walk"));
        fmt::print("{}\n", mismatches_ == 0 ? "no mismatch"
                                            : fmt::format("{} labs with a mismatch", mismatches_));
        return mismatches_ == 0;
    }

  private:
    // A plan that differs in the same manner: a lab that does not start is no wrong answer.
    std::string shrunk(const std::string& text, bool ran) {
        std::string name = fresh_name();
        auto still_fails = [&](const Json& plan) {
            std::optional<lab::Lab> lab = build(plan.dump());
            if (!lab)
                return false;
            lab->name = name;
            Result result = hold(*lab, "");
            return !result.mismatch.empty() && result.ran == ran;
        };
        return shrink(Json::parse(text), still_fails).dump();
    }

    void report(const std::string& name, const std::string& text, const std::string& mismatch,
                const Result& result) {
        std::lock_guard lock(mutex_);
        ++labs_;
        total_.asked += result.asked;
        total_.replies += result.replies;
        for (const auto& [cause, count] : result.causes)
            total_.causes[cause] += count;
        for (const auto& [engine, time] : result.time)
            total_.time[engine] += time;
        if (mismatch.empty())
            return;
        ++mismatches_;
        std::string shown = mismatch;
        if (auto lab = build(text)) {
            lab->name = fresh_name();
            if (std::string again = hold(*lab, "").mismatch; !again.empty())
                shown = again;
        }
        fmt::print("MISMATCH {}\n  {}\n  shrunk: {}\n{}\n", name, mismatch, shown, text);
        std::fflush(stdout);
    }

    std::mutex mutex_;
    std::size_t labs_ = 0;
    std::size_t mismatches_ = 0;
    Result total_;
};

// Tables of daemons against Jackal's, of one plan after another.
class SpeakersCourt {
  public:
    /// `shrinks`: each plan with a mismatch is made smaller, which takes many starts of a lab.
    explicit SpeakersCourt(bool shrinks) : shrinks_(shrinks) {}

    void judge(const std::string& name, const std::string& text) {
        if (std::optional<TablesHeld> held = hold_one(text))
            report(name, text, *held);
        else
            report(name, text, {.differences = {unreadable(text)}});
    }

    bool finish(Seconds time) const {
        fmt::print(
            "\n{} labs, {} learned routes in {:.0f} s; of them {} by luck, {} in the daemon's "
            "own way; {} labs in which chance decides, or which it cannot be told\n",
            labs_, routes_, time.count(), luck_, own_ways_, open_);
        fmt::print("{}\n", mismatches_ == 0 ? "no mismatch"
                                            : fmt::format("{} labs with a mismatch", mismatches_));
        return mismatches_ == 0;
    }

  private:
    // Nothing of a plan that cannot be read.
    std::optional<TablesHeld> hold_one(const std::string& text) {
        std::optional<lab::Lab> lab = build(text);
        if (!lab)
            return std::nullopt;
        lab->name = fresh_name();
        try {
            return hold_tables(routing::settle(*lab));
        } catch (const std::runtime_error& e) {
            return TablesHeld{.differences = {e.what()}};
        }
    }

    // Where machines hand routes to each other in a circle, who was first decides; and some things
    // the daemon cannot be told.
    static bool is_open(const TablesHeld& held) { return held.cannot_be_told || held.has_circle; }

    void report(const std::string& name, const std::string& text, const TablesHeld& held) {
        const bool is_wrong = !held.differences.empty() && !is_open(held);
        std::string small = text;
        if (is_wrong && shrinks_ && Json::accept(text))
            small = shrink(Json::parse(text), [&](const Json& plan) {
                        auto again = hold_one(plan.dump());
                        return again && !again->differences.empty() && !is_open(*again);
                    }).dump(1);
        std::lock_guard lock(mutex_);
        ++labs_;
        routes_ += held.routes;
        luck_ += held.luck;
        own_ways_ += held.own_ways;
        open_ += !held.differences.empty() && is_open(held) ? 1 : 0;
        if (!is_wrong)
            return;
        ++mismatches_;
        fmt::print("MISMATCH {}\n", name);
        for (const std::string& line : held.differences)
            fmt::print("  {}\n", line);
        fmt::print("{}\n", small);
        std::fflush(stdout);
    }

    bool shrinks_;
    std::mutex mutex_;
    std::size_t labs_ = 0;
    std::size_t routes_ = 0;
    std::size_t luck_ = 0;
    std::size_t own_ways_ = 0;
    std::size_t open_ = 0;
    std::size_t mismatches_ = 0;
};

// Outages of real pings against those foretold, of one plan after another. What is otherwise is
// asked once more: a packet that is lost while neighbours meet is sent again after five seconds.
class OutagesCourt {
  public:
    void judge(const std::string& name, const std::string& text) {
        std::optional<lab::Lab> lab = build(text);
        if (!lab)
            return note(name + ": " + unreadable(text), false);
        lab->name = fresh_name();
        try {
            const routing::Settled settled = routing::settle(*lab);
            std::optional<OutageHeld> held = hold_outage(settled);
            if (held && !held->agrees()) {
                held = hold_outage(settled);
                std::lock_guard lock(mutex_);
                again_ += held->agrees() ? 1 : 0;
            }
            if (held)
                note(fmt::format("{}: {}: without a reply {} (real: {}){}", name, held->what,
                                 words(held->foretold), words(held->real),
                                 held->agrees() ? "" : "\n" + text),
                     held->agrees());
        } catch (const std::runtime_error& e) {
            note(fmt::format("{}: {}", name, e.what()), false);
        }
    }

    bool finish(Seconds time) const {
        fmt::print("\n{} outages in {:.0f} s; {}; {} only when asked again\n", held_, time.count(),
                   otherwise_ == 0 ? "all as foretold" : fmt::format("{} otherwise", otherwise_),
                   again_);
        return otherwise_ == 0;
    }

  private:
    static std::string words(const Losses& losses) {
        return fmt::format("{:.1f} s, then TTL {}; {:.1f} s, then TTL {}", losses.cut_s,
                           losses.ttl_while_cut, losses.mended_s, losses.ttl_at_end);
    }

    void note(const std::string& line, bool agrees) {
        std::lock_guard lock(mutex_);
        ++held_;
        otherwise_ += agrees ? 0 : 1;
        fmt::print("{}{}\n", agrees ? "" : "OTHERWISE ", line);
        std::fflush(stdout);
    }

    std::mutex mutex_;
    std::size_t held_ = 0;
    std::size_t again_ = 0;
    std::size_t otherwise_ = 0;
};

// Every third lab has several sites, unless all are to speak routing protocols.
Json made_up(std::uint64_t seed, bool protocols) {
    return seed % 3 == 0 && !protocols ? random_sites(seed) : random_lab(seed, protocols);
}

std::vector<std::uint64_t> seeds_of(const Options& options) {
    std::vector<std::uint64_t> seeds;
    if (std::size_t colon = options.seeds.find(':'); colon != std::string::npos) {
        std::uint64_t first = std::stoull(options.seeds);
        std::size_t second = options.seeds.find(':', colon + 1);
        std::uint64_t step =
            second == std::string::npos ? 1 : std::stoull(options.seeds.substr(second + 1));
        for (std::uint64_t n = 0; n < std::stoull(options.seeds.substr(colon + 1)); ++n)
            seeds.push_back(first + n * step);
    }
    if (options.fresh != 0) {
        std::uint64_t first = std::random_device{}() / 1000 * 1000ULL;
        fmt::print("fresh seeds: --seeds {}:{}\n", first, options.fresh);
        for (unsigned n = 0; n < options.fresh; ++n)
            seeds.push_back(first + n);
    }
    return seeds;
}

template <class Court>
bool judge_all(Court& court, const Options& options) {
    const auto start = Clock::now();
    const std::vector<std::uint64_t> seeds = seeds_of(options);
    const std::size_t plans = options.plans.size();
    auto judge_case = [&](std::size_t i) {
        if (i >= plans)
            return court.judge(
                fmt::format("seed {}", seeds[i - plans]),
                made_up(seeds[i - plans], options.protocols || options.speakers || options.outages)
                    .dump(1));
        std::ifstream file(options.plans[i]);
        court.judge(options.plans[i], std::string(std::istreambuf_iterator<char>(file), {}));
    };
    std::atomic<std::size_t> next = 0;
    std::vector<std::jthread> workers;
    for (unsigned n = 0; n < options.workers; ++n)
        workers.emplace_back([&] {
            for (std::size_t i = next++; i < plans + seeds.size(); i = next++)
                judge_case(i);
        });
    workers.clear(); // waits for them
    return court.finish(Clock::now() - start);
}

int run(const Options& options) {
    if (std::string why = kernel_unavailable(); !why.empty()) {
        fmt::print("SKIPPED: the kernel cannot be asked here: {}\n", why);
        return std::getenv("JACKAL_KERNEL_REQUIRED") != nullptr ? 1 : status_skipped;
    }
    rlimit files{65536, 65536};
    setrlimit(RLIMIT_NOFILE, &files);

    if (options.outages) {
        OutagesCourt court;
        return judge_all(court, options) ? 0 : 1;
    }
    if (options.speakers) {
        SpeakersCourt court(options.shrinks);
        return judge_all(court, options) ? 0 : 1;
    }
    Court court;
    return judge_all(court, options) ? 0 : 1;
}

} // namespace
} // namespace judge

int main(int argc, char** argv) {
    CLI::App app{"Holds Jackal's answers against those of this computer's kernel."};
    judge::Options options;
    app.add_option("--seeds", options.seeds,
                   "made-up labs: FIRST:COUNT, or FIRST:COUNT:STEP; those of "
                   "every third number have several sites");
    app.add_option("--fresh", options.fresh, "so many made-up labs with new seeds");
    app.add_flag("--protocols", options.protocols,
                 "only labs whose routers speak routing protocols");
    app.add_flag("--speakers", options.speakers,
                 "holds the tables against those of real routing daemons (BIRD), instead of asking "
                 "pings");
    app.add_flag("--outages", options.outages,
                 "holds outages that a timeline foretells against those of a real ping, between "
                 "daemons, while a NIC goes down and comes back");
    app.add_flag("--shrink", options.shrinks,
                 "with --speakers: makes plans with a mismatch smaller, which takes long");
    app.add_option("--workers", options.workers, "labs at the same time");
    app.add_option("PLANS", options.plans, "plans to judge too");
    CLI11_PARSE(app, argc, argv);
    return judge::run(options);
}
