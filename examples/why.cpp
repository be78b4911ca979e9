// Says why one machine does not reach another, and what to change.
//
//     why demo/mistakes/no-return-route.yaml desk pump
#include "jackal/jackal.h"

#include <iostream>

using namespace jackal;

namespace {

int explain(const plan::Plan& plan, const char* from, const char* to) {
    lab::Lab lab = lab::build(plan);
    routing::Settled settled = routing::settle(lab);
    auto question = probe::question(lab, from, to);
    if (!question) {
        std::cerr << probe::unknown_endpoint(lab, probe::endpoint(lab, from) ? to : from) << '\n';
        return 2;
    }
    probe::PingAnswer answer = probe::ping(settled, *question);
    if (!answer.diagnosis) {
        std::cout << from << " reaches " << to << '\n';
        return 0;
    }
    const probe::Diagnosis& d = *answer.diagnosis;
    std::cout << plan::slug(d.cause) << " at " << lab.machines[d.where].name << ", "
              << plan::to_string(d.at, lab.source) << '\n'
              << d.explanation << '\n';
    mend::Mending mending = mend::reply(plan, {from, to});
    for (const std::string& line : lab::to_lines({mending.edits, mending.advice}))
        std::cout << "change " << line << '\n';
    std::cout << (mending.mends ? "then it answers" : "more is needed behind that") << '\n';
    return 1;
}

} // namespace

int main(int argc, char** argv) {
    if (argc != 4) {
        std::cerr << "usage: why PLAN FROM TO\n";
        return 2;
    }
    plan::Reading reading = plan::read_file(argv[1]);
    for (const plan::Problem& p : reading.problems)
        std::cerr << plan::to_string(p.at, reading.source) << ": " << p.message << '\n';
    return reading.plan ? explain(reading.plan->written(), argv[2], argv[3]) : 2;
}
