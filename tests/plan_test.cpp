#include "jackal/plan/cause.h"
#include "jackal/plan/edit.h"
#include "jackal/plan/read.h"

#include <doctest/doctest.h>

using namespace jackal;

TEST_CASE("every refusal names its place, the text and what was meant") {
    struct Row {
        const char* text;
        const char* place; // line:column
        const char* says;
    };
    const Row rows[] = {
        {"", "0:0", "empty"},
        {"lab: a\nsubnts: {}", "2:1", "did you mean subnets?"},
        {"lab: a\nsubnets:\n  quay: {prefx: 10.0.0.0/24}", "3:10", "did you mean prefix?"},
        {"lab: a\nsubnets: {quay: {prefix: 10.0.0.1/24}}", "2:26", "did you mean 10.0.0.0/24?"},
        {"lab: a\nsubnets: {quay: {prefix: 10.0.0/24}}", "2:26", "\"10.0.0/24\" is not a prefix"},
        {"lab: a\nsubnets: {quay: {size: 24}}", "2:24", "prefix length"},
        {"lab: a\nsubnets: {quay: {hosts: 0}}", "2:25", "1 to 16000000"},
        {"lab: a\nsubnets: {quay: {hosts: 5, size: /24}}", "2:11", "more than one of"},
        {"lab: a\nsubnets: {quay: {}, quay: {}}", "2:21", "a second time"},
        {"lab: a\nsubnets: {Quay: {}}", "2:11", "host-name label"},
        {"lab: a\nsubnets: {'../etc': {}}", "2:11", "host-name label"},
        {"lab: a\nsubnets: {quay: {}}\nguests: {d: {nics: [{subnet: quai}]}}", "3:30",
         "did you mean quay?"},
        {"lab: a\nguests: {d: {}}\nrouters: {d: {}}", "3:11", "taken already"},
        {"lab: a\nguests: {d: {state: off}}", "2:21", "up or down"},
        {"lab: a\nguests: {d: {forwards: yes}}", "2:24", "true"},
        {"lab: a\nguests: {d: {nics: {subnet: q}}}", "2:20", "must be a list"},
        {"lab: a\nguests: {d: {routes: [{to: default}]}}", "2:23", "needs `to` and `via`"},
        {"lab: a\nlinks: [{between: [a, b]}]", "2:20", "no machine \"a\""},
        {"lab: a\nguests: {d: {}}\nlinks: [{between: [d, d]}]", "3:23", "to itself"},
        {"lab: a\nguests: {d: {}}\nlinks: [{between: [d, d], delay: 4}]", "3:34", "4ms"},
        {"lab: a\nguests: {d: {}}\nexpect: [{ping: [d, d], gets: no-retrn-route}]", "3:31",
         "did you mean no-return-route?"},
        {"lab: a\nguests: {d: {}}\nexpect: [{ping: [d, e]}]", "3:21", "no machine \"e\""},
        {"lab: a\nsites: {n: {}, s: {}}\nsubnets: {q: {}}", "3:11", "needs `site`"},
        {"lab: a\n\tx: 1", "2:1", "not valid YAML"},
        {"lab: a\n---\nlab: b", "2:1", "second document"},
        {"lab: *nowhere", "1:6", "names no anchor"},
        {"guests: {}", "1:1", "needs `lab: NAME`"},
        {"[1, 2]", "1:1", "mapping"},
        {"lab: \xff\xfe", "0:0", "UTF-8"},
    };
    for (const Row& row : rows) {
        CAPTURE(row.text);
        plan::Reading reading = plan::read(row.text, "p");
        REQUIRE_FALSE(reading.plan.has_value());
        bool found = false;
        std::string all;
        for (const plan::Problem& p : reading.problems) {
            std::string place = std::to_string(p.at.line) + ":" + std::to_string(p.at.column);
            all += place + ": " + p.message + "\n";
            found |= place == row.place && p.message.find(row.says) != std::string::npos;
        }
        CAPTURE(all);
        CHECK(found);
    }
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
    CHECK(reading.plan->subnets[0].prefixes.size() == 2);
    CHECK(reading.plan->machine("b")->nics[0].subnet.value == "quay");
}

TEST_CASE("an edit reads as the plan does, and does what it says") {
    plan::Plan plan = *plan::read(R"(lab: e
subnets: {quay: {prefix: 10.0.0.0/24}}
guests:
  desk: {nics: [{subnet: quay, state: down}]}
routers:
  r1: {nics: [{subnet: quay}], routes: [{to: default, via: 10.0.0.9}]}
)",
                                  "p")
                           .plan;
    struct Row {
        plan::Edit edit;
        const char* line;
        std::uint32_t at_line;
    };
    const Row rows[] = {
        {plan::SetNicUp{"desk", 0}, "guests.desk.nics[0].state: set up", 4},
        {plan::SetForwards{"r1", false}, "routers.r1.forwards: set false", 6},
        {plan::AddRoute{"r1", std::string("quay"), std::string("desk")},
         "routers.r1.routes: add {to: quay, via: desk}", 6},
        {plan::RemoveRoute{"r1", 0}, "routers.r1.routes[0]: remove", 6},
        {plan::SetSubnetPrefix{"quay", *net::parse_prefix("10.1.0.0/24")},
         "subnets.quay.prefix: set 10.1.0.0/24", 2},
    };
    for (const Row& row : rows) {
        CHECK(plan::to_line(plan::to_text(row.edit, plan)) == row.line);
        CHECK(plan::to_text(row.edit, plan).at.line == row.at_line);
    }
    plan::Plan changed = plan::apply(plan, {rows[0].edit, rows[1].edit, rows[3].edit});
    CHECK(changed.machine("desk")->nics[0].up);
    CHECK_FALSE(changed.machine("r1")->does_forward());
    CHECK(changed.machine("r1")->routes.empty());
    CHECK_FALSE(plan.machine("desk")->nics[0].up);
    CHECK_THROWS_AS(plan::apply(plan, {plan::SetForwards{"r2", true}}), std::out_of_range);
    CHECK_THROWS_AS(plan::apply(plan, {plan::RemoveRoute{"r1", 5}}), std::out_of_range);
}

TEST_CASE("every cause has a slug of its own that leads back to it") {
    for (const plan::CauseText& text : plan::all_causes()) {
        CHECK(plan::cause_from_slug(text.slug) == text.cause);
        CHECK(plan::is_name(text.slug));
    }
    CHECK_FALSE(plan::cause_from_slug("no-such-cause").has_value());
}
