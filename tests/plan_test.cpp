#include "jackal/plan/cause.h"
#include "jackal/plan/edit.h"
#include "jackal/plan/read.h"
#include "jackal/plan/rewrite.h"

#include <algorithm>
#include <doctest/doctest.h>
#include <filesystem>
#include <fmt/format.h>
#include <fstream>
#include <random>
#include <regex>

using namespace jackal;

namespace {

// True if one of the problems is at `place` (LINE:COLUMN) and says `says`; else tells them all.
bool refuses(const plan::Reading& reading, const std::string& place, const std::string& says) {
    std::string all;
    for (const plan::Problem& p : reading.problems) {
        std::string at = std::to_string(p.at.line) + ":" + std::to_string(p.at.column);
        if (at == place && p.message.find(says) != std::string::npos)
            return !reading.plan.has_value();
        all += at + ": " + p.message + "\n";
    }
    MESSAGE("instead: " << all);
    return false;
}

} // namespace

// Each file in tests/refusals ends with the place and the words of its refusal.
TEST_CASE("every refusal names its place, the text and what was meant") {
    int files = 0;
    for (const auto& entry : std::filesystem::directory_iterator(SOURCE_DIR "/tests/refusals")) {
        ++files;
        CAPTURE(entry.path());
        std::ifstream stream(entry.path());
        std::string text(std::istreambuf_iterator<char>(stream), {});
        std::smatch expected;
        REQUIRE(std::regex_search(text, expected,
                                  std::regex("# refused at ([0-9]+:[0-9]+): ([^\n]*)\n")));
        const plan::Reading reading = plan::read_file(entry.path());
        CHECK(refuses(reading, expected[1], expected[2]));
        for (const plan::Problem& problem : reading.problems) {
            CAPTURE(problem.message);
            CHECK(problem.at.line != 0); // nothing follows from what was refused already
        }
    }
    CHECK(files >= 40);
}

TEST_CASE("texts that are no YAML are refused at their place") {
    CHECK(refuses(plan::read("", "p"), "0:0", "empty"));
    CHECK(
        refuses(plan::read("lab: a\nsubnets: {quay: {}, quay: {}}", "p"), "2:21", "a second time"));
    CHECK(refuses(plan::read("lab: a\n\tx: 1", "p"), "2:1", "not valid YAML"));
    CHECK(refuses(plan::read("lab: a\n---\nlab: b", "p"), "2:1", "second document"));
    CHECK(refuses(plan::read("lab: *nowhere", "p"), "1:6", "names no anchor"));
    CHECK(refuses(plan::read("lab: \xff\xfe", "p"), "1:6", "UTF-8"));
    CHECK(refuses(plan::read("lab: é\nsubnets:\n\tq: {}\n", "p"), "3:1",
                  "a tab, where YAML wants spaces"));
    CHECK(refuses(plan::read(std::string("lab: a\0b", 8), "p"), "1:7", "UTF-8"));
    CHECK(refuses(plan::read("lab: a", "p", {{"crew", "3"}}), "0:0", "no parameter \"crew\""));
}

TEST_CASE("parameters, templates, likes and counts") {
    const char* text = R"(lab: t
params: {crew: 20, net: 7, price: "$5"}
subnets:
  quay: {prefix: "10.${net}.0.0/24", about: "costs $5, or ${crew}"}
  mess: {hosts: $crew}
guests:
  desk:  {template: true, forwards: true, nics: [{subnet: quay}]}
  chart: {like: desk, count: 3, about: for charts}
  lamp:  {like: chart, forwards: false, nics: [{subnet: mess}]}
routers:
  r1: {like: desk, nics: [{subnet: quay}, {subnet: mess}]}
)";
    plan::Plan plan = plan::read(text, "t", {{"crew", "100"}}).plan->written();
    std::string names;
    for (const plan::Machine& m : plan.machines)
        names += m.name + " ";
    CHECK(names == "chart-1 chart-2 chart-3 lamp r1 ");
    CHECK(plan.machine("chart-2")->entry_name() == "chart");
    CHECK(plan.machine("chart-2")->forwards == true);
    CHECK(plan.machine("lamp")->forwards == false);
    CHECK(*plan.machine("lamp")->about == "for charts");
    CHECK(plan.machine("lamp")->nics[0].subnet.value == "mess");
    CHECK(plan.machine("r1")->nics.size() == 2);
    CHECK(net::to_string(plan.subnet("quay")->prefixes[0].value) == "10.7.0.0/24");
    CHECK(*plan.subnet("quay")->about == "costs $5, or 100");
    CHECK(plan.subnet("mess")->hosts->value == 100);
    CHECK(plan::to_string(plan::set_nic_up(plan, "chart-2", 0).changes.front().place)
          == "guests.chart-2 (written out of chart).nics[0].state");
}

