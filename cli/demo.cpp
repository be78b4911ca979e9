#include "command.h"

#include "demo_plan.h"

#include <fmt/format.h>

namespace jackal::cli {

namespace {

Opened build(plan::Plan plan) {
    lab::Lab lab = lab::build(plan);
    return {std::move(plan), std::move(lab)};
}

Opened demo_lab() {
    plan::Reading reading = plan::read(demo_plan, "skerry.yaml");
    if (!reading.plan)
        throw std::logic_error("the built-in plan has problems");
    return build(reading.plan->written());
}

std::string ping(const Style& style, const Opened& opened, const std::string& from,
                 const std::string& to) {
    routing::Settled settled = routing::settle(opened.lab);
    probe::PingAnswer answer = probe::ping(settled, *probe::question(opened.lab, from, to));
    std::optional<mend::Mending> mending;
    if (answer.diagnosis)
        mending = mend::reply(opened.plan, {from, to, {}});
    return ping_text(style, opened, settled, answer, mending ? &*mending : nullptr);
}

class Tour {
  public:
    explicit Tour(const Style& style) : style_(style) {}

    void stop(std::string_view title, std::string_view command, const std::string& answer) {
        text_ += fmt::format("{}{}. {}\n   {}\n\n{}\n", text_.empty() ? "" : "\n", ++number_,
                             style_.strong(title), style_.faint(command), answer);
    }
    std::string text() const { return text_; }

  private:
    const Style& style_;
    std::string text_;
    int number_ = 0;
};

Outcome tour(const Style& style) {
    Opened skerry = demo_lab();
    routing::Settled settled = routing::settle(skerry.lab);
    Tour tour(style);
    tour.stop(
        "A plan is checked: the marine station of Skerry, three sites joined by cable and radio",
        "jackal check skerry.yaml", check_text(style, skerry, settled, reach::check(settled)));
    tour.stop("Every address is worked out", "jackal addresses skerry.yaml",
              addresses_text(style, skerry.lab));
    tour.stop("A ping is answered, with the way there and the way back",
              "jackal ping skerry.yaml chart-desk kettle",
              ping(style, skerry, "chart-desk", "kettle"));

    Opened wrong_number = build(
        plan::apply(skerry.plan,
                    {plan::set_bgp_neighbour(skerry.plan, "vessel-r1", "lamp-r1", 64531, false)})
            .plan.value());
    tour.stop("The ship's router expects the lighthouse in a wrong AS",
              "jackal ping broken.yaml chart-desk helm",
              ping(style, wrong_number, "chart-desk", "helm"));

    Opened silent =
        build(plan::apply(skerry.plan, {plan::set_forwards(skerry.plan, "ridge-r1", false)})
                  .plan.value());
    tour.stop("A router that does not forward", "jackal ping broken.yaml weather-mast fog-horn",
              ping(style, silent, "weather-mast", "fog-horn"));

    tour.stop("The plan's own expectations are held against it", "jackal verify skerry.yaml",
              verify_text(style, skerry.lab, reach::verify(settled)));
    tour.stop("What joins the sites; with -o skerry.svg it is a picture",
              "jackal draw skerry.yaml --view sites",
              exports::drawing::tree(
                  exports::drawing::picture(settled, {.view = exports::drawing::View::sites})));
    return {tour.text()
            + "\nThe plan of this tour: jackal demo --print-plan > skerry.yaml\n"
              "All of it on one page:     jackal report skerry.yaml -o skerry.html\n"
              "The same while you write:  jackal serve skerry.yaml\n"};
}

} // namespace

void add_demo(CLI::App& app, Run& run) {
    auto print_plan = std::make_shared<bool>(false);
    CLI::App* command = app.add_subcommand("demo", "a tour, on the plan built into the program");
    command->add_flag("--print-plan", *print_plan, "print that plan instead, to start from");
    command->footer("Example:\n"
                    "  jackal demo --print-plan > skerry.yaml");
    command->callback([&run, print_plan] {
        run = [print_plan](const Style& style) -> Outcome {
            if (*print_plan)
                return {std::string(demo_plan)};
            return tour(style);
        };
    });
}

} // namespace jackal::cli
