// Reads a plan and prints which subnet reaches which: a reply, or the cause of its absence.
//
//     reach_table demo/skerry.yaml
#include "jackal/jackal.h"

#include <iostream>

using namespace jackal;

int main(int argc, char** argv) {
    if (argc != 2) {
        std::cerr << "usage: reach_table PLAN\n";
        return 2;
    }
    plan::Reading reading = plan::read_file(argv[1]);
    for (const plan::Problem& p : reading.problems)
        std::cerr << plan::to_string(p.at, reading.source) << ": " << p.message << '\n';
    if (!reading.plan)
        return 2;

    lab::Lab lab = lab::build(*reading.plan);
    routing::Settled settled = routing::settle(lab);
    for (const lab::Subnet& from : lab.subnets)
        for (const lab::Subnet& to : lab.subnets) {
            auto senders = probe::endpoints(lab, from.name);
            auto targets = probe::endpoints(lab, to.name);
            if (senders.empty() || targets.empty() || from.name == to.name)
                continue;
            // The first guest of one subnet asks the first guest of the other.
            auto answer = probe::ping(settled, {.from = senders[0], .to = targets[0]});
            std::cout << from.name << " to " << to.name << ": "
                      << (answer.diagnosis ? plan::slug(answer.diagnosis->cause) : "reply") << '\n';
        }
}