TEST_CASE("all problems of a plan are reported, in the order of their lines") {
    plan::Reading reading = plan::read(R"(lab: many
subnets:
  quay: {prefix: nonsense}
guests:
  desk: {nics: [{subnet: quey}], colour: red}
  lamp: {routes: [{to: default, via: nobody}]}
)",
                                       "p");
    std::vector<std::uint32_t> lines;
    for (const plan::Problem& p : reading.problems)
        lines.push_back(p.at.line);
    CHECK(lines == std::vector<std::uint32_t>{3, 5, 5, 6});
}

TEST_CASE("texts made to exhaust the reader are refused") {
    std::string deep = "lab: a\nabout: " + std::string(100'000, '[');
    CHECK_FALSE(plan::read(deep, "deep").plan.has_value());

    std::string bomb = "lab: a\nx0: &a0 [y, y, y, y, y, y, y, y, y, y]\n";
    for (int i = 1; i < 12; ++i) {
        std::string n = std::to_string(i);
        std::string before = "*a" + std::to_string(i - 1);
        bomb += "x" + n + ": &a" + n + " [" + before;
        for (int k = 1; k < 10; ++k)
            bomb += ", " + before;
        bomb += "]\n";
    }
    plan::Reading reading = plan::read(bomb, "bomb");
    REQUIRE(reading.problems.size() == 1);
    CHECK(reading.problems[0].message.find("aliases") != std::string::npos);

    std::string many = "lab: a\nguests:\n";
    for (int i = 0; i < 20'000; ++i)
        many += "  m" + std::to_string(i) + ": {nics: [{subnet: s" + std::to_string(i) + "}]}\n";
    CHECK(plan::read(many, "many").problems.size() == plan::Reading::most_problems);
}

TEST_CASE("JSON is a plan too, and aliases stand for what they name") {
    const char* text =
        R"({"lab": "j", "subnets": {"quay": {"prefix": ["10.0.0.0/24", "fd00::/64"]}},
        "guests": {"a": {"nics": &n [{"subnet": "quay"}]}, "b": {"nics": *n}}})";
    plan::Reading reading = plan::read(text, "j");
    REQUIRE(reading.plan.has_value());
    CHECK(reading.plan->entries().subnets[0].prefixes.size() == 2);
    CHECK(reading.plan->entries().machine("b")->nics[0].subnet.value == "quay");
}

TEST_CASE("null is nothing, in each of its forms") {
    for (const char* nothing : {"", "null", "Null", "NULL", "~"}) {
        std::string text =
            std::string("lab: x\nguests:\n  a: ") + nothing + "\nfilters: " + nothing + "\n";
        CAPTURE(text);
        plan::Reading reading = plan::read(text, "t");
        REQUIRE(reading.plan.has_value());
        CHECK(reading.plan->entries().machines.size() == 1);
    }
}

TEST_CASE("an edit reads as the plan does, and does what it says") {
    plan::Plan plan = plan::read(R"(lab: e
subnets: {quay: {prefix: 10.0.0.0/24}}
guests:
  desk: {nics: [{subnet: quay, state: down}]}
routers:
  r1: {nics: [{subnet: quay}], routes: [{to: default, via: 10.0.0.9}]}
)",
                                 "p")
                          .plan->written();
    struct Row {
        plan::Edit edit;
        const char* line;
        std::uint32_t at_line;
    };
    const Row rows[] = {
        {plan::set_nic_up(plan, "desk", 0), "guests.desk.nics[0].state: set up", 4},
        {plan::set_forwards(plan, "r1", false), "routers.r1.forwards: set false", 6},
        {plan::add_route(plan, "r1", std::string("quay"), std::string("desk")),
         "routers.r1.routes: add {to: quay, via: desk}", 6},
        {plan::remove_route(plan, "r1", 0), "routers.r1.routes[0]: remove", 6},
        {plan::set_subnet_prefix(plan, "quay", *net::parse_prefix("10.1.0.0/24")),
         "subnets.quay.prefix: set 10.1.0.0/24 (was 10.0.0.0/24)", 2},
        {plan::set_route_via(plan, "r1", 0, std::string("desk")),
         "routers.r1.routes[0].via: set desk (was 10.0.0.9)", 6},
    };
    for (const Row& row : rows) {
        CHECK(plan::to_line(row.edit) == row.line);
        CHECK(row.edit.changes.front().at.line == row.at_line);
    }
    plan::Plan changed = plan::apply(plan, {rows[0].edit, rows[1].edit, rows[3].edit}).plan.value();
    CHECK(changed.machine("desk")->nics[0].up);
    CHECK_FALSE(changed.machine("r1")->does_forward());
    CHECK(changed.machine("r1")->routes.empty());
    CHECK_FALSE(plan.machine("desk")->nics[0].up);
    CHECK(!plan::apply(plan, {plan::set_forwards(plan, "r2", true)}).plan.has_value());
    CHECK(!plan::apply(plan, {plan::remove_route(plan, "r1", 5)}).plan.has_value());
}

