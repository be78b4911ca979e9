#include "command.h"
#include "file.h"
#include "process.h"

#include <fmt/format.h>

namespace jackal::cli {

namespace {

struct ReportOptions {
    PlanOptions plan;
    std::string output;
    bool replace = false;
};

Outcome report(const ReportOptions& options) {
    refuse_existing(options.output, options.replace);
    Opened opened = open_plan(options.plan);
    routing::Settled settled = settle(opened, options.plan);
    reach::Check check;
    {
        Progress progress("checking");
        check = reach::check(settled, std::ref(progress));
    }
    if (options.plan.cuts.empty()) // else they are of the lab with its cuts
        mend::try_remedies(opened.plan, opened.lab, check, [] { return !is_time_short(); });
    std::string page;
    {
        Progress progress("asking all pairs");
        page = exports::page(opened.plan, settled, check, {.progress = std::ref(progress)});
    }
    if (options.output.empty() || options.output == "-")
        return {page};
    write_whole(options.output, page, options.replace);
    return {fmt::format("{}: {} kB; {}, {} of {} met\n", options.output, (page.size() + 999) / 1000,
                        counted(check.findings.size(), "finding"), check.expectations_met(),
                        counted(check.verdicts.size(), "expectation"))};
}

} // namespace

void add_report(CLI::App& app, Run& run) {
    auto options = std::make_shared<ReportOptions>();
    CLI::App* command =
        app.add_subcommand("report", "a page of the whole lab, in one file for any browser");
    add_plan_argument(*command, options->plan);
    add_cuts(*command, options->plan);
    command
        ->add_option("-o,--output", options->output,
                     "the file to write; default, or -: standard output")
        ->type_name("FILE");
    command->add_flag("--replace", options->replace, "write over a file that exists");
    command->footer("Example:\n"
                    "  jackal report skerry.yaml -o skerry.html");
    command->callback(
        [&run, options] { run = [options](const Style&) { return report(*options); }; });
}

} // namespace jackal::cli
