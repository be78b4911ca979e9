// Builds a lab in code, asks it a question, and mends what is wrong with it.
//
//   north (lamp) -- north-r1 -- spine -- south-r1 -- south (bell)
//
// Someone forgot to tell south-r1 the way back to the north.
#include "jackal/jackal.h"

#include <iostream>

using namespace jackal;

namespace {

plan::Plan two_rooms() {
    plan::Plan plan{.source = "two_rooms.cpp", .lab = "two-rooms"};
    plan.subnets = {
        {.name = "north", .prefixes = {*net::parse_prefix("10.50.0.0/24")}},
        {.name = "spine", .size = 28U},
        {.name = "south", .hosts = std::uint64_t{40}},
    };
    plan.machines = {
        {.name = "lamp", .nics = {{.subnet = "north"}}},
        {.name = "bell", .nics = {{.subnet = "south"}}},
        {.kind = plan::MachineKind::router,
         .name = "north-r1",
         .nics = {{.subnet = "north"}, {.subnet = "spine"}},
         .routes = {{.to = plan::Route::Target("south"), .via = plan::Route::NextHop("south-r1")}}},
        {.kind = plan::MachineKind::router,
         .name = "south-r1",
         .nics = {{.subnet = "south"}, {.subnet = "spine"}}},
    };
    return plan;
}

probe::PingAnswer ping(const routing::Settled& settled, const char* from, const char* to) {
    return probe::ping(settled, *probe::question(settled.lab(), from, to));
}

} // namespace

int main() {
    plan::Plan plan = two_rooms();
    lab::Lab lab = lab::build(plan);
    for (const lab::PrefixUsage& row : lab::usage(lab))
        std::cout << lab.segment_name(row.segment) << " is " << net::to_string(row.prefix) << '\n';

    routing::Settled settled = routing::settle(lab);
    probe::PingAnswer answer = ping(settled, "lamp", "bell");
    if (!answer.diagnosis) {
        std::cout << "lamp to bell: a reply\n";
        return 1; // the lab was built to fail
    }
    std::cout << "lamp to bell: " << plan::slug(answer.diagnosis->cause) << ", "
              << answer.diagnosis->explanation << '\n';

    mend::Mending mending = mend::reply(plan, {"lamp", "bell"});
    for (const std::string& line : lab::to_lines({mending.edits, mending.advice}))
        std::cout << "remedy: " << line << '\n';

    lab::Lab mended = lab::build(plan::apply(plan, mending.edits).plan.value());
    routing::Settled settled_again = routing::settle(mended);
    answer = ping(settled_again, "lamp", "bell");
    std::cout << "after the remedy: " << answer.received << " of " << answer.sent << " replies\n";
    return answer.diagnosis ? 1 : 0;
}
