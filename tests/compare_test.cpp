// Two plans, one before and one after a change.
#include "jackal/jackal.h"

#include <doctest/doctest.h>
#include <fmt/format.h>
#include <set>

using namespace jackal;

TEST_CASE("two plans are compared by what they are about, and by who reaches whom") {
    auto plan = [](const std::string& guest, const std::string& prefix, const std::string& router,
                   const std::string& more) {
        return "lab: t\nsubnets: {hall: {prefix: " + prefix
               + "}, tank: {prefix: 10.2.0.0/24}}\nguests: {" + guest
               + ": {nics: [{subnet: hall, address: " + prefix.substr(0, prefix.rfind('.'))
               + ".9}]}, pump: {nics: [{subnet: tank}]}}\nrouters: {r: {nics: [{subnet: hall}, "
                 "{subnet: tank}]"
               + router + "}}\n" + more;
    };
    const std::string pings = "expect: [{ping: [pump, hall]}]\n";
    const std::string old = plan("desk", "10.1.0.0/24", "", pings);
    struct Row {
        std::string text;
        std::vector<std::string> changes; // their kinds
        std::uint64_t lost;
        std::size_t expectations;
        std::size_t come;
    };
    for (const Row& row : std::vector<Row>{
             {old, {}, 0, 0, 0},
             {plan("bench", "10.1.0.0/24", "", pings), {"name", "mac"}, 0, 0, 0},
             {plan("desk", "10.3.0.0/24", "", pings),
              {"subnet", "address", "gateway", "gateway"},
              0,
              0,
              0},
             {plan("desk", "10.1.0.0/24", ", forwards: false", pings), {"machine"}, 2, 1, 1},
             {plan("desk", "10.1.0.0/24", ", state: down", pings), {"machine"}, 2, 1, 1},
             {plan("desk", "10.1.0.0/24", "", ""), {}, 0, 1, 0},
         }) {
        CAPTURE(row.text);
        const lab::Lab before = lab::build(*plan::read(old, "old.yaml").plan);
        const lab::Lab after = lab::build(*plan::read(row.text, "new.yaml").plan);
        const reach::Comparison both =
            reach::compare(routing::settle(before), routing::settle(after));
        CHECK(both.is_same() == (row.text == old));
        std::set<std::string> aspects;
        for (const reach::Change& change : both.changes)
            aspects.emplace(to_string(change.aspect));
        CHECK(aspects == std::set<std::string>(row.changes.begin(), row.changes.end()));
        std::uint64_t lost = 0;
        for (const reach::ReachChange& change : both.reach) {
            lost += change.lost;
            CHECK(change.cause.has_value());
        }
        CHECK(lost == row.lost);
        CHECK(both.expectations.size() == row.expectations);
        CHECK(both.come.size() >= row.come);
        // The other way round what was lost is gained.
        const reach::Comparison back =
            reach::compare(routing::settle(after), routing::settle(before));
        std::uint64_t gained = 0;
        for (const reach::ReachChange& change : back.reach)
            gained += change.gained;
        CHECK(gained == lost);
        CHECK(back.gone.size() == both.come.size());
        std::string review = exports::comparison_markdown(before, after, both);
        CHECK((review.find("Nothing differs.") != review.npos) == both.is_same());
        CHECK((review.find("### Reach") != review.npos) == (lost != 0));
    }
}

// Of plans without a machine, too.
TEST_CASE("what a plan says of itself is text in a review, not markup") {
    auto plan_with = [](const std::string& about) {
        return plan::read("lab: t\nsubnets: {a: {prefix: 10.1.0.0/24, about: '" + about + "'}}\n",
                          "t")
            .plan->written();
    };
    const plan::Plan before = plan_with("plain | words");
    auto review_of = [&](const char* about) {
        const plan::Plan after = plan_with(about);
        const lab::Lab lab = lab::build(before);
        reach::Comparison both = reach::compare(routing::settle(lab), routing::settle(lab));
        both.written = plan::difference(before, after);
        return exports::comparison_markdown(lab, lab, both);
    };
    CHECK(review_of("other words").find("| `subnets.a.about: other words, was plain \\| words` |")
          != std::string::npos);
    CHECK(review_of(std::string(4000, 'w').c_str()).find(std::string(301, 'w'))
          == std::string::npos);
    CHECK(review_of("` <b>[x](y)").find("\\` \\<b\\>\\[x\\]\\(y\\)") != std::string::npos);
}

// More pairs than one table has cells.
TEST_CASE("labs of very many machines are compared, some of them at a time") {
    auto lab_with = [](const std::string& state) {
        std::string subnets = "lab: t\nsubnets:\n";
        std::string arms;
        std::string guests;
        for (int i = 0; i < 22; ++i) {
            subnets += fmt::format("  s{}: {{prefix: 10.1.{}.0/25}}\n", i, i);
            arms += fmt::format("{}{{subnet: s{}{}}}", i == 0 ? "" : ", ", i, i == 3 ? state : "");
            guests += fmt::format("  g{}: {{count: 50, nics: [{{subnet: s{}}}]}}\n", i, i);
        }
        return lab::build(
            *plan::read(subnets + "routers: {r: {nics: [" + arms + "]}}\nguests:\n" + guests, "t")
                 .plan);
    };
    const lab::Lab before = lab_with("");
    const lab::Lab after = lab_with(", state: down");
    const std::vector<reach::ReachChange> changes =
        reach::reach_changes(routing::settle(before), routing::settle(after), net::Family::ipv4);
    CHECK(changes.size() == 42); // there, and back from there
    CHECK(reach::sum_of(changes).lost == 2 * 50 * 21 * 50);
    CHECK(reach::sum_of(changes).gained == 0);
}