TEST_CASE("every cause has a slug of its own that leads back to it") {
    for (const plan::CauseText& text : plan::all_causes()) {
        CHECK(plan::cause_from_slug(text.slug) == text.cause);
        CHECK(plan::is_name(text.slug));
    }
    CHECK_FALSE(plan::cause_from_slug("no-such-cause").has_value());
}

TEST_CASE("a section is replaced, added or taken away, and all else stays byte for byte") {
    struct Case {
        const char* before;
        const char* lines;
        const char* after; // null: refused
    };
    for (const Case& c : {
             Case{"lab: a\n", "pins:\n  x: 1\n", "lab: a\n\npins:\n  x: 1\n"},
             Case{"lab: a", "pins:\n  x: 1\n", "lab: a\n\npins:\n  x: 1\n"},
             Case{"lab: a\n# end\n", "pins: {}\n", "lab: a\n# end\n\npins: {}\n"},
             Case{"lab: a\npins:\n  y: 2\n", "pins:\n  x: 1\n", "lab: a\npins:\n  x: 1\n"},
             Case{"pins:\n  y: 2\nlab: a # b\n", "pins:\n  x: 1\n", "pins:\n  x: 1\nlab: a # b\n"},
             Case{"lab: a\npins:\n  y: 2\n", "", "lab: a\n"},
             Case{"lab: a\n", "", "lab: a\n"},
             Case{"lab: a\npins:\n  y: 2 # why\n", "pins: {}\n", nullptr},
             Case{"{lab: a}\n", "pins: {}\n", nullptr},
         }) {
        CAPTURE(c.before);
        plan::Rewriting result = plan::replace_section(c.before, "pins", c.lines);
        CHECK(result.text.has_value() == (c.after != nullptr));
        CHECK(result.problems.empty() == (c.after != nullptr));
        if (c.after != nullptr && result.text)
            CHECK(*result.text == c.after);
    }
}

