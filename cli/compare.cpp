#include "command.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::cli {

namespace {

struct CompareOptions {
    PlanOptions plan;
    std::string before;
    std::string after;
};

std::string changes_text(const Style& style, const std::vector<reach::Change>& changes) {
    constexpr std::size_t most = 60;
    Table table({"what moves", "", "before", "after"});
    for (std::size_t i = 0; i < std::min(most, changes.size()); ++i) {
        const reach::Change& change = changes[i];
        auto value = [&](const std::string& text) {
            return text.empty() ? style.faint("-") : text;
        };
        table.add({style.faint(to_string(change.aspect)), change.what, value(change.before),
                   value(change.after)});
    }
    std::string text = changes.empty() ? "" : table.text(style) + "\n";
    if (changes.size() > most)
        text += fmt::format("… and {} more; --format json has all\n\n", changes.size() - most);
    return text;
}

// Those of one cause at one place together.
std::string reach_text(const Style& style, const std::vector<reach::ReachChange>& changes) {
    struct Group {
        std::uint64_t lost = 0;
        std::uint64_t gained = 0;
        std::string subnets;
        const reach::ReachChange* first = nullptr;
    };
    std::vector<Group> groups;
    for (const reach::ReachChange& change : changes) {
        auto is_same = [&](const Group& group) {
            const auto& one = group.first->cause;
            const auto& other = change.cause;
            return (group.first->lost != 0) == (change.lost != 0)
                   && one.has_value() == other.has_value()
                   && (!one
                       || (one->cause == other->cause && one->at == other->at
                           && (one->at || one->where == other->where)));
        };
        auto group = std::ranges::find_if(groups, is_same);
        if (group == groups.end())
            group = groups.insert(groups.end(), {0, 0, "", &change});
        group->lost += change.lost;
        group->gained += change.gained;
        group->subnets += fmt::format("{}{} to {} {}", group->subnets.empty() ? "" : ", ",
                                      change.from, change.to, change.lost + change.gained);
    }
    std::string text;
    for (const Group& group : groups) {
        const reach::ReachChange& first = *group.first;
        text += group.lost != 0 ? style.bad(counted(group.lost, "pair") + " lost") : "";
        text += group.lost != 0 && group.gained != 0 ? ", " : "";
        text += group.gained != 0 ? style.good(counted(group.gained, "pair") + " gained") : "";
        text += "\n" + style.paragraph(group.subnets, 4) + "\n";
        if (first.cause)
            text += style.paragraph(
                        style.faint(fmt::format("{} to {}{}: ", first.first[0], first.first[1],
                                                first.lost == 0 ? ", before" : ""))
                            + first.cause->explanation,
                        4)
                    + "\n";
    }
    return text.empty() ? "" : text + "\n";
}

std::string met_text(const Style& style, const std::optional<bool>& met) {
    return !met ? style.faint("-") : *met ? style.good("met") : style.bad("not met");
}

std::string expectations_text(const Style& style,
                              const std::vector<reach::ExpectationChange>& changes) {
    Table table({"expectation", "before", "after"});
    for (const reach::ExpectationChange& change : changes) {
        table.add({change.what, met_text(style, change.before), met_text(style, change.after)});
        if (!change.explanation.empty())
            table.add_line(style.paragraph(change.explanation, 4));
    }
    return changes.empty() ? "" : table.text(style) + "\n";
}

std::string findings_text(const Style& style, const lab::Lab& lab,
                          const std::vector<lab::Finding>& findings, const std::string& word) {
    std::string text;
    for (const lab::Finding& finding : findings)
        text += fmt::format("{}  {}  {}\n{}\n", word, style.strong(plan::slug(finding.cause)),
                            style.faint(plan::to_string(finding.at, lab.source)),
                            style.paragraph(finding.message, 4));
    return text.empty() ? "" : text + "\n";
}

std::string compare_text(const Style& style, const lab::Lab& before, const lab::Lab& after,
                         const reach::Comparison& comparison) {
    if (comparison.is_same())
        return style.good("nothing differs") + "\n";
    const auto [gained, lost] = reach::sum_of(comparison.reach);
    std::string sum =
        fmt::format("{} lost, {} gained; new: {}, gone: {}; {} moved", counted(lost, "pair"),
                    gained, counted(comparison.come.size(), "finding"), comparison.gone.size(),
                    counted(comparison.changes.size(), "thing"));
    std::string written;
    for (const std::string& line : exports::written_lines(comparison.written))
        written += style.paragraph(line, 4) + "\n";
    if (!written.empty())
        written = "in the plan\n" + written + "\n";
    return written + changes_text(style, comparison.changes) + reach_text(style, comparison.reach)
           + expectations_text(style, comparison.expectations)
           + findings_text(style, after, comparison.come, style.bad("new"))
           + findings_text(style, before, comparison.gone, style.good("gone"))
           + (lost != 0 ? style.bad(sum) : sum) + "\n";
}

Outcome answer(const Style& style, CompareOptions& options) {
    options.plan.path = options.before;
    const Opened before = open_plan(options.plan);
    options.plan.path = options.after;
    const Opened after = open_plan(options.plan);
    const routing::Settled one = routing::settle(before.lab);
    const routing::Settled other = routing::settle(after.lab);
    reach::Comparison comparison = asked("", [&] {
        Progress progress("comparing");
        return reach::compare(one, other, std::ref(progress));
    });
    comparison.written = plan::difference(before.plan, after.plan);
    int status = comparison.is_same() ? status_well : status_no;
    if (options.plan.json())
        return {exports::compare_json(before.lab, after.lab, comparison), status};
    if (options.plan.format == Format::markdown)
        return {exports::comparison_markdown(before.lab, after.lab, comparison), status};
    return {compare_text(style, before.lab, after.lab, comparison), status};
}

} // namespace

void add_compare(CLI::App& app, Run& run) {
    auto options = std::make_shared<CompareOptions>();
    CLI::App* command =
        app.add_subcommand("compare", "what differs between two plans, and what comes of it");
    command->add_option("OLD", options->before, "the plan before the change")->required();
    command->add_option("NEW", options->after, "the plan after it")->required();
    add_review_options(*command, options->plan);
    command->footer("Examples:\n"
                    "  jackal compare skerry.yaml changed.yaml\n"
                    "  jackal compare skerry.yaml changed.yaml --format markdown > review.md\n"
                    "\n"
                    "A machine or subnet with another name is taken for the same if its addresses "
                    "are.\nExit status 0 if nothing differs, 1 if something does.");
    command->callback([&run, options] {
        run = [options](const Style& style) -> Outcome { return answer(style, *options); };
    });
}

} // namespace jackal::cli
