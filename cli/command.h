// What all commands share: reading the plan, common options, and how a command answers.
#pragma once

#include "jackal/jackal.h"
#include "style.h"

#include <CLI/CLI.hpp>
#include <functional>
#include <stdexcept>

namespace jackal::cli {

using exports::counted;

/// Exit statuses of the program.
constexpr int status_well = 0;
constexpr int status_no = 1;        ///< the answer is no
constexpr int status_not_asked = 2; ///< usage, or a plan that cannot be read

/// What a command prints on standard output, and the exit status.
struct Outcome {
    std::string text;
    int status = status_well;
};

using Run = std::function<Outcome(const Style&)>;

/// A question that cannot be asked; the message goes to standard error.
class NotAsked : public std::runtime_error {
  public:
    using std::runtime_error::runtime_error;
};

/// What `ask` gives. If the library refuses the question that is NotAsked, with `advice` behind it
/// if the answer would be too large.
template <class Ask>
auto asked(const std::string& advice, Ask ask) {
    try {
        return ask();
    } catch (const std::invalid_argument& e) {
        throw NotAsked(e.what());
    } catch (const std::length_error& e) {
        throw NotAsked(e.what() + advice);
    }
}

enum class Format : std::uint8_t { text, json, csv, junit, sarif, markdown };

/// The options that most commands take.
struct PlanOptions {
    std::string path;
    Format format = Format::text;
    std::vector<std::string> cuts;
    std::vector<std::string> settings; ///< NAME=VALUE

    bool json() const { return format == Format::json; }
};

/// A plan and the lab built from it.
struct Opened {
    plan::Plan plan;
    lab::Lab lab;
};

/// Has an option take one of the words, in capitals or not, and name them in its help, where the
/// completion finds them.
CLI::Option* take_words(CLI::Option* option, const std::vector<std::string>& words);

/// Adds `PLAN` and `--set` to a command.
void add_plan_argument(CLI::App& command, PlanOptions& options);

/// Adds `--cut` to a command.
void add_cuts(CLI::App& command, PlanOptions& options);

/// Adds `PLAN`, `--set`, `--format` and, if `with_cuts`, `--cut` to a command.
void add_plan_options(CLI::App& command, PlanOptions& options, bool with_cuts);

/// Adds `PLAN`, `--set`, `--cut` and `--format` with `report` as a third format to a command whose
/// answer systems of continuous integration read.
void add_report_options(CLI::App& command, PlanOptions& options, Format report);

/// Adds `--set`, and `--format` with `markdown` as a third format.
void add_review_options(CLI::App& command, PlanOptions& options);

/// Adds `--set` and `--format` to a command whose plan is one of several words.
void add_common_options(CLI::App& command, PlanOptions& options);

/// Adds `PLAN`, `--set` and `--format` with `csv` as a third format to a command.
void add_table_options(CLI::App& command, PlanOptions& options);

/// Who asks whom, and for what, where all pairs of machines are meant.
struct PairsOptions {
    std::string machines = "guests";
    int family = 0; ///< 4, 6, or 0 for either
    std::string service;
};

/// Adds `--machines`, `--family` and `--service`, described by `service`, to a command.
void add_pairs_options(CLI::App& command, PairsOptions& options, const std::string& service);

reach::Kind kind_of(const PairsOptions& options);
std::optional<net::Family> family_of(const PairsOptions& options);
/// Nothing if none is asked for. Throws NotAsked, with `otherwise` behind the examples, if it is
/// none.
std::optional<net::Service> service_of(const PairsOptions& options,
                                       std::string_view otherwise = "");

/// How many threads answer.
unsigned threads();

/// True if a word on the command line can only mean a plan file.
bool names_a_plan(const std::string& word);

/// The text of a plan and the name that messages give it.
struct PlanText {
    std::string source;
    std::string text;
};

/// The text of the options' plan file, unread. Throws NotAsked if it cannot be opened.
PlanText plan_text(const PlanOptions& options);
/// The only *.jackal.yaml in this folder; throws NotAsked if there are none or several.
std::string plan_here();

/// The values of `--set`. Throws NotAsked if one is not NAME=VALUE.
plan::Settings settings_of(const PlanOptions& options);

/// Throws NotAsked with all problems of a plan, and `so` for what did not happen.
[[noreturn]] void refuse(const std::vector<plan::Problem>& problems, const std::string& source,
                         std::string_view so);

/// Reads the plan of the options: a file, `-` for standard input, or without a path the only
/// *.jackal.yaml in this folder. Throws NotAsked with all its problems, or if there is none.
Opened open_plan(const PlanOptions& options);
/// The same of a text that was read already.
Opened open_plan(const PlanText& file, const PlanOptions& options);

/// Tells on standard error how far a long answer has got and how long the rest will take, if that
/// is a terminal and more than a second has passed.
class Progress {
  public:
    explicit Progress(std::string what);
    ~Progress();
    Progress(const Progress&) = delete;
    Progress& operator=(const Progress&) = delete;

