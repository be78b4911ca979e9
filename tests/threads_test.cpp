// What says that threads may share it, asked by many at once; the thread sanitizer looks on in
// .ci/run.
#include "jackal/jackal.h"

#include <algorithm>
#include <doctest/doctest.h>
#include <thread>

using namespace jackal;

namespace {

std::string outcome(const routing::Settled& settled, lab::MachineId from, lab::MachineId to) {
    auto end = [&](lab::MachineId id) {
        return *probe::endpoint(settled.lab(), settled.lab().machines[id].name);
    };
    probe::PingAnswer answer = probe::ping(settled, {.from = end(from), .to = end(to)});
    std::string text(to_string(answer.outcome()));
    if (answer.diagnosis)
        text += " " + std::string(plan::slug(answer.diagnosis->cause));
    return text;
}

// Every machine of the first half asks one after another of all.
std::vector<std::string> outcomes(const routing::Settled& settled) {
    std::vector<std::string> found;
    for (lab::MachineId from : settled.lab().machines.ids())
        for (lab::MachineId to : settled.lab().machines.ids())
            if (from.row % 2 == 0)
                found.push_back(outcome(settled, from, to));
    return found;
}

} // namespace

TEST_CASE("many threads get the same answers from one lab as one thread does") {
    auto reading = plan::read_file(SOURCE_DIR "/demo/skerry.yaml");
    REQUIRE(reading.plan);
    const lab::Lab lab = lab::build(*reading.plan);
    const routing::Settled settled = routing::settle(lab);
    const std::vector<std::string> expected = outcomes(settled);
    CHECK(std::ranges::find(expected, "reply") != expected.end());
    const std::size_t findings = reach::check(settled).findings.size();

    constexpr std::size_t count = 6;
    std::vector<std::vector<std::string>> found(count);
    std::vector<std::size_t> found_findings(count);
    std::vector<std::thread> threads;
    for (std::size_t i = 0; i < count; ++i)
        threads.emplace_back([&, i] {
            found[i] = outcomes(settled);
            found_findings[i] = reach::check(settled).findings.size();
            routing::Condition cut = settled.condition();
            cut.cut(lab, "lamp-r1--vessel-r1");
            routing::Settled without = routing::resettle(settled, cut);
            outcomes(without);
        });
    for (std::thread& thread : threads)
        thread.join();
    for (std::size_t i = 0; i < count; ++i) {
        CHECK(found[i] == expected);
        CHECK(found_findings[i] == findings);
    }
}

TEST_CASE("a matrix by many threads is the matrix by one") {
    auto reading = plan::read_file(SOURCE_DIR "/demo/skerry.yaml");
    REQUIRE(reading.plan);
    const lab::Lab lab = lab::build(*reading.plan);
    const routing::Settled settled = routing::settle(lab);
    for (net::Family family : net::both_families) {
        reach::Matrix one = reach::matrix(settled, reach::ends(lab, family));
        reach::Matrix many = reach::matrix(settled, reach::ends(lab, family), {.threads = 6});
        CHECK(one.replies() > 100);
        CHECK(one.walked() == many.walked());
        for (std::size_t from = 0; from < one.ends().size(); ++from)
            for (std::size_t to = 0; to < one.ends().size(); ++to)
                CHECK(one.reaches(from, to) == many.reaches(from, to));
    }
}
