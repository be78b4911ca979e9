// The program that shares a sweep among processes, as a user starts it.
#include "program.h"

#include <cstdlib>
#include <doctest/doctest.h>
#include <fstream>

namespace {

const std::string demo = std::string(SOURCE_DIR) + "/demo/skerry.yaml";
const std::string mpirun = "OMPI_ALLOW_RUN_AS_ROOT=1 OMPI_ALLOW_RUN_AS_ROOT_CONFIRM=1 "
                           "timeout 60 mpirun --oversubscribe ";

// A ring of routers with a subnet each, so large that a sweep of it takes seconds.
std::string ring(int routers) {
    std::string text = "lab: ring\nsubnets:\n";
    auto number = [](int i) { return std::to_string(i); };
    for (int i = 0; i < routers; ++i)
        text += "  n" + number(i) + ": {prefix: 10." + number(i / 200) + "." + number(i % 200)
                + ".0/24}\n";
    text += "guests:\n";
    for (int i = 0; i < routers; ++i)
        text += "  g" + number(i) + ": {nics: [{subnet: n" + number(i) + "}]}\n";
    text += "routers:\n";
    for (int i = 0; i < routers; ++i)
        text += "  r" + number(i) + ": {nics: [{subnet: n" + number(i)
                + "}], ospf: {areas: {0: all}}, router-id: 10.99." + number(i / 200) + "."
                + number(i % 200) + "}\n";
    text += "links:\n";
    for (int i = 0; i < routers; ++i)
        text += "  - {between: [r" + number(i) + ", r" + number((i + 1) % routers) + "]}\n";
    return text;
}

} // namespace

TEST_CASE("two ranks answer to the byte what one process does") {
    for (const std::string options : {" --format json", " --format csv", " --what link --cuts 2"}) {
        CAPTURE(options);
        Printed alone = run(std::string(TOOL) + " sweep " + demo + options);
        Printed shared = run(mpirun + "-n 2 " + SWEEP + " " + demo + options);
        CHECK(shared.status == 0);
        CHECK(shared.text.size() > 1000);
        CHECK(shared.text == alone.text);
    }
    CHECK(has(run(mpirun + "-n 2 " + SWEEP + " /nowhere.yaml 2>&1").text, "cannot be opened"));
}

TEST_CASE("a rank that is killed is told of, and what it was at is done by others") {
    const std::string plan = "/tmp/jackal-cluster-" + std::to_string(std::rand()) + ".yaml";
    std::ofstream(plan) << ring(90);
    const std::string options = " " + plan + " --what link --cuts 2 --format csv";
    Printed alone = run("JACKAL_SECONDS=100 " + std::string(TOOL) + " sweep" + options);
    Printed shared =
        run(mpirun + "--enable-recovery -n 2 " + SWEEP + options
            + " : -n 1 sh -c 'ulimit -t 1; exec " + SWEEP + options + "' 2>" + plan + ".said");
    std::ifstream said(plan + ".said");
    const std::string message(std::istreambuf_iterator<char>(said), {});
    CHECK(shared.text == alone.text);
    CHECK(has(message, "is silent"));
    for (const std::string& file : {plan, plan + ".said"})
        std::remove(file.c_str());
}