    void operator()(std::size_t done, std::size_t total);

  private:
    using Clock = std::chrono::steady_clock;

    std::string what_;
    bool on_terminal_;
    bool shown_ = false;
    Clock::time_point start_;
    Clock::time_point next_;
};

/// The lab under the cuts of the options. Throws NotAsked for a cut of nothing.
routing::Settled settle(const Opened& opened, const PlanOptions& options);

/// The JSON of an answer; under cuts that of the whole lab stands in it as `whole`.
std::string json_of(const Opened& opened, const PlanOptions& options,
                    const routing::Settled& settled,
                    const std::function<std::string(const routing::Settled&)>& answer);

/// An answer as rows of cells, to tell what cuts changed. Rows whose first `key` cells agree are
/// about the same thing.
struct Rows {
    std::vector<std::string> headings;
    std::size_t key = 1;
    std::function<std::vector<std::vector<std::string>>(const routing::Settled&)> of;
};

/// Under cuts the rows that the whole lab has otherwise, as `was` and `is`; else nothing.
std::string changes_text(const Style& style, const Opened& opened, const PlanOptions& options,
                         const routing::Settled& settled, const Rows& rows);

/// The machine of that name. Throws NotAsked with the nearest one.
lab::MachineId machine_named(const lab::Lab& lab, const std::string& name);

/// The site of that name. Throws NotAsked with the nearest one.
lab::SiteId site_named(const lab::Lab& lab, const std::string& name);

/// The ways there and back of a ping, its verdict, and the remedy if there is one. `mending` may
/// be null.
std::string ping_text(const Style& style, const Opened& opened, const routing::Settled& settled,
                      const probe::PingAnswer& answer, const mend::Mending* mending);

/// `desk > quay-r1 > pump`
std::string way_text(const lab::Lab& lab, const packet::Journey& journey);

/// The remedy lines of a ping: what to change, and whether that is enough.
std::string verdict_text(const Style& style, const Opened& opened, const probe::PingAnswer& answer,
                         const mend::Mending* mending);

/// The lines of a remedy: that of `mending` if it is given, and whether it was seen to help.
std::string remedy_text(const Style& style, lab::Remedy remedy, const mend::Mending* mending,
                        bool is_service);

/// Where a question is written as packets.
struct CaptureOptions {
    std::string file; ///< empty: nowhere
    std::vector<std::string> at;
    bool replace = false;
};

/// Adds `--capture`, `--at` and `--replace`.
void add_capture_options(CLI::App& command, CaptureOptions& options);

/// The NICs and switch ports of those names. Throws NotAsked if the lab has not all.
std::vector<probe::Spot> spots_of(const lab::Lab& lab, const std::vector<std::string>& names);

/// Collects what is asked, if it is to be written.
class Capturing {
  public:
    Capturing(const lab::Lab& lab, const CaptureOptions& options);

    /// What is seen of one more exchange, `after` the first.
    void add(const routing::Settled& settled, const probe::Exchange& exchange,
             probe::Microseconds after = {}, probe::Microseconds interval = std::chrono::seconds(1),
             int first = 1);
    /// Writes the file; a line that says so, or nothing.
    std::string write(const Style& style);

