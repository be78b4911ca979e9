#include "command.h"

#include <algorithm>
#include <fmt/format.h>
#include <functional>

namespace jackal::cli {

std::string verify_text(const Style& style, const lab::Lab& lab,
                        const std::vector<reach::Verdict>& verdicts) {
    std::string out;
    Table table({"result", "from", "to", "asks", "gets", "pairs", "plan"});
    table.right(5);
    auto add_paragraph = [&](const std::string& text) { table.add_line(style.paragraph(text, 8)); };
    std::size_t failed = 0;
    for (const reach::Verdict& verdict : verdicts) {
        const plan::Expectation& wanted = lab.expectations[verdict.expectation];
        failed += verdict.passed ? 0 : 1;
        table.add({verdict.passed ? style.good("passed") : style.bad("failed"), wanted.from.value,
                   wanted.to.value, wanted.service ? net::to_string(*wanted.service) : "ping",
                   wanted.gets.value, fmt::format("{}", verdict.pairs),
                   style.faint(plan::to_string(wanted.at, lab.source))});
        if (!wanted.about.empty())
            add_paragraph(style.faint(plan::printable(wanted.about)));
        if (!verdict.passed)
            add_paragraph(fmt::format(
                "{}{}", verdict.explanation,
                verdict.failed > 1 ? fmt::format(" (and {} more)", verdict.failed - 1) : ""));
    }
    out += table.text(style);
    std::string total = fmt::format("{} of {} met", verdicts.size() - failed,
                                    counted(verdicts.size(), "expectation"));
    return out + "\n" + (failed == 0 ? style.good(total) : style.bad(total)) + "\n";
}

namespace {

std::vector<reach::Verdict> verdicts_of(const routing::Settled& settled) {
    Progress progress("verifying");
    return reach::verify(settled, std::ref(progress));
}

std::vector<std::vector<std::string>> verdict_rows(const lab::Lab& lab,
                                                   const std::vector<reach::Verdict>& verdicts) {
    std::vector<std::vector<std::string>> rows;
    for (const reach::Verdict& verdict : verdicts) {
        const plan::Expectation& wanted = lab.expectations[verdict.expectation];
        rows.push_back({plan::to_string(wanted.at, lab.source), wanted.from.value, wanted.to.value,
                        verdict.passed ? "passed" : "failed"});
    }
    return rows;
}

} // namespace

void add_verify(CLI::App& app, Run& run) {
    auto options = std::make_shared<PlanOptions>();
    CLI::App* command =
        app.add_subcommand("verify", "the plan's own expectations: met or not, and why");
    add_report_options(*command, *options, Format::junit);
    command->footer("Examples:\n"
                    "  jackal verify skerry.yaml\n"
                    "  jackal verify skerry.yaml --cut lamp-r1--vessel-r1\n"
                    "  jackal verify skerry.yaml --format junit > expectations.xml\n"
                    "\n"
                    "Exit status 1 if an expectation is not met.");
    command->callback([&run, options] {
        run = [options](const Style& style) -> Outcome {
            Opened opened = open_plan(*options);
            routing::Settled settled = settle(opened, *options);
            std::vector<reach::Verdict> verdicts = verdicts_of(settled);
            bool all = std::ranges::all_of(verdicts, &reach::Verdict::passed);
            int status = all ? status_well : status_no;
            auto of = [&](const routing::Settled& asked) {
                return &asked == &settled ? verdicts : verdicts_of(asked);
            };
            if (options->json())
                return {json_of(opened, *options, settled,
                                [&](const routing::Settled& asked) {
                                    return exports::verify_json(opened.lab, of(asked));
                                }),
                        status};
            if (options->format == Format::junit)
                return {exports::junit(opened.lab, verdicts), status};
            Rows rows{{"plan", "from", "to", "result"}, 3, [&](const routing::Settled& asked) {
                          return verdict_rows(opened.lab, of(asked));
                      }};
            return {verify_text(style, opened.lab, verdicts)
                        + changes_text(style, opened, *options, settled, rows),
                    status};
        };
    });
}

} // namespace jackal::cli