TEST_CASE("values are changed where they stand, quotes and comments around them stay") {
    struct Case {
        const char* before;
        const char* after; // null: refused
    };
    auto change = [](const plan::ValuePlace& place) -> std::optional<std::string> {
        return place.value == "old" ? std::optional<std::string>("new") : std::nullopt;
    };
    for (const Case& c : {
             Case{"a: old # old\n", "a: new # old\n"},
             Case{"a: 'old'\nb: \"old\"\n", "a: 'new'\nb: \"new\"\n"},
             Case{"a: [old, {b: old}]\r\nold: x\r\n", "a: [new, {b: new}]\r\nold: x\r\n"},
             Case{"a:\n  - old\n  - older\n", "a:\n  - new\n  - older\n"},
             Case{"a: keep", "a: keep"},
             Case{"a: \"o\\x6cd\"\n", nullptr},
             Case{"a: &x old\n", nullptr},
             Case{"a: !!str old\n", nullptr},
         }) {
        CAPTURE(c.before);
        plan::Rewriting result = plan::replace_values(c.before, change);
        CHECK(result.text.has_value() == (c.after != nullptr));
        if (c.after != nullptr && result.text)
            CHECK(*result.text == c.after);
    }
    std::string paths;
    plan::replace_values("l: [{p: 1}, 2]\nm: {n: 3}\n", [&](const plan::ValuePlace& place) {
        for (std::string_view step : place.path)
            paths += "/" + std::string(step);
        paths += fmt::format(" {}:{} ", place.at.line, place.at.column);
        return std::optional<std::string>();
    });
    CHECK(paths == "/l/0/p 1:9 /l/1 1:13 /m/n 2:8 ");
}

TEST_CASE("the nearest word is the one with the fewest letters wrong, missing, added or swapped") {
    // The textbook's table, letter by letter.
    auto distance = [](const std::string& a, const std::string& b) {
        std::vector<std::vector<std::size_t>> d(a.size() + 1,
                                                std::vector<std::size_t>(b.size() + 1));
        for (std::size_t i = 0; i <= a.size(); ++i)
            for (std::size_t j = 0; j <= b.size(); ++j) {
                if (i == 0 || j == 0) {
                    d[i][j] = i + j;
                    continue;
                }
                d[i][j] = std::min({d[i - 1][j] + 1, d[i][j - 1] + 1,
                                    d[i - 1][j - 1] + (a[i - 1] == b[j - 1] ? 0 : 1)});
                if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1])
                    d[i][j] = std::min(d[i][j], d[i - 2][j - 2] + 1);
            }
        return d[a.size()][b.size()];
    };
    std::mt19937_64 random(7);
    auto word = [&](std::size_t longest) {
        std::string letters(1 + random() % longest, 'a');
        for (char& c : letters)
            c = static_cast<char>('a' + random() % 3);
        return letters;
    };
    for (int round = 0; round < 2000; ++round) {
        std::string asked = word(round % 50 == 0 ? 64 : 12);
        std::vector<std::string> words;
        for (int i = 0; i < 8; ++i)
            words.push_back(word(14));
        std::string best;
        std::size_t least = std::max<std::size_t>(1, asked.size() / 3) + 1;
        for (const std::string& other : words)
            if (distance(asked, other) < least) {
                best = other;
                least = distance(asked, other);
            }
        CAPTURE(asked);
        CHECK(plan::nearest_word(asked, {words.begin(), words.end()}) == best);
    }
    CHECK(plan::nearest_word("", {"a"}).empty());
    CHECK(plan::nearest_word(std::string(65, 'a'), {std::string_view("a")}).empty());
}

TEST_CASE("what is printable stays, and everything else is shown as bytes") {
    CHECK(plan::printable("quay-r1 é 軍 😀") == "quay-r1 é 軍 😀");
    CHECK(plan::printable("a\x1b[0m\n\t\x7f") == "a\\x1b[0m\\x0a\\x09\\x7f");
    CHECK(plan::printable("\xc2\x9b\xe2\x80\xa8\xe2\x80\xae")
          == "\\xc2\\x9b\\xe2\\x80\\xa8\\xe2\\x80\\xae");     // C1, line, direction
    CHECK(plan::printable("\xc0\xaf\xed\xa0\x80\xff\xe2\x82") // overlong, surrogate,
          == "\\xc0\\xaf\\xed\\xa0\\x80\\xff\\xe2\\x82");     // no lead, cut short
}
