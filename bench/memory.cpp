// Resident memory of a read, built and settled lab, for each NIC: 10,000 subnets, 20,000 guests,
// 500 routers. The baseline is the text of the plan itself.
#include "jackal/lab/build.h"
#include "jackal/plan/read.h"
#include "jackal/routing/settled.h"
#include "plans.h"

#include <cstdio>
#include <fstream>
#include <malloc.h>
#include <unistd.h>

using namespace jackal;

namespace {

// Bytes of this process that are in memory now, after giving back what is free.
double resident_bytes() {
    malloc_trim(0);
    std::ifstream statm("/proc/self/statm");
    double total = 0;
    double resident = 0;
    statm >> total >> resident;
    return resident * static_cast<double>(sysconf(_SC_PAGESIZE));
}

} // namespace

int main() {
    std::string text = bench::tree_text(10'000, 20'000, 500);
    double before = resident_bytes();
    plan::Complete plan = *plan::read(text, "bench").plan;
    double with_plan = resident_bytes();
    lab::Lab lab = lab::build(plan);
    double with_lab = resident_bytes();
    routing::Settled settled = routing::settle(lab);
    double with_settled = resident_bytes();
    auto nics = static_cast<double>(lab.nics.size());
    std::printf("%zu NICs; bytes for each NIC: plan text %.0f, plan %.0f, lab %.0f, settled %.0f; "
                "plan, lab and settled together %.0f\n",
                lab.nics.size(), static_cast<double>(text.size()) / nics,
                (with_plan - before) / nics, (with_lab - with_plan) / nics,
                (with_settled - with_lab) / nics, (with_settled - before) / nics);
    return settled.refused().empty() ? 0 : 1;
}
