#include "command.h"
#include "file.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::cli {

namespace {

PlanText text_of_file(const PlanOptions& options, std::string_view option) {
    if (options.path == "-")
        throw NotAsked(
            fmt::format("{} writes the plan file, so it takes no standard input", option));
    return plan_text(options);
}

// `skerry=10.44.0.0/16`.
std::pair<std::string, net::Prefix> wish_of(const std::string& text) {
    std::size_t equals = text.find('=');
    auto to = net::parse_address_with_length(
        equals == text.npos ? std::string_view() : std::string_view(text).substr(equals + 1));
    if (!to)
        throw NotAsked(fmt::format(
            "--renumber {}: write --renumber NAME=PREFIX, such as skerry=10.44.0.0/16", text));
    if (to->prefix().first() != to->address)
        throw NotAsked(fmt::format("--renumber {}: {} has bits beyond its length; did you mean {}?",
                                   text, text.substr(equals + 1), net::to_string(to->prefix())));
    return {text.substr(0, equals), to->prefix()};
}

} // namespace

Outcome pin_plan(const Style& style, const PlanOptions& options) {
    PlanText file = text_of_file(options, "--pin");
    exports::Pinning pinning = exports::pin(file.text, file.source, settings_of(options));
    if (!pinning.text)
        refuse(pinning.problems, file.source, "nothing was written");
    bool changed = *pinning.text != file.text;
    if (changed)
        rewrite_whole(file.source, file.text, *pinning.text);
    return {fmt::format("{}: {} {} pinned{}\n", style.strong(file.source),
                        counted(pinning.kept + pinning.added, "choice"),
                        pinning.kept + pinning.added == 1 ? "is" : "are",
                        !changed             ? ", as before; the file stays as it is"
                        : pinning.added == 0 ? "; those of entries that are gone are taken out"
                                             : fmt::format(", {} of them new", pinning.added))};
}

Outcome renumber_plan(const Style& style, const PlanOptions& options, const std::string& wish,
                      bool write) {
    auto [name, to] = wish_of(wish);
    PlanText file = text_of_file(options, "--renumber");
    exports::Renumbering answer =
        exports::renumber(file.text, file.source, settings_of(options), name, to);
    if (!answer.text)
        refuse(answer.problems, file.source, "nothing was written");
    if (write)
        rewrite_whole(file.source, file.text, *answer.text);
    int status = answer.brought.empty() ? status_well : status_no;
    if (options.json())
        return {exports::renumbering_json(answer, write) + "\n", status};
    if (options.format == Format::csv)
        return {exports::renumbering_csv(answer), status};
    Table table({"what", "from", "to"});
    for (const exports::Renumbered& row : answer.table)
        table.add({row.what, row.before, row.after});
    std::string text = table.text(style);
    for (const plan::Problem& left : answer.left)
        text += fmt::format("{}: {}\n", plan::to_string(left.at, file.source), left.message);
    for (const lab::Finding& finding : answer.brought)
        text += fmt::format("{}{} {}\n", style.bad("this brings an error: "), finding.message,
                            style.faint(fmt::format("({})", plan::slug(finding.cause))));
    auto strays = std::ranges::count(answer.table, false, &exports::Renumbered::meant);
    if (strays != 0)
        text +=
            fmt::format("\n{} of the rows are not part of {}: they are not pinned, and other room "
                        "was found for them; --pin first keeps them where they are\n",
                        strays, name);
    text += write ? fmt::format("\n{} is written: {} renumbered\n", file.source,
                                counted(answer.table.size(), "row"))
                  : "\nnothing is written yet; add --write to carry it out in the file\n";
    return {text, status};
}

} // namespace jackal::cli
