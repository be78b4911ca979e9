// A program of somebody who has only the installed library.
#include <iostream>
#include <jackal/jackal.h>

int main() {
    jackal::plan::Plan plan{.lab = "outside"};
    plan.subnets = {{.name = "north"}, {.name = "south"}};
    plan.machines = {{.name = "lamp", .nics = {{.subnet = "north"}}},
                     {.name = "bell", .nics = {{.subnet = "south"}}}};
    jackal::lab::Lab lab = jackal::lab::build(plan);
    jackal::routing::Settled settled = jackal::routing::settle(lab);
    auto answer = jackal::probe::ping(settled, *jackal::probe::question(lab, "lamp", "bell"));
    std::cout << "lamp to bell: "
              << (answer.diagnosis ? jackal::plan::slug(answer.diagnosis->cause) : "reply") << '\n';
    return jackal::version().empty() ? 1 : 0;
}
