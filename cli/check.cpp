#include "command.h"
#include "process.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::cli {

namespace {

// Findings of one cause at one place in the plan that are told one by one, as of clones.
constexpr std::ptrdiff_t most_alike = 3;

std::string finding_text(const Style& style, const Opened& opened, const lab::Finding& finding) {
    bool error = finding.severity == lab::Severity::error;
    std::string severity(lab::to_string(finding.severity));
    std::string out =
        fmt::format("{}  {}  {}\n", error ? style.bad(severity) : style.warning(severity),
                    style.strong(plan::slug(finding.cause)),
                    style.faint(plan::to_string(finding.at, opened.lab.source)))
        + style.paragraph(finding.message, 4) + "\n";
    for (const std::string& line : lab::to_lines(finding.remedy))
        out += style.paragraph(fmt::format("{} {}", style.good("remedy"), line), 4) + "\n";
    if (finding.remedy.proof == lab::Remedy::Proof::more_is_needed)
        out += "    more is needed behind that\n";
    return out;
}

// One that goes when another is mended.
std::string follower_text(const Style& style, const lab::Lab& lab, const lab::Finding& finding) {
    return style.paragraph(
               fmt::format("{} {} {}: {}", style.good("mends too"), plan::slug(finding.cause),
                           style.faint(plan::to_string(finding.at, lab.source)), finding.message),
               4)
           + "\n";
}

// `skerry and harbour reach each other; school is alone`
std::string islands_text(const lab::Lab& lab, const reach::Check& check) {
    std::string text;
    auto add = [&](const std::string& words) { text += (text.empty() ? "" : "; ") + words; };
    for (const auto& sites : check.islands) {
        std::string names;
        for (std::size_t i = 0; i < sites.size(); ++i)
            names += (i == 0                  ? ""
                      : i + 1 == sites.size() ? " and "
                                              : ", ")
                     + lab.sites[sites[i]].name;
        const bool is_joined = std::ranges::any_of(check.joined, [&](const auto& pair) {
            return pair.first == sites.front() || pair.second == sites.front();
        });
        if (sites.size() > 1)
            add(names + " reach each other");
        else if (!is_joined)
            add(names + " is alone");
    }
    constexpr std::size_t most = 6;
    for (std::size_t i = 0; i < std::min(check.joined.size(), most); ++i)
        add(fmt::format("{} and {} reach each other, too", lab.sites[check.joined[i].first].name,
                        lab.sites[check.joined[i].second].name));
    if (check.joined.size() > most)
        add("and " + counted(check.joined.size() - most, "more pair"));
    return text;
}

std::string sum_text(const Style& style, const lab::Lab& lab, const reach::Check& check) {
    std::string text = fmt::format(
        "{} of machines asked{}: {} answered", counted(check.pairs_asked, "pair"),
        check.pairs > check.pairs_asked ? fmt::format(" of {}", check.pairs) : "", check.answered);
    auto add = [&](std::size_t count, std::string_view what) {
        if (count != 0)
            text += fmt::format(", {} {}", count, what);
    };
    add(check.stated, "expected to get no reply");
    add(check.explained, "explained");
    add(check.outside, "without a way outside");
    if (check.unexplained != 0)
        text += fmt::format(", {} more without a reply: mend these first, and ask again",
                            check.unexplained);
    text += "\n";
    if (std::size_t all = check.verdicts.size(); all != 0) {
        std::string met =
            fmt::format("{} of {} met", check.expectations_met(), counted(all, "expectation"));
        text += (check.expectations_met() == all ? met : style.bad(met)) + "\n";
    }
    if (check.islands.size() > 1 || (check.islands.size() == 1 && check.islands[0].size() > 1))
        text += islands_text(lab, check) + "\n";
    return text;
}

std::vector<std::vector<std::string>> finding_rows(const lab::Lab& lab, const reach::Check& check) {
    std::vector<std::vector<std::string>> rows;
    for (const lab::Finding& f : check.findings)
        rows.push_back({std::string(lab::to_string(f.severity)), std::string(plan::slug(f.cause)),
                        plan::to_string(f.at, lab.source), f.message});
    return rows;
}

} // namespace

