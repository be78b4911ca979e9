#include "command.h"
#include "process.h"

#include <algorithm>
#include <cstdio>
#include <filesystem>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <fstream>
#include <iostream>
#include <map>
#include <thread>
#include <unistd.h>

namespace jackal::cli {

namespace {

void add_settings(CLI::App& command, PlanOptions& options) {
    command
        .add_option("--set", options.settings,
                    "another value for one of the plan's params; may be given several times")
        ->type_name("NAME=VALUE")
        ->allow_extra_args(false);
}

// A way to write an answer, and whom it is for.
struct FormatWords {
    Format format;
    std::string word;
    std::string purpose;
};
const FormatWords format_words[] = {
    {Format::text, "text", "for people"},
    {Format::json, "json", "for programs"},
    {Format::csv, "csv", "for spreadsheets"},
    {Format::junit, "junit", "for continuous integration"},
    {Format::sarif, "sarif", "for continuous integration"},
    {Format::markdown, "markdown", "for the review of a change"},
};

// `text, json or csv`
std::string any_of(const std::vector<std::string>& words) {
    std::string text;
    for (std::size_t i = 0; i < words.size(); ++i)
        text += (i == 0 ? "" : i + 1 == words.size() ? " or " : ", ") + words[i];
    return text;
}

void add_format(CLI::App& command, PlanOptions& options, std::initializer_list<Format> formats) {
    std::vector<std::string> words;
    std::vector<std::string> purposes;
    for (const FormatWords& known : format_words)
        if (std::ranges::find(formats, known.format) != formats.end()) {
            words.push_back(known.word);
            purposes.push_back(fmt::format("{} ({})", known.word, known.purpose));
        }
    auto take = [&options](const std::string& word) {
        options.format = std::ranges::find(format_words, word, &FormatWords::word)->format;
    };
    take_words(command.add_option_function<std::string>("--format", take, any_of(purposes)), words);
}

// --set, --format and, if wanted, --cut.
void add_common(CLI::App& command, PlanOptions& options, bool with_cuts) {
    add_settings(command, options);
    add_format(command, options, {Format::text, Format::json});
    if (with_cuts)
        add_cuts(command, options);
}

constexpr const char* plan_help =
    "the plan file, or - for standard input; default: the only *.jackal.yaml in this folder";

} // namespace

CLI::Option* take_words(CLI::Option* option, const std::vector<std::string>& words) {
    auto check = [words](std::string& word) -> std::string {
        std::string lower = CLI::detail::to_lower(word);
        if (std::ranges::find(words, lower) == words.end())
            return fmt::format("write {}, not \"{}\"", any_of(words), word);
        word = std::move(lower);
        return "";
    };
    return option->transform(CLI::Validator(check, ""))
        ->type_name(fmt::format("{}", fmt::join(words, "|")));
}

void add_cuts(CLI::App& command, PlanOptions& options) {
    command
        .add_option("--cut", options.cuts,
                    "as if this were cut: MACHINE, MACHINE/NIC, MACHINE--MACHINE (all links "
                    "between the two), "
                    "MACHINE/NIC--MACHINE/NIC (one of them), SITE--SITE, a wire of a bond, SWITCH, "
                    "SWITCH/PORT, SWITCH/PORT:VLAN, or what two machines tell each other, "
                    "such as ospf:MACHINE--MACHINE (rip:, bgp:); may be given several times; the "
                    "answer tells what all of them change")
        ->type_name("WHAT")
        ->allow_extra_args(false);
}

void add_plan_argument(CLI::App& command, PlanOptions& options) {
    command.add_option("PLAN", options.path, plan_help);
    add_settings(command, options);
}

void add_common_options(CLI::App& command, PlanOptions& options) {
    add_common(command, options, false);
}

void add_plan_options(CLI::App& command, PlanOptions& options, bool with_cuts) {
    command.add_option("PLAN", options.path, plan_help);
    add_common(command, options, with_cuts);
}

void add_report_options(CLI::App& command, PlanOptions& options, Format report) {
    command.add_option("PLAN", options.path, plan_help);
    add_settings(command, options);
    add_format(command, options, {Format::text, Format::json, report});
    add_cuts(command, options);
}

void add_review_options(CLI::App& command, PlanOptions& options) {
    add_settings(command, options);
    add_format(command, options, {Format::text, Format::json, Format::markdown});
}

void add_table_options(CLI::App& command, PlanOptions& options) {
    command.add_option("PLAN", options.path, plan_help);
    add_settings(command, options);
    add_format(command, options, {Format::text, Format::json, Format::csv});
}

void add_pairs_options(CLI::App& command, PairsOptions& options, const std::string& service) {
    take_words(command.add_option("--machines", options.machines,
                                  "who asks and is asked: guests (default), routers, which are "
                                  "cores of sites too, or all"),
               {"guests", "routers", "all"});
    take_words(command.add_option("--family", options.family,
                                  "of addresses; default: 4 where both ends have it"),
               {"4", "6"});
    command.add_option("--service", options.service, service)->type_name("SERVICE");
}

reach::Kind kind_of(const PairsOptions& options) {
    return options.machines == "guests"    ? reach::Kind::guests
           : options.machines == "routers" ? reach::Kind::infrastructure
                                           : reach::Kind::all;
}

std::optional<net::Family> family_of(const PairsOptions& options) {
    if (options.family == 0)
        return std::nullopt;
    return options.family == 4 ? net::Family::ipv4 : net::Family::ipv6;
}

std::optional<net::Service> service_of(const PairsOptions& options, std::string_view otherwise) {
    if (options.service.empty())
        return std::nullopt;
    auto service = net::parse_service(options.service);
    if (!service)
        throw NotAsked(fmt::format("--service {}: write one such as tcp/22 or udp/53{}",
                                   options.service, otherwise));
    return service;
}

unsigned threads() {
    constexpr unsigned most = 8;
    return std::clamp(std::thread::hardware_concurrency(), 1U, most);
}

bool names_a_plan(const std::string& word) {
    return word == "-" || word.ends_with(".yaml") || word.ends_with(".yml")
           || word.ends_with(".json") || std::filesystem::is_regular_file(word);
}

plan::Settings settings_of(const PlanOptions& options) {
    plan::Settings settings;
    for (const std::string& text : options.settings) {
        std::size_t equals = text.find('=');
        if (equals == text.npos)
            throw NotAsked(fmt::format("--set {}: write --set NAME=VALUE", text));
        settings.emplace_back(text.substr(0, equals), text.substr(equals + 1));
    }
    return settings;
}

std::string plan_here() {
    std::vector<std::string> found;
    for (const auto& entry : std::filesystem::directory_iterator("."))
        if (std::string name = entry.path().filename(); name.ends_with(".jackal.yaml"))
            found.push_back(name);
    std::ranges::sort(found);
    if (found.size() == 1)
        return found.front();
    throw NotAsked(found.empty()
                       ? std::string("no plan was named, and this folder has no *.jackal.yaml; "
                                     "write jackal COMMAND PLAN, or start one with jackal new")
                       : fmt::format("no plan was named, and this folder has several: {}",
                                     fmt::join(found, ", ")));
}

PlanText plan_text(const PlanOptions& options) {
    if (options.path == "-")
        return {"standard input", plan::text_of(std::cin)};
    std::string path = options.path.empty() ? plan_here() : options.path;
    std::ifstream file(path, std::ios::binary);
    std::string text = plan::text_of(file);
    if (text.empty())
        throw NotAsked(fmt::format("{}: cannot be opened, or is empty", path));
    return {path, std::move(text)};
}

void refuse(const std::vector<plan::Problem>& problems, const std::string& source,
            std::string_view so) {
    std::string message;
    for (const plan::Problem& problem : problems)
        message += fmt::format("{}: {}\n", plan::to_string(problem.at, source), problem.message);
    if (problems.size() == plan::Reading::most_problems)
        message += "more problems are left out\n";
    message += fmt::format("{} in the plan, so {}", counted(problems.size(), "problem"), so);
    throw NotAsked(message);
}

Opened open_plan(const PlanOptions& options) {
    return open_plan(plan_text(options), options);
}

Opened open_plan(const PlanText& file, const PlanOptions& options) {
    plan::Reading reading = plan::read(file.text, file.source, settings_of(options));
    if (!reading.plan)
        refuse(reading.problems, reading.source, "nothing was asked");
    lab::Lab lab = lab::build(*reading.plan);
    return {reading.plan->written(), std::move(lab)};
}

routing::Settled settle(const Opened& opened, const PlanOptions& options) {
    routing::Condition condition(opened.lab);
    for (const std::string& cut : options.cuts)
        if (auto parsed = routing::parse_cut(opened.lab, cut))
            condition.apply(*parsed);
        else
            throw NotAsked("--cut " + routing::unknown_cut(cut));
    return routing::settle(opened.lab, std::move(condition));
}

std::string json_of(const Opened& opened, const PlanOptions& options,
                    const routing::Settled& settled,
                    const std::function<std::string(const routing::Settled&)>& answer) {
    std::string text = answer(settled);
    if (!options.cuts.empty())
        text = exports::with_whole(text, answer(routing::settle(opened.lab)));
    return text + "\n";
}

std::string changes_text(const Style& style, const Opened& opened, const PlanOptions& options,
                         const routing::Settled& settled, const Rows& rows) {
    if (options.cuts.empty())
        return "";
    std::vector<exports::Change> changes =
        exports::changes(rows.of(routing::settle(opened.lab)), rows.of(settled), rows.key);
    std::vector<std::string> headings = rows.headings;
    headings.insert(headings.begin(), "");
    Table table(headings);
    auto add = [&](const std::string& mark, const std::vector<exports::Row>& list) {
        for (exports::Row row : list) {
            row.insert(row.begin(), mark);
            table.add(std::move(row));
        }
    };
    for (const exports::Change& change : changes) {
        add(style.faint("was"), change.was);
        add("is", change.is);
    }
    std::string heading = "\n" + style.strong("changed by the cut");
    if (changes.empty())
        return heading + ": nothing\n";
    return heading + "\n" + table.text(style, 2);
}

lab::MachineId machine_named(const lab::Lab& lab, const std::string& name) {
    if (auto id = lab.machine(name))
        return *id;
    throw NotAsked(probe::unknown_endpoint(lab, name));
}

lab::SiteId site_named(const lab::Lab& lab, const std::string& name) {
    if (auto id = lab.site(name))
        return *id;
    std::vector<std::string_view> known;
    for (const lab::Site& site : lab.sites)
        known.push_back(site.name);
    std::string_view near = plan::nearest_word(name, known);
    throw NotAsked(fmt::format("there is no site \"{}\"{}", name, plan::did_you_mean(near)));
}

void add_question_options(CLI::App& command, QuestionOptions& options, bool with_service) {
    int words = with_service ? 3 : 2;
    command
        .add_option(with_service ? "SERVICE_WORDS" : "WORDS", options.words,
                    fmt::format("the ends are MACHINE, MACHINE/NIC or an address{}; PLAN is as for "
                                "jackal check",
                                with_service ? ", SERVICE is tcp/PORT or udp/PORT" : ""))
        ->required()
        ->expected(words, words + 1)
        ->type_name("");
    add_common(command, options.plan, true);
    take_words(command.add_option("--family", options.family,
                                  "of addresses; default: 4 where both ends have it"),
               {"4", "6"});
    command.add_option("--source", options.source, "an address of the sender to send from")
        ->type_name("ADDRESS");
    command
        .add_option("--ttl", options.ping.ttl,
                    "TTL (hop limit) of the request, 1 to 255; "
                    "default 64")
        ->check(CLI::Range(1, 255).description(""))
        ->type_name("N");
    command
        .add_option("--size", options.ping.payload_bytes,
                    "bytes behind the ICMP header; default 56")
        ->check(CLI::Range(0, 65507).description(""))
        ->type_name("BYTES");
    add_capture_options(command, options.capture);
}

void add_sampling_options(CLI::App& command, QuestionOptions& options, const std::string& what) {
    command.add_option("--count", options.ping.count, what)
        ->check(CLI::Range(1, most_pings).description(""))
        ->type_name("N");
    command
        .add_option("--seed", options.ping.seed,
                    "seed of jitter and loss, so that a run can be repeated; default 1")
        ->type_name("N");
}

void sort_words(QuestionOptions& options) {
    if (options.words.size() == 2 && names_a_plan(options.words[0]))
        throw NotAsked("write [PLAN] FROM TO; TO is missing");
    if (options.words.size() == 3)
        options.plan.path = options.words[0];
    options.from = options.words[options.words.size() - 2];
    options.to = options.words[options.words.size() - 1];
}

Progress::Progress(std::string what)
    : what_(std::move(what)), on_terminal_(isatty(STDERR_FILENO) == 1), start_(Clock::now()),
      next_(start_ + std::chrono::seconds(1)) {}

Progress::~Progress() {
    if (shown_)
        std::fputs("\r\x1b[K", stderr);
}

void Progress::operator()(std::size_t done, std::size_t total) {
    const Clock::time_point now = Clock::now();
    if (!on_terminal_ || total == 0 || done == 0 || now < next_)
        return;
    next_ = now + std::chrono::milliseconds(200);
    shown_ = true;
    double left = std::chrono::duration<double>(now - start_).count()
                  * static_cast<double>(total - done) / static_cast<double>(done);
    std::fputs(
        fmt::format("\r{}: {}%, {:.0f} s left \x1b[K", what_, 100 * done / total, left).c_str(),
        stderr);
    std::fflush(stderr);
}

double milliseconds(probe::Microseconds time) {
    return time.count() / 1000;
}

probe::PingQuestion question_of(const Opened& opened, QuestionOptions& options) {
    for (const std::string& end : {options.from, options.to})
        if (!probe::endpoint(opened.lab, end))
            throw NotAsked(probe::unknown_endpoint(opened.lab, end));
    if (options.family != 0)
        options.ping.family = options.family == 4 ? net::Family::ipv4 : net::Family::ipv6;
    if (!options.source.empty()) {
        options.ping.source = net::parse_address(options.source);
        auto end = probe::endpoint(opened.lab, options.source);
        auto sender = probe::endpoint(opened.lab, options.from);
        if (!options.ping.source || end->machine != sender->machine)
            throw NotAsked(
                fmt::format("--source {}: not an address of {}", options.source, options.from));
    }
    auto asked = probe::question(opened.lab, options.from, options.to, options.ping);
    if (!asked)
        throw NotAsked(fmt::format("no machine has {} to send from", options.from));
    return *asked;
}

std::optional<mend::Mending> mending_of(const Opened& opened, const QuestionOptions& options,
                                        const probe::PingAnswer& answer) {
    if (!answer.diagnosis || !options.plan.cuts.empty())
        return std::nullopt;
    const Stoppable stoppable;
    return mend::reply(opened.plan, {options.from, options.to, options.ping},
                       [&] { return !stoppable.is_to_stop(); });
}

} // namespace jackal::cli
