#include "command.h"
#include "file.h"
#include "jackal/export/difference.h"
#include "process.h"

#include <algorithm>
#include <charconv>
#include <fmt/format.h>

namespace jackal::cli {

namespace {

using Proof = mend::Outcome::Proof;

struct MendOptions {
    PlanOptions plan;
    std::vector<std::string> only;
    std::string within = "10s";
    bool write = false;
};

mend::Goals goals_of(const MendOptions& options) {
    mend::Goals goals;
    goals.warnings = true;
    for (const std::string& word : options.only) {
        std::uint32_t line = 0;
        auto [end, error] = std::from_chars(word.data(), word.data() + word.size(), line);
        if (error == std::errc{} && end == word.data() + word.size() && line != 0) {
            goals.lines.insert(line);
        } else if (auto cause = plan::cause_from_slug(word)) {
            goals.causes.insert(*cause);
        } else {
            std::vector<std::string_view> known;
            for (const plan::CauseText& text : plan::all_causes())
                known.push_back(text.slug);
            throw NotAsked(fmt::format("--only {}: write a finding, such as nic-down, or the "
                                       "number of a line{}",
                                       word, plan::did_you_mean(plan::nearest_word(word, known))));
        }
    }
    return goals;
}

std::chrono::microseconds time_of(const MendOptions& options) {
    auto time = plan::parse_time(options.within);
    if (!time || time->count() == 0)
        throw NotAsked(
            fmt::format("--within {}: write a time, such as 10s or 500ms", options.within));
    return *time;
}

mend::Outcome outcome_of(const plan::Plan& plan, const MendOptions& options) {
    const auto end = std::chrono::steady_clock::now() + time_of(options);
    const Stoppable stoppable;
    auto goes_on = [&] {
        return !stoppable.is_to_stop() && std::chrono::steady_clock::now() < end;
    };
    const mend::Limits limits{.threads = threads()};
    return options.only.empty() ? mend::make_healthy(plan, limits, goes_on)
                                : mend::search(plan, goals_of(options), limits, goes_on);
}

std::string proof_text(const mend::Outcome& outcome) {
    const std::size_t count = outcome.changes.size();
    switch (outcome.proof) {
    case Proof::nothing_to_do: return "nothing is to be mended";
    case Proof::smallest:
        return fmt::format("{} {} it healthy{}", counted(count, "change"),
                           count == 1 ? "makes" : "make",
                           count == 1 ? "" : "; every smaller set of those proposed was tried");
    case Proof::best_found:
        return fmt::format("{} {} it healthy: the best found in the time given",
                           counted(count, "change"), count == 1 ? "makes" : "make");
    case Proof::none: break;
    }
    return count == 0 ? "no change was found that mends it"
                      : fmt::format("{} {} some of it; no set was found that mends all",
                                    counted(count, "change"), count == 1 ? "mends" : "mend");
}

std::string changes_text(const Style& style, const plan::Plan& plan, const std::string& source,
                         const mend::Outcome& outcome) {
    std::string text;
    plan::Plan current = plan;
    for (std::size_t i = 0; i < outcome.changes.size(); ++i) {
        const mend::Change& change = outcome.changes[i];
        std::size_t number = 0;
        for (const plan::EditText& words : plan::to_texts(change.edits, current))
            text += style.paragraph(
                        fmt::format("{:>2}  {}",
                                    number++ == 0 ? fmt::format("{}", i + 1) : std::string(),
                                    style.strong(to_line(words))),
                        0)
                    + "\n";
        text += style.paragraph(fmt::format("{} {}: {}", plan::slug(change.cause),
                                            style.faint(plan::to_string(change.at, source)),
                                            change.reason),
                                4)
                + "\n";
        current = plan::apply(std::move(current), change.edits);
    }
    return text;
}

std::string obstacle_text(const Style& style, const std::string& word, const std::string& source,
                          const mend::Obstacle& obstacle, std::size_t indent) {
    return style.paragraph(fmt::format("{} {} {}: {}", word, plan::slug(obstacle.cause),
                                       style.faint(plan::to_string(obstacle.at, source)),
                                       obstacle.message),
                           indent)
           + "\n";
}

std::string left_text(const Style& style, const std::string& source, const mend::Outcome& outcome) {
    std::string text;
    for (const mend::Obstacle& left : outcome.left) {
        text += obstacle_text(style, style.bad("left"), source, left, 0);
        if (!left.advice.empty())
            text += style.paragraph(left.advice, 4) + "\n";
    }
    return text;
}

// `-` and `+` lines in colour.
std::string coloured(const Style& style, std::string_view difference) {
    std::string text;
    while (!difference.empty()) {
        std::string_view line = difference.substr(0, difference.find('\n'));
        difference.remove_prefix(std::min(line.size() + 1, difference.size()));
        std::string shown = plan::printable(line);
        text += (line.starts_with('+')   ? style.good(shown)
                 : line.starts_with('-') ? style.bad(shown)
                                         : shown)
                + "\n";
    }
    return text;
}

Outcome answer(const Style& style, const MendOptions& options) {
    if (options.write && options.plan.path == "-")
        throw NotAsked("--write changes the plan file, so it takes no standard input");
    const PlanText file = plan_text(options.plan);
    const plan::Settings settings = settings_of(options.plan);
    plan::Reading reading = plan::read(file.text, file.source, settings);
    if (!reading.plan)
        refuse(reading.problems, file.source, "");
    const plan::Plan plan = std::move(*reading.plan).written();
    const mend::Outcome outcome = outcome_of(plan, options);
    plan::Writing written = plan::write(file.text, outcome.edits(), settings);
    if (!written.text)
        refuse(written.problems, file.source, "nothing was written");
    const std::string difference =
        exports::difference(file.text, *written.text, plan::printable(file.source));
    const bool is_healthy = outcome.is_healthy();
    const bool writes = options.write && is_healthy && !difference.empty();
    if (writes)
        rewrite_whole(file.source, file.text, *written.text);
    const int status = is_healthy ? status_well : status_no;
    if (options.plan.json())
        return {exports::mend_json(plan, outcome, difference, writes) + "\n", status};
    std::string text =
        fmt::format("{}: {}\n", style.strong(plan::printable(file.source)),
                    is_healthy ? style.good(proof_text(outcome)) : style.bad(proof_text(outcome)));
    if (!outcome.changes.empty())
        text += "\n" + changes_text(style, plan, file.source, outcome);
    for (const plan::Problem& note : written.notes)
        text += style.paragraph(fmt::format("note: {}", note.message), 4) + "\n";
    if (!outcome.left.empty())
        text += "\n" + left_text(style, file.source, outcome);
    for (const mend::Obstacle& brought : outcome.brought)
        text += obstacle_text(style, style.warning("shows then"), file.source, brought, 4);
    if (!difference.empty())
        text += "\n" + coloured(style, difference);
    if (writes)
        text += fmt::format("\n{} is written\n", plan::printable(file.source));
    else if (options.write && !is_healthy)
        text += "\nnothing is written, as not all can be mended; --only narrows it\n";
    else if (!difference.empty())
        text += "\nnothing is written yet; add --write to carry it out in the file\n";
    return {text, status};
}

} // namespace

void add_mend(CLI::App& app, Run& run) {
    auto options = std::make_shared<MendOptions>();
    CLI::App* command = app.add_subcommand(
        "mend", "the smallest set of changes that makes a plan healthy, as a difference");
    add_plan_options(*command, options->plan, false);
    command
        ->add_option("--only", options->only,
                     "mend only this: a finding, such as nic-down, or what stands on that line of "
                     "the plan; may be repeated")
        ->type_name("FINDING|LINE")
        ->allow_extra_args(false);
    command->add_option("--within", options->within, "end with the best found by then (10s)")
        ->type_name("TIME");
    command->add_flag("--write", options->write, "carry it out in the plan file");
    command->footer("Examples:\n"
                    "  jackal mend skerry.yaml\n"
                    "  jackal mend skerry.yaml --only nic-down --write\n"
                    "\n"
                    "Healthy is a plan whose expectations hold, and of which no finding is an "
                    "error; one that is\nhas its warnings mended. Exit status 1 if not all can be "
                    "mended.");
    command->callback([&run, options] {
        run = [options](const Style& style) -> Outcome { return answer(style, *options); };
    });
}

} // namespace jackal::cli
