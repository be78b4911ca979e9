// The documents and the example are held against the program.
#include "files.h"
#include "jackal/jackal.h"
#include "program.h"

#include <algorithm>
#include <doctest/doctest.h>
#include <filesystem>
#include <fstream>
#include <regex>
#include <sstream>

using namespace jackal;

namespace {

std::string file(const std::string& name) {
    const std::string text = text_of(SOURCE_DIR "/" + name);
    REQUIRE_MESSAGE(!text.empty(), name << " is missing or empty");
    return text;
}

// The fenced blocks of a language in a Markdown text.
std::vector<std::string> blocks(const std::string& text, const std::string& language) {
    std::vector<std::string> found;
    std::string fence = "```" + language + "\n";
    for (std::size_t at = text.find(fence); at != text.npos; at = text.find(fence, at)) {
        at += fence.size();
        std::size_t end = text.find("```", at);
        found.push_back(text.substr(at, end - at));
        at = end;
    }
    return found;
}

} // namespace

TEST_CASE("every cause has its section in docs/findings.md, and every section a cause") {
    std::string text = file("docs/findings.md");
    std::vector<std::string> sections;
    std::regex heading("\n### ([a-z-]+)\n");
    for (std::sregex_iterator it(text.begin(), text.end(), heading), end; it != end; ++it)
        sections.push_back((*it)[1]);
    std::vector<std::string> slugs;
    for (const plan::CauseText& cause : plan::all_causes())
        slugs.emplace_back(cause.slug);
    std::ranges::sort(sections);
    std::ranges::sort(slugs);
    CHECK(sections == slugs);
}

TEST_CASE("every plan in the documents is read, and does what it expects") {
    for (const char* name : {"README.md", "docs/plan-file.md"}) {
        std::vector<std::string> plans = blocks(file(name), "yaml");
        CHECK_FALSE(plans.empty());
        for (const std::string& text : plans) {
            CAPTURE(text);
            plan::Reading reading = plan::read(text, name);
            for (const plan::Problem& p : reading.problems)
                FAIL_CHECK(plan::to_string(p.at, name) << ": " << p.message);
            if (!reading.plan)
                continue;
            lab::Lab lab = lab::build(*reading.plan);
            routing::Settled settled = routing::settle(lab);
            for (const reach::Verdict& verdict : reach::verify(settled))
                CHECK_MESSAGE(verdict.passed, verdict.explanation);
        }
    }
}

TEST_CASE("the schema and the tables of keys are made of the reader's own") {
    const std::string again = "; cmake --build --preset release --target documents";
    CHECK_MESSAGE(file("schema/jackal.schema.json") == exports::plan_schema(), again);
    const std::string page = file("docs/plan-file.md");
    CHECK_MESSAGE(page == exports::with_key_tables(page), again);
    for (const std::string& sort : exports::sorts_of_entries())
        CHECK_MESSAGE(has(page, "<!-- keys of " + sort + " -->\n| key |"), sort << " has no table");
    CHECK(exports::key_table("no-such-sort").empty());
    CHECK_THROWS_AS(exports::with_key_tables("<!-- keys of nothing -->\n<!-- end -->\n"),
                    std::invalid_argument);
    CHECK_THROWS_AS(exports::with_key_tables("<!-- keys of nic -->\n"), std::invalid_argument);
}

TEST_CASE("the commands that the README shows exist, and its pictures too") {
    std::string text = file("README.md");
    std::regex command("\\$ jackal ([a-z]+)");
    std::size_t commands = 0;
    for (std::sregex_iterator it(text.begin(), text.end(), command), end; it != end;
         ++it, ++commands)
        CHECK(run(TOOL " " + (*it)[1].str() + " --help").status == 0);
    CHECK(commands >= 8);
    std::regex picture("\\((docs/screenshots/[a-z-]+\\.png)\\)");
    for (std::sregex_iterator it(text.begin(), text.end(), picture), end; it != end; ++it)
        CHECK(std::ifstream(SOURCE_DIR "/" + (*it)[1].str()).good());
}

TEST_CASE("the examples get their answers") {
    Printed printed = run(EXAMPLES "/two_rooms");
    CHECK(printed.status == 0);
    CHECK(has(printed.text, "lamp to bell: no-return-route"));
    CHECK(has(printed.text, "routers.south-r1.routes: add {to: north, via: north-r1}"));
    CHECK(has(printed.text, "after the remedy: 4 of 4 replies"));

    printed = run(EXAMPLES "/hub_and_spokes");
    CHECK(printed.status == 0);
    CHECK(has(printed.text, "before: 8 of 20 pairs of sites"));
    CHECK(has(printed.text, "spoke-1 to spoke-2: no-relay"));
    CHECK(has(printed.text, "after: 20 of 20 pairs of sites"));

    printed = run(EXAMPLES "/offices");
    CHECK(has(printed.text, "office 199: desks 172."));
    CHECK(has(printed.text, "\n0 wishes without room\n"));
    printed = run(EXAMPLES "/reach_table " SOURCE_DIR "/demo/skerry.yaml");
    CHECK(printed.status == 0);
    CHECK(has(printed.text, "quay to ridge: reply"));
    CHECK(has(printed.text, "sonar to buoys: no-common-family"));

    printed = run(EXAMPLES "/weak_cable " SOURCE_DIR "/demo/skerry.yaml");
    CHECK(printed.status == 1);
    CHECK(has(printed.text, "lamp-r1--vessel-r1: must not fail, 178 of 385 pairs"));
    CHECK(has(printed.text, "mast-r1--lamp-r1: may fail, 0 pairs"));

    printed = run(EXAMPLES "/mend_plan " SOURCE_DIR "/demo/mistakes/no-return-route.yaml 2>&1");
    CHECK(printed.status == 0);
    CHECK(has(printed.text, "routers.tank-r1.routes: add {to: hall, via: hall-r1}"));
    CHECK(has(printed.text, "routes: [{to: hall, via: hall-r1}]"));

    printed = run(EXAMPLES "/why " SOURCE_DIR "/demo/mistakes/no-return-route.yaml desk pump");
    CHECK(printed.status == 1);
    CHECK(has(printed.text, "no-return-route at tank-r1"));
    CHECK(has(printed.text, "then it answers"));
    CHECK(run(EXAMPLES "/why " SOURCE_DIR "/demo/skerry.yaml helm ketle 2>&1").status == 2);
}

TEST_CASE("the programs in docs/library.md do what the page says") {
    std::size_t programs = 0;
    for (const auto& program : std::filesystem::directory_iterator(LIBRARY_PROGRAMS)) {
        ++programs;
        CHECK(run(program.path()).status == 0);
    }
    CHECK(programs == blocks(file("docs/library.md"), "cpp").size());
}
