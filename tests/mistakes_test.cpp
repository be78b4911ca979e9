// Every plan in demo/mistakes is named after the mistake in it. The mistake must be recognised,
// by a finding or as the cause of the plan's ping, and its remedy must mend it.
#include "files.h"
#include "jackal/lab/build.h"
#include "jackal/mend/search.h"
#include "jackal/plan/read.h"
#include "jackal/plan/rewrite.h"
#include "jackal/reach/check.h"
#include "jackal/reach/verify.h"
#include "sanitized.h"

#include <algorithm>
#include <array>
#include <doctest/doctest.h>
#include <filesystem>
#include <fmt/format.h>

using namespace jackal;

namespace {

const lab::Finding* finding(const reach::Check& check, plan::Cause cause) {
    auto found = std::ranges::find(check.findings, cause, &lab::Finding::cause);
    return found == check.findings.end() ? nullptr : &*found;
}

reach::Check check_of(const lab::Lab& lab) {
    return reach::check(routing::settle(lab));
}

std::vector<std::filesystem::path> mistaken_plans() {
    std::vector<std::filesystem::path> files;
    for (const auto& entry : std::filesystem::directory_iterator(SOURCE_DIR "/demo/mistakes"))
        files.push_back(entry.path());
    std::ranges::sort(files);
    REQUIRE(files.size() >= 20);
    return files;
}

// Causes that only a question for a service or to a host outside brings out, or that check calls
// otherwise: a machine without a route is where replies are lost, too.
bool only_asked(plan::Cause cause) {
    constexpr std::array causes = {plan::Cause::no_route,
                                   plan::Cause::nothing_listens,
                                   plan::Cause::answer_not_turned_back,
                                   plan::Cause::behind_translation,
                                   plan::Cause::no_name_server,
                                   plan::Cause::name_server_unreachable};
    return std::ranges::find(causes, cause) != causes.end();
}

} // namespace

TEST_CASE("every mistake is recognised, and its remedy mends it") {
    for (const auto& file : mistaken_plans()) {
        std::string slug = file.stem();
        CAPTURE(slug);
        auto cause = plan::cause_from_slug(slug);
        REQUIRE(cause.has_value());
        plan::Reading reading = plan::read_file(file);
        REQUIRE(reading.plan.has_value());
        const plan::Plan plan = reading.plan->written();
        lab::Lab lab = lab::build(plan);
        plan::Plan unexpected = plan; // so that check tells what the plan knows of itself
        unexpected.expectations.clear();

        reach::Check check = check_of(lab::build(unexpected));
        const lab::Finding* found = finding(check, *cause);
        CHECK((found != nullptr) != only_asked(*cause));
        if (found != nullptr) {
            CHECK(found->at.line > 1);
            CHECK_FALSE(lab::to_lines(found->remedy).empty());
        }
        if (found != nullptr && !found->remedy.edits.empty()) {
            lab::Lab mended = lab::build(plan::apply(unexpected, found->remedy.edits).plan.value());
            const reach::Check again = check_of(mended);
            CHECK(std::ranges::none_of(again.findings, [&](const lab::Finding& other) {
                return other.cause == found->cause && other.message == found->message;
            }));
        }

        REQUIRE_FALSE(plan.expectations.empty());
        routing::Settled settled = routing::settle(lab);
        for (const reach::Verdict& verdict : reach::verify(settled)) {
            CAPTURE(verdict.explanation);
            if (!verdict.passed)
                CHECK((verdict.answer && verdict.answer->diagnosis->cause == *cause));
        }
    }
}

TEST_CASE("every mistake is mended in its file, whose comments stay") {
    std::size_t number = 0;
    for (const auto& file : mistaken_plans()) {
        if (sanitized && number++ % 5 != 0)
            continue;
        std::string slug = file.stem();
        CAPTURE(slug);
        const std::string text = text_of(file);
        const plan::Plan plan = plan::read(text, slug).plan->written();
        mend::Outcome outcome = mend::search(plan, {});
        const bool only_warned = outcome.proof == mend::Outcome::Proof::nothing_to_do;
        if (only_warned)
            outcome = mend::search(plan, {.warnings = true});
        for (const mend::Obstacle& left : outcome.left)
            FAIL_CHECK(left.message);
        const bool is_stated = slug == "behind-translation"; // by the plan itself
        CHECK(outcome.changes.empty() == is_stated);
        plan::Writing mended = plan::write(text, outcome.edits());
        for (const plan::Problem& problem : mended.problems)
            FAIL_CHECK(problem.message);
        REQUIRE(mended.text.has_value());
        CHECK(std::ranges::count(*mended.text, '#') == std::ranges::count(text, '#'));
        const lab::Lab lab = lab::build(*plan::read(*mended.text, slug).plan);
        const reach::Check check = check_of(lab);
        CHECK_FALSE(check.has_errors());
        CHECK(check.expectations_met() == check.verdicts.size());
        if (only_warned)
            CHECK(finding(check, *plan::cause_from_slug(slug)) == nullptr);
        const plan::Plan again = plan::read(*mended.text, slug).plan->written();
        CHECK(mend::search(again, {}).proof == mend::Outcome::Proof::nothing_to_do);
    }
}

TEST_CASE("a router beside others that speak a protocol joins it, where that takes fewer changes") {
    for (const std::string protocol : {"ospf: {areas: {0: all}}", "rip: {nics: all}"}) {
        std::string text = "lab: t\nsubnets:\n  mid: {prefix: 10.0.0.0/24, gateway: none}\n";
        std::string guests = "guests:\n";
        for (int i = 1; i < 5; ++i) {
            text += fmt::format("  s{0}: {{prefix: 10.0.{0}.0/24}}\n", i);
            guests += fmt::format("  g{0}: {{nics: [{{subnet: s{0}}}]}}\n", i);
        }
        text += guests + "routers:\n  r1: {nics: [{subnet: mid}, {subnet: s1}], " + protocol
                + "}\n  r2: {nics: [{subnet: mid}, {subnet: s2}], " + protocol
                + "}\n  r3: {nics: [{subnet: mid}, {subnet: s3}, {subnet: s4}]}\nexpect:\n";
        for (const char* pair : {"s1, s3", "s1, s4", "s2, s3", "s2, s4"})
            text += fmt::format("  - {{ping: [{}]}}\n", pair);
        const plan::Plan plan = plan::read(text, "t").plan->written();
        const mend::Outcome outcome = mend::search(plan, {});
        CHECK(outcome.is_healthy());
        REQUIRE(outcome.changes.size() == 1);
        const plan::Writing mended = plan::write(text, outcome.edits());
        REQUIRE(mended.text.has_value());
        CHECK(mended.text->find("{subnet: s4}], " + protocol + "}") != std::string::npos);
    }
}

TEST_CASE("every cause that a plan can have has a plan that shows it") {
    using plan::Cause;
    for (const plan::CauseText& text : plan::all_causes()) {
        bool of_the_question =
            text.cause == Cause::ttl_too_small || text.cause == Cause::packets_lost
            || text.cause == Cause::address_unclaimed || text.cause == Cause::no_common_family
            || text.cause == Cause::older_flow;
        std::string file = SOURCE_DIR "/demo/mistakes/" + std::string(text.slug) + ".yaml";
        CAPTURE(text.slug);
        CHECK(std::filesystem::exists(file) != of_the_question);
    }
}
