#include "command.h"
#include "facts.h"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <nlohmann/json.hpp>

namespace jackal::cli {

namespace {

struct DriftOptions {
    PlanOptions plan;
    std::string facts;
    std::string whose;
};

constexpr std::string_view step = " && "; // between the commands that mend something

// "84 pairs lost, 3 gained; 2 expectations no longer met", or nothing.
std::string broken(const Style& style, const std::vector<reach::ReachChange>& changes,
                   const std::vector<reach::ExpectationChange>& expectations) {
    const reach::ReachSum sum = reach::sum_of(changes);
    std::string text;
    auto add = [&](std::uint64_t count, const std::string& words) {
        if (count != 0)
            text += (text.empty() ? "" : "; ") + words;
    };
    add(sum.lost, style.bad(counted(sum.lost, "pair") + " lost"));
    add(sum.gained, style.warning(counted(sum.gained, "pair") + " gained"));
    std::uint64_t unmet = 0;
    for (const reach::ExpectationChange& change : expectations)
        unmet += change.before == true && change.after == false ? 1 : 0;
    add(unmet, style.bad(counted(unmet, "expectation") + " no longer met"));
    return text;
}

std::string difference_text(const Style& style, const lab::Lab& lab, const reach::Difference& d) {
    // Rules stand on a line each.
    auto value = [](const std::string& said) {
        std::string words = plan::printable(said); // by machines
        for (std::size_t at = 0; (at = words.find("}; ", at)) != words.npos;)
            words.replace(at, 3, "}\n            ");
        return words.empty() ? "nothing" : words;
    };
    std::string text =
        fmt::format("{}  {}  {}\n", style.strong(plan::printable(d.what)), reach::slug(d.deviation),
                    d.at ? style.faint(plan::to_string(d.at, lab.source)) : "");
    text += fmt::format("    planned {}{}found {}\n", value(d.planned), d.rules ? "\n    " : "; ",
                        style.warning(value(d.found)));
    const std::string breaks = broken(style, d.reach, d.expectations);
    if (d.is_asked)
        text += fmt::format("    {}\n", breaks.empty() ? "breaks nothing by itself" : breaks);
    for (const reach::ReachChange& change : d.reach)
        if (change.lost != 0 && change.cause) {
            text += style.paragraph(
                        style.faint(fmt::format("{} to {}: ", change.first[0], change.first[1]))
                            + change.cause->explanation,
                        4)
                    + "\n";
            break;
        }
    if (!d.command.empty()) // a step a line
        for (std::size_t at = 0, end = 0; end != d.command.npos; at = end + step.size()) {
            end = d.command.find(step, at);
            text += fmt::format("    {} {}\n",
                                at == 0 ? style.faint("on the machine:") : std::string(15, ' '),
                                plan::printable(d.command.substr(at, end - at)));
        }
    for (const plan::Edit& edit : d.edits)
        text += fmt::format("    {} {}\n", style.faint("or in the plan:"), plan::to_line(edit));
    return text + "\n";
}

std::string drift_text(const Style& style, const lab::Lab& lab, const reach::Drift& drift) {
    std::string text;
    for (const reach::Difference& d : drift.differences)
        text += difference_text(style, lab, d);
    if (!drift.unasked.empty())
        text += style.paragraph(fmt::format("of {} there are no facts: {}",
                                            counted(drift.unasked.size(), "machine"),
                                            fmt::join(drift.unasked, ", ")),
                                0)
                + "\n";
    const std::string machines = counted(drift.machines, "machine");
    if (drift.differences.empty())
        return text + style.good(machines + " as planned") + "\n";
    const std::string breaks = broken(style, drift.reach, drift.expectations);
    const std::size_t count = drift.differences.size();
    text += fmt::format("{}, {}", machines, counted(count, "difference"));
    if (!breaks.empty())
        text += ": " + breaks;
    else if (drift.not_put == 0)
        text += count == 1 ? ", which breaks nothing" : ", which break nothing";
    if (drift.not_put != 0)
        text += fmt::format("; what {} of them {} is not known", drift.not_put,
                            drift.not_put == 1 ? "breaks" : "break");
    return text + "\n";
}

// Whose an address is in the plan, and who has it.
Outcome answer_whose(const Style& style, const DriftOptions& options, const lab::Lab& lab,
                     const reach::Facts& facts) {
    const auto address = net::parse_address(options.whose);
    if (!address)
        throw NotAsked(fmt::format("--whose {}: not an IPv4 or IPv6 address", options.whose));
    const lab::Whose planned = lab::AddressMap(lab).whose(*address);
    std::string text = fmt::format("{} {}\n", style.strong(net::to_string(*address)),
                                   exports::whose_text(lab, *address, planned));
    auto json = nlohmann::json::array();
    bool is_as_planned = true;
    for (const reach::Holder& holder : reach::holders(lab, facts, *address)) {
        is_as_planned = is_as_planned && holder.is_planned && holder.has_it;
        const std::string words = holder.has_it
                                      ? holder.is_planned ? "has it" : "has it, and should not"
                                      : "should have it, and has not";
        json.push_back(
            {{"what", holder.what}, {"planned", holder.is_planned}, {"found", holder.has_it}});
        text +=
            fmt::format("    {} {}\n", plan::printable(holder.what),
                        holder.has_it && holder.is_planned ? style.good(words) : style.bad(words));
    }
    if (json.empty())
        text += "    nobody of whom there are facts has it\n";
    const int status = is_as_planned ? status_well : status_no;
    if (options.plan.json())
        return {
            nlohmann::json{{"lab", lab.name}, {"address", options.whose}, {"holders", json}}.dump(2)
                + "\n",
            status};
    return {text, status};
}

Outcome answer(const Style& style, const DriftOptions& options) {
    const Opened opened = open_plan(options.plan);
    const reach::Facts facts = read_facts(options.facts);
    if (!options.whose.empty())
        return answer_whose(style, options, opened.lab, facts);
    const routing::Settled settled = settle(opened, options.plan);
    const reach::Drift drift = asked("", [&] {
        Progress progress("asking what each difference breaks");
        return reach::drift(settled, facts, std::ref(progress));
    });
    const int status = drift.differences.empty() ? status_well : status_no;
    if (options.plan.json())
        return {exports::drift_json(opened.lab, drift), status};
    return {drift_text(style, opened.lab, drift), status};
}

} // namespace

void add_drift(CLI::App& app, Run& run) {
    auto options = std::make_shared<DriftOptions>();
    CLI::App* command = app.add_subcommand(
        "drift", "where real machines are not as planned, what that breaks, and what mends it");
    add_plan_options(*command, options->plan, false);
    command
        ->add_option("FACTS", options->facts,
                     "a folder with one for each machine, as the script of `jackal export --as "
                     "gather` writes it")
        ->required();
    command->add_option("--whose", options->whose, "who has this address, and should have it")
        ->type_name("ADDRESS");
    command->footer("Examples:\n"
                    "  jackal export skerry.yaml --as gather -o gather.sh\n"
                    "  sudo sh gather.sh facts                             # of namespaces\n"
                    "  sh gather.sh facts ssh -F settings/lab/ssh_config   # of machines\n"
                    "  jackal drift skerry.yaml facts\n"
                    "  jackal drift skerry.yaml facts --whose 10.41.0.34\n\n"
                    "Exit status 0 if all is as planned, 1 if something differs.");
    command->callback([&run, options] {
        run = [options](const Style& style) -> Outcome { return answer(style, *options); };
    });
}

} // namespace jackal::cli