std::string check_text(const Style& style, const Opened& opened, const routing::Settled& settled,
                       const reach::Check& check) {
    const lab::Lab& lab = opened.lab;
    auto count = [](const auto& rows, auto counts) {
        return static_cast<std::size_t>(std::ranges::count_if(rows, counts));
    };
    auto machines_of = [&](plan::MachineKind kind) {
        return count(lab.machines, [&](const lab::Machine& machine) {
            return machine.kind == kind && !machine.outside && !machine.is_core;
        });
    };
    auto subnets = count(lab.subnets, [](const lab::Subnet& subnet) { return !subnet.outside; });
    auto links = count(lab.links, [&](const lab::Link& link) {
        return !lab.machines[lab.nics[link.first].machine].outside && !link.peering;
    });
    std::string out = fmt::format("lab {}: {}, {}, {}, {}\n\n", style.strong(lab.name),
                                  counted(subnets, "subnet"),
                                  counted(machines_of(plan::MachineKind::guest), "guest"),
                                  counted(machines_of(plan::MachineKind::router), "router"),
                                  counted(links + lab.cables.size(), "link"));
    std::vector<lab::PeeringId> peerings;
    for (lab::PeeringId id : lab.peerings.ids())
        peerings.push_back(id);
    if (!peerings.empty())
        out += peerings_table(style, settled, peerings) + "\n";
    std::size_t errors = 0;
    for (auto first = check.findings.begin(); first != check.findings.end();) {
        auto last = std::find_if_not(first, check.findings.end(), [&](const lab::Finding& other) {
            return other.cause == first->cause && other.at == first->at
                   && other.follows == first->follows;
        });
        errors += count(std::ranges::subrange(first, last), [](const lab::Finding& finding) {
            return finding.severity == lab::Severity::error;
        });
        for (auto told = std::min(last - first, most_alike); told > 0; --told, ++first)
            out += first->follows ? follower_text(style, lab, *first)
                                  : finding_text(style, opened, *first);
        if (first != last)
            out += fmt::format("    and {} more of this kind, of the same line\n", last - first);
        first = last;
        if (first == check.findings.end() || !first->follows)
            out += "\n";
    }
    std::size_t warnings = check.findings.size() - errors;
    std::string errors_text = counted(errors, "error");
    return out + sum_text(style, lab, check)
           + (check.findings.empty() && check.is_healthy()
                  ? style.good("nothing wrong found")
                  : fmt::format("{}, {}", errors == 0 ? errors_text : style.bad(errors_text),
                                counted(warnings, "warning")))
           + "\n";
}

void add_check(CLI::App& app, Run& run) {
    auto options = std::make_shared<PlanOptions>();
    CLI::App* command = app.add_subcommand("check", "what is wrong with a plan, and what mends it");
    add_report_options(*command, *options, Format::sarif);
    command->footer("Examples:\n"
                    "  jackal check skerry.yaml\n"
                    "  jackal check skerry.yaml --format sarif > findings.sarif\n"
                    "\n"
                    "Exit status 1 if an error was found or an expectation is not met; warnings "
                    "alone give 0.");
    command->callback([&run, options] {
        run = [options](const Style& style) -> Outcome {
            Opened opened = open_plan(*options);
            routing::Settled settled = settle(opened, *options);
            Progress progress("checking");
            reach::Check check = reach::check(settled, std::ref(progress));
            if (options->cuts.empty()) // else they are of the lab with its cuts
                mend::try_remedies(opened.plan, opened.lab, check, [] { return !is_time_short(); });
            auto check_of = [&](const routing::Settled& asked) {
                return &asked == &settled ? check : reach::check(asked, std::ref(progress));
            };
            int status = check.is_healthy() ? status_well : status_no;
            if (options->json())
                return {json_of(opened, *options, settled,
                                [&](const routing::Settled& asked) {
                                    return exports::check_json(opened.lab, check_of(asked));
                                }),
                        status};
            if (options->format == Format::sarif)
                return {exports::sarif(opened.lab, check), status};
            Rows rows{{"severity", "finding", "plan", ""}, 4, [&](const routing::Settled& asked) {
                          return finding_rows(opened.lab, check_of(asked));
                      }};
            return {check_text(style, opened, settled, check)
                        + changes_text(style, opened, *options, settled, rows),
                    status};
        };
    });
}

} // namespace jackal::cli
