// Which single cable must not fail: the links of a plan whose loss somebody would notice, the worst
// first, and those that a builder may pull at noon.
//
//     weak_cable demo/skerry.yaml
#include "jackal/jackal.h"

#include <iostream>

using namespace jackal;

int main(int argc, char** argv) {
    if (argc != 2) {
        std::cerr << "usage: weak_cable PLAN\n";
        return 2;
    }
    plan::Reading reading = plan::read_file(argv[1]);
    for (const plan::Problem& p : reading.problems)
        std::cerr << plan::to_string(p.at, reading.source) << ": " << p.message << '\n';
    if (!reading.plan)
        return 2;

    const lab::Lab lab = lab::build(*reading.plan);
    const routing::Settled settled = routing::settle(lab);
    const reach::Sweep sweep = reach::sweep(settled, {.what = {reach::CutKind::link}});
    std::size_t needed = 0;
    for (const reach::CutEffect& effect : sweep.cuts) {
        std::cout << routing::to_string(lab, effect.cut.front()) << ": ";
        if (effect.is_harmless())
            std::cout << "may fail, " << effect.moved << " pairs go another way\n";
        else
            std::cout << "must not fail, " << effect.lost << " of " << sweep.replies
                      << " pairs lose their replies\n";
        needed += effect.is_harmless() ? 0 : 1;
    }
    return needed == 0 ? 0 : 1;
}
