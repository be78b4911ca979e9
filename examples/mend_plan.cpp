// Mends a plan and prints it as it should be: mend_plan PLAN > mended.yaml
//
// The comments, the order and the style of the file stay. What was changed goes to standard error.
#include <fstream>
#include <iostream>
#include <jackal/jackal.h>
#include <sstream>

using namespace jackal;

int main(int argc, char** argv) {
    if (argc != 2) {
        std::cerr << "usage: mend_plan PLAN\n";
        return 2;
    }
    std::ifstream file(argv[1], std::ios::binary);
    std::ostringstream text;
    text << file.rdbuf();
    plan::Reading reading = plan::read(text.str(), argv[1]);
    for (const plan::Problem& problem : reading.problems)
        std::cerr << plan::to_string(problem.at, argv[1]) << ": " << problem.message << '\n';
    if (!reading.plan)
        return 2;

    plan::Plan plan = reading.plan->written();
    mend::Outcome outcome = mend::search(plan, {});
    for (const mend::Change& change : outcome.changes) {
        for (const plan::Edit& edit : change.edits)
            std::cerr << plan::to_line(edit) << '\n';
        std::cerr << "    " << change.reason << '\n';
        plan = plan::apply(std::move(plan), change.edits).plan.value();
    }
    for (const mend::Obstacle& left : outcome.left)
        std::cerr << "left: " << left.message << '\n';

    plan::Writing mended = plan::write(text.str(), outcome.edits());
    if (!mended.text) {
        std::cerr << mended.problems.front().message << '\n';
        return 2;
    }
    std::cout << *mended.text;
    return outcome.is_healthy() ? 0 : 1;
}
