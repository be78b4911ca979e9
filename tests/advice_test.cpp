// Advice that a builder would follow: plans of which the first lines say what he would change.
#include "files.h"
#include "jackal/jackal.h"

#include <doctest/doctest.h>
#include <filesystem>
#include <sstream>

using namespace jackal;

namespace {

std::vector<std::string> wanted_changes(const std::string& text) {
    constexpr std::string_view mark = "# mend: ";
    std::vector<std::string> lines;
    std::istringstream stream(text);
    for (std::string line; std::getline(stream, line);)
        if (line.starts_with(mark))
            lines.push_back(line.substr(mark.size()));
    return lines;
}

reach::Check checked(const plan::Plan& plan) {
    const lab::Lab lab = lab::build(plan);
    reach::Check check = reach::check(routing::settle(lab));
    mend::try_remedies(plan, lab, check);
    return check;
}

} // namespace

TEST_CASE("mend writes what a builder would, for reasons that are so, and then has nothing to do") {
    for (const auto& file : std::filesystem::directory_iterator(SOURCE_DIR "/tests/advice")) {
        const std::string name = file.path().stem();
        CAPTURE(name);
        const std::string text = text_of(file.path());
        const plan::Plan plan = plan::read(text, name).plan->written();
        const mend::Outcome outcome = mend::search(plan, {});
        CHECK(outcome.is_healthy());
        std::vector<std::string> lines;
        for (const plan::Edit& change : outcome.edits())
            lines.push_back(plan::to_line(change));
        CHECK(lines == wanted_changes(text));
        CHECK(outcome.proposed >= lines.size());
        const reach::Check check = checked(plan);
        CHECK(check.is_healthy() == lines.empty());
        // Each reason is a finding or an expectation of the plan as it is, and a different one.
        std::set<std::string> reasons;
        for (const mend::Change& change : outcome.changes) {
            CHECK(reasons.insert(change.reason).second);
            CHECK(change.at.line != 0);
        }
        const plan::Writing mended = plan::write(text, outcome.edits());
        REQUIRE(mended.text.has_value());
        const plan::Plan after = plan::read(*mended.text, name).plan->written();
        CHECK(mend::search(after, {}).proof == mend::Outcome::Proof::nothing_to_do);
        CHECK(checked(after).is_healthy());
    }
}

TEST_CASE(
    "a finding speaks of the pair that an expectation names, and its remedy is for all pairs") {
    const std::string text =
        "lab: t\nsubnets: {a: {prefix: 10.0.1.0/24}, b: {prefix: 10.0.2.0/24, filter: shut}}\n"
        "filters: {shut: {default: deny, rules: [{do: allow, way: out}]}}\n"
        "guests: {desk: {nics: [{subnet: a}]}, lamp: {nics: [{subnet: a}]}, fan: {nics: [{subnet: "
        "a}]}, pump: {nics: [{subnet: b}], listens: [tcp/22]}}\n"
        "routers: {r: {nics: [{subnet: a}, {subnet: b}]}}\n";
    auto finding_of = [&](const std::string& expected) {
        const plan::Plan plan = plan::read(text + expected, "t").plan->written();
        reach::Check check = checked(plan);
        REQUIRE(check.findings.size() == 1);
        return check.findings.front();
    };
    const lab::Finding unasked = finding_of("");
    CHECK(unasked.severity == lab::Severity::warning);
    CHECK(unasked.remedy.proof == lab::Remedy::Proof::mends);
    const plan::Plan plan = plan::read(text, "t").plan->written();
    CHECK(checked(plan::apply(plan, unasked.remedy.edits).plan.value()).findings.empty());
    const lab::Finding asked = finding_of("expect: [{ping: [fan, pump]}]\n");
    CHECK(asked.severity == lab::Severity::error);
    CHECK(asked.message.starts_with("fan gets no reply from pump"));
    CHECK(asked.remedy.edits.size() == 1);
    const lab::Finding service = finding_of("expect: [{connect: [lamp, pump, tcp/22]}]\n");
    CHECK(service.message.starts_with("lamp gets no reply from pump on tcp/22"));
}

TEST_CASE("what is off, silent or apart stays so, unless it is in the way of what is asked for") {
    struct Row {
        std::string router;
        std::string expected;
        std::string change;
        std::string against;
    };
    const std::string ping = "expect: [{ping: [desk, pump]}]\n";
    const std::string down = "nics: [{subnet: a, state: down}, {subnet: b}]";
    const std::string silent = "nics: [{subnet: a}, {subnet: b}], forwards: false";
    const std::string off = "nics: [{subnet: a}, {subnet: b}], state: down";
    for (const Row& row : {Row{down, "", "", ""}, Row{off, "", "", ""},
                           Row{down, ping, "routers.r.nics[0].state: set up", "state: down"},
                           Row{silent, ping, "routers.r.forwards: set true", "forwards: false"},
                           Row{off, ping, "routers.r.state: set up", "state: down"}}) {
        CAPTURE(row.router);
        CAPTURE(row.expected);
        const plan::Plan plan =
            plan::read("lab: t\nsubnets: {a: {prefix: 10.0.1.0/24}, b: {prefix: 10.0.2.0/24}}\n"
                       "guests: {desk: {nics: [{subnet: a}]}, pump: {nics: [{subnet: b}]}}\n"
                       "routers: {r: {"
                           + row.router + "}}\n" + row.expected,
                       "t")
                .plan->written();
        const mend::Outcome outcome = mend::search(plan, {});
        std::string lines;
        std::string against;
        for (const mend::Change& change : outcome.changes)
            for (const mend::Decision& decision : change.against)
                against += decision.words;
        for (const plan::Edit& change : outcome.edits())
            lines += plan::to_line(change);
        CHECK(lines == row.change);
        CHECK(against == row.against);
    }
}
