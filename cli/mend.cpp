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
    std::string within; // empty: as long as an answer may take
    bool write = false;
    bool warnings = false;
    bool partly = false;
};

mend::Goals goals_of(const MendOptions& options) {
    mend::Goals goals;
    goals.warnings = options.warnings || !options.only.empty();
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
    if (options.within.empty())
        return std::chrono::seconds(seconds_of_answer());
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
    return mend::search(plan, goals_of(options), limits, goes_on);
}

// Nothing is left that was asked for: of warnings only those that can be mended are, unless named.
bool is_done(const MendOptions& options, const mend::Outcome& outcome) {
    return options.only.empty() ? std::ranges::all_of(outcome.left, &mend::Obstacle::is_warning)
                                : outcome.is_healthy();
}

std::string proof_text(const MendOptions& options, const mend::Outcome& outcome) {
    const std::size_t count = outcome.changes.size();
    const std::string changes = counted(count, "change");
    const std::string_view s = count == 1 ? "s" : "";
    switch (outcome.proof) {
    case Proof::nothing_to_do: return "nothing is to be mended";
    case Proof::smallest:
        return fmt::format("{} make{} it healthy, the smallest set of the {} that were proposed",
                           changes, s, outcome.proposed);
    case Proof::best_found:
        return fmt::format("{} make{} it healthy, the best set found in the time given, of {} that "
                           "were proposed",
                           changes, s, outcome.proposed);
    case Proof::none: break;
    }
    if (count == 0)
        return is_done(options, outcome) ? "no change was found that mends a warning"
                                         : "no change was found that mends it";
    return is_done(options, outcome)
               ? fmt::format("{} mend{} those warnings that can be mended", changes, s)
               : fmt::format("no set of the {} changes that were proposed mends all of it",
                             outcome.proposed);
}

std::string changes_text(const Style& style, const std::string& source,
                         const mend::Outcome& outcome) {
    std::string text;
    for (std::size_t i = 0; i < outcome.changes.size(); ++i) {
        const mend::Change& change = outcome.changes[i];
        std::size_t number = 0;
        for (const plan::Edit& edit : change.edits)
            text += style.paragraph(
                        fmt::format("{:>2}  {}",
                                    number++ == 0 ? fmt::format("{}", i + 1) : std::string(),
                                    style.strong(to_line(edit))),
                        0)
                    + "\n";
        std::string against;
        for (const mend::Decision& decision : change.against)
            against += fmt::format("; {} `{}`{}", style.warning("goes against"), decision.words,
                                   decision.at.line == change.at.line
                                       ? ""
                                       : " " + style.faint(plan::to_string(decision.at, source)));
        text += style.paragraph(fmt::format("{} {}: {}{}", plan::slug(change.cause),
                                            style.faint(plan::to_string(change.at, source)),
                                            change.reason, against),
                                4)
                + "\n";
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
    const plan::Plan plan = reading.plan->written();
    mend::Outcome outcome = outcome_of(plan, options);
    const bool done = is_done(options, outcome);
    const std::size_t partly = done || options.partly ? 0 : outcome.count();
    if (partly != 0)
        outcome.changes.clear();
    plan::Writing written = plan::write(file.text, outcome.edits(), settings);
    if (!written.text)
        refuse(written.problems, file.source, "nothing was written");
    const std::string difference =
        exports::difference(file.text, *written.text, plan::printable(file.source));
    const bool writes = options.write && !difference.empty();
    if (writes)
        rewrite_whole(file.source, file.text, *written.text);
    const int status = done ? status_well : status_no;
    if (options.plan.json())
        return {exports::mend_json(plan, outcome, difference, writes) + "\n", status};
    std::string text = fmt::format("{}: {}\n", style.strong(plan::printable(file.source)),
                                   done ? style.good(proof_text(options, outcome))
                                        : style.bad(proof_text(options, outcome)));
    if (!outcome.changes.empty())
        text += "\n" + changes_text(style, file.source, outcome);
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
    else if (partly != 0)
        text += fmt::format("\n{} would mend the rest; --partly shows them{}\n",
                            counted(partly, "change"),
                            options.write ? ", nothing is written without it" : "");
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
    command
        ->add_option("--within", options->within,
                     "end with the best found by then; default: JACKAL_SECONDS, or 10s")
        ->type_name("TIME");
    command->add_flag("--warnings", options->warnings,
                      "warnings, too, as far as they can be mended; they may be meant");
    command->add_flag("--partly", options->partly,
                      "where not all can be mended, what mends the rest");
    command->add_flag("--write", options->write, "carry it out in the plan file");
    command->footer("Examples:\n"
                    "  jackal mend skerry.yaml\n"
                    "  jackal mend skerry.yaml --only nic-down --write\n"
                    "\n"
                    "Healthy is a plan whose expectations hold, and of which no finding is an "
                    "error; warnings may be\nmeant, and are left alone unless asked for. Exit "
                    "status 1 if not all can be mended.");
    command->callback([&run, options] {
        run = [options](const Style& style) -> Outcome { return answer(style, *options); };
    });
}

} // namespace jackal::cli