  private:
    const lab::Lab& lab_;
    const CaptureOptions& options_;
    probe::Sightings seen_;
};

/// The options of ping, trace and connect.
struct QuestionOptions {
    CaptureOptions capture;
    PlanOptions plan;
    std::vector<std::string> words; ///< [PLAN] FROM TO, as given
    std::string from;
    std::string to;
    std::string source;
    int family = 0;         ///< 4, 6, or 0 for either
    bool every_way = false; ///< by each combination of equal next hops
    probe::PingOptions ping;
};

/// `with_service` if a service follows the two ends.
void add_question_options(CLI::App& command, QuestionOptions& options, bool with_service = false);

constexpr int most_pings = 1'000'000;

/// Adds `--count`, described by `what`, and `--seed`.
void add_sampling_options(CLI::App& command, QuestionOptions& options, const std::string& what);

/// Asks, and tells the ways there and back, the verdict and the remedy.
Outcome ask(const Style& style, QuestionOptions& question);

/// Tells the plan and the two ends apart. Throws NotAsked if an end is missing.
void sort_words(QuestionOptions& options);

/// The question that the options ask. Throws NotAsked if the lab has no such ends or source.
probe::PingQuestion question_of(const Opened& opened, QuestionOptions& options);

/// The changes that mend a failed ping; nothing if it got its reply or something was cut, as no
/// change of the plan mends a cut.
std::optional<mend::Mending> mending_of(const Opened& opened, const QuestionOptions& options,
                                        const probe::PingAnswer& answer);

/// Under cuts: what the whole lab answers to the same question; else nothing.
std::string uncut_text(const Style& style, const Opened& opened, const PlanOptions& options,
                       const probe::PingAnswer& answer);

/// What happens while a ping goes on.
struct TimelineOptions {
    std::string interval;           ///< empty: a second
    std::vector<std::string> cuts;  ///< TIME=WHAT
    std::vector<std::string> mends; ///< TIME=WHAT

    bool asked() const { return !cuts.empty() || !mends.empty(); }
};

void add_timeline_options(CLI::App& command, TimelineOptions& options);

/// Throws NotAsked if an option is none, or the lab has not what it names.
probe::TimelineQuestion timeline_question(const lab::Lab& lab, probe::PingQuestion ping, int count,
                                          const TimelineOptions& options);

/// Tells what becomes of the pings while things are cut and mended.
Outcome ask_timeline(const Style& style, QuestionOptions& question, const TimelineOptions& options);

// The commands, one file each: they add themselves to `app` and set `run` when they are called.
void add_check(CLI::App& app, Run& run);
void add_addresses(CLI::App& app, Run& run);
void add_machines(CLI::App& app, Run& run);
void add_routes(CLI::App& app, Run& run);
void add_neighbours(CLI::App& app, Run& run);
void add_ping(CLI::App& app, Run& run);
void add_trace(CLI::App& app, Run& run);
void add_connect(CLI::App& app, Run& run);
void add_watch(CLI::App& app, Run& run);
void add_live(CLI::App& app, Run& run);
void add_verify(CLI::App& app, Run& run);
void add_peerings(CLI::App& app, Run& run);
void add_reach(CLI::App& app, Run& run);
void add_sweep(CLI::App& app, Run& run);
/// The options of a sweep alone, which `sweeper` carries out.
using Sweeper = std::function<reach::Sweep(const routing::Settled&, const reach::SweepQuestion&,
                                           const std::function<bool(std::size_t, std::size_t)>&)>;
void add_sweep_options(CLI::App& command, Run& run, const Sweeper& sweeper);
void add_compare(CLI::App& app, Run& run);
void add_mend(CLI::App& app, Run& run);
void add_edit(CLI::App& app, Run& run);
void add_draw(CLI::App& app, Run& run);
void add_report(CLI::App& app, Run& run);
void add_serve(CLI::App& app, Run& run);
void add_lsp(CLI::App& app, Run& run);
void add_sites(CLI::App& app, Run& run);
void add_ways(CLI::App& app, Run& run);
void add_export(CLI::App& app, Run& run);
void add_drift(CLI::App& app, Run& run);
void add_adopt(CLI::App& app, Run& run);
void add_new(CLI::App& app, Run& run);
void add_names(CLI::App& app, Run& run);
void add_demo(CLI::App& app, Run& run);

/// Writes what the planner chose into the plan file. Throws NotAsked if anything is in the way.
Outcome pin_plan(const Style& style, const PlanOptions& options);

/// Shows what moves when a site or subnet gets another range (`wish` is NAME=PREFIX), and carries
/// it out in the plan file if `write` is set. Throws NotAsked if anything is in the way.
Outcome renumber_plan(const Style& style, const PlanOptions& options, const std::string& wish,
                      bool write);

/// For a table or a sentence that says `ms`.
double milliseconds(probe::Microseconds time);

/// The table of `jackal addresses`, and of a verdict list; shared with the tour.
std::string addresses_text(const Style& style, const lab::Lab& lab);
std::string check_text(const Style& style, const Opened& opened, const routing::Settled& settled,
                       const reach::Check& check);
/// The table of `jackal peerings`: both sides, the state, delay and cost.
std::string peerings_table(const Style& style, const routing::Settled& settled,
                           const std::vector<lab::PeeringId>& peerings);
std::string verify_text(const Style& style, const lab::Lab& lab,
                        const std::vector<reach::Verdict>& verdicts);

} // namespace jackal::cli
