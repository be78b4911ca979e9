#include "command.h"
#include "file.h"
#include "raster.h"

#include <filesystem>
#include <fmt/format.h>

namespace jackal::cli {

namespace drawing = exports::drawing;

namespace {

// In a larger lab only the findings of its tables are marked: the others take a ping of all pairs.
constexpr std::size_t most_checked = 500; // NICs

struct DrawOptions {
    PlanOptions plan;
    std::string view = "routes";
    std::string output;
    bool replace = false;
    std::vector<std::string> way; // FROM TO
    std::string around;
    std::size_t hops = 2;
    bool all_guests = false;
    std::string theme;
    double scale = 1;
};

drawing::View view_of(const DrawOptions& options) {
    using drawing::View;
    return options.view == "wires"   ? View::wires
           : options.view == "sites" ? View::sites
                                     : View::routes;
}

drawing::Theme theme_of(const DrawOptions& options, drawing::Theme otherwise) {
    if (options.theme.empty())
        return otherwise;
    return options.theme == "light" ? drawing::Theme::light : drawing::Theme::dark;
}

std::vector<lab::Finding> findings_of(const routing::Settled& whole) {
    if (whole.lab().nics.size() > most_checked)
        return lab::findings(whole.lab());
    Progress progress("looking for findings");
    return reach::check(whole, std::ref(progress)).findings;
}

// What the file's name asks for.
std::string file_of(const DrawOptions& options, const drawing::Picture& picture) {
    std::string kind = std::filesystem::path(options.output).extension();
    if (kind == ".dot")
        return drawing::dot(picture);
    if (kind == ".svg")
        return drawing::svg(picture, theme_of(options, drawing::Theme::automatic));
    if (kind != ".png" && kind != ".pdf")
        throw NotAsked(
            fmt::format("-o {}: the name must end in .svg, .png, .pdf or .dot", options.output));
    std::string svg = drawing::svg(picture, theme_of(options, drawing::Theme::light));
    return kind == ".png" ? png_of(svg, options.scale) : pdf_of(svg);
}

probe::PingAnswer answer_of(const routing::Settled& settled, const std::vector<std::string>& way) {
    const lab::Lab& lab = settled.lab();
    for (const std::string& end : way)
        if (!probe::endpoint(lab, end))
            throw NotAsked(probe::unknown_endpoint(lab, end));
    auto question = probe::question(lab, way[0], way[1]);
    if (!question)
        throw NotAsked(fmt::format("--way {}: no machine has that address", way[0]));
    return probe::ping(settled, *question);
}

Outcome draw(DrawOptions& options, const Style&) {
    refuse_existing(options.output, options.replace);
    if (!(options.scale >= 0.1 && options.scale <= 8))
        throw NotAsked(fmt::format("--scale {:g}: write a number from 0.1 to 8", options.scale));
    drawing::PictureOptions wanted{
        .view = view_of(options), .hops = options.hops, .all_guests = options.all_guests};
    Opened opened = open_plan(options.plan);
    routing::Settled settled = settle(opened, options.plan);
    std::optional<routing::Settled> whole;
    if (!options.plan.cuts.empty()) {
        whole = routing::settle(opened.lab);
        wanted.whole = &*whole;
    }
    std::optional<probe::PingAnswer> answer;
    if (!options.way.empty()) {
        answer = answer_of(settled, options.way);
        wanted.answer = &*answer;
    }
    if (!options.around.empty())
        wanted.around = machine_named(opened.lab, options.around);
    std::vector<lab::Finding> findings = findings_of(whole ? *whole : settled);
    wanted.findings = findings;
    drawing::Picture picture = drawing::picture(settled, wanted);
    picture.about = opened.plan.about;
    for (const std::string& cut : options.plan.cuts)
        picture.about += fmt::format("{}without {}", picture.about.empty() ? "" : "; ", cut);
    if (options.output.empty())
        return {drawing::tree(picture)};
    std::string file;
    try {
        file = file_of(options, picture);
    } catch (const NotAsked&) {
        throw;
    } catch (const std::runtime_error& e) {
        throw NotAsked(fmt::format("{}; --around draws a part of the lab", e.what()));
    }
    write_whole(options.output, file, options.replace);
    std::string text =
        fmt::format("{}: {} and {}\n", options.output, counted(picture.cards.size(), "card"),
                    counted(picture.lines.size(), "line"));
    for (const std::string& note : picture.notes)
        text += "  " + note + "\n";
    return {text};
}

} // namespace

void add_draw(CLI::App& app, Run& run) {
    auto options = std::make_shared<DrawOptions>();
    CLI::App* command = app.add_subcommand("draw", "a picture of the lab");
    add_plan_argument(*command, options->plan);
    add_cuts(*command, options->plan);
    command
        ->add_option("-o,--output", options->output,
                     "the file to write: .svg, .png, .pdf or .dot; without it a tree of text")
        ->type_name("FILE");
    command->add_flag("--replace", options->replace, "write over a file that exists");
    take_words(command->add_option("--view", options->view,
                                   "routes (default): segments and routers; wires: switches, "
                                   "ports, cables; sites: what joins sites"),
               {"routes", "wires", "sites"});
    command
        ->add_option("--way", options->way, "the way of a ping there and back, and where it ends")
        ->type_name("FROM TO")
        ->expected(2);
    command->add_option("--around", options->around, "only what is near this machine")
        ->type_name("MACHINE");
    command->add_option("--hops", options->hops, "how near: machines in a row; default 2")
        ->type_name("N");
    command->add_flag("--all-guests", options->all_guests, "each guest by name, none as a count");
    take_words(command->add_option("--theme", options->theme, "its colours; an SVG has both"),
               {"light", "dark"});
    command
        ->add_option("--scale", options->scale,
                     "of a PNG: how many of its pixels make one of the picture's; default 1")
        ->type_name("N");
    command->footer("Examples:\n"
                    "  jackal draw skerry.yaml\n"
                    "  jackal draw skerry.yaml -o skerry.svg\n"
                    "  jackal draw skerry.yaml --way chart-desk kettle -o way.png\n"
                    "  jackal draw skerry.yaml --view wires --around quay-r1 --hops 1 -o quay.pdf");
    command->callback(
        [&run, options] { run = [options](const Style& style) { return draw(*options, style); }; });
}

} // namespace jackal::cli
