// What the tables of fields promise, of random plans and of one that has every key.
#include "../files.h"
#include "jackal/jackal.h"
#include "random_lab.h"
#include "seeds.h"

#include <algorithm>
#include <doctest/doctest.h>
#include <filesystem>
#include <fmt/format.h>
#include <fmt/ranges.h>

using namespace jackal;

namespace {

plan::Plan plan_of(const std::string& text) {
    plan::Reading reading = plan::read(text, "t");
    for (const plan::Problem& problem : reading.problems)
        MESSAGE(plan::to_string(problem.at, "t") << ": " << problem.message);
    REQUIRE_MESSAGE(reading.plan.has_value(), text);
    return reading.plan->written();
}

void holds_both_ways(const plan::Plan& plan) {
    const std::string text = plan::text_of(plan);
    CAPTURE(text);
    plan::Plan again = plan_of(text);
    for (const plan::PlaceChange& change : plan::difference(plan, again))
        FAIL_CHECK(plan::to_line(change));
    CHECK(again == plan);
}

// Which of two sections that fill one list comes first is no difference.
bool has_same_order(const plan::Plan& one, const plan::Plan& other) {
    auto first = [](const plan::Plan& plan) {
        return std::pair(!plan.machines.empty()
                             && plan.machines.front().kind == plan::MachineKind::router,
                         !plan.links.empty() && plan.links.front().tunnel);
    };
    return first(one) == first(other);
}

void holds_as_changes(const plan::Plan& before, const plan::Plan& after) {
    const auto changes = plan::difference(before, after);
    CAPTURE(plan::text_of(before));
    CAPTURE(plan::text_of(after));
    const plan::Applied made = plan::apply(before, changes);
    CHECK(made.problem == "");
    REQUIRE(made.plan.has_value());
    for (const plan::PlaceChange& change : plan::difference(*made.plan, after))
        FAIL_CHECK(plan::to_line(change));
    if (has_same_order(before, after))
        CHECK(*made.plan == after);
}

// Values of every form that some key takes.
const std::vector<std::string> words = {
    "true",
    "false",
    "up",
    "down",
    "allow",
    "deny",
    "accept",
    "refuse",
    "any",
    "tcp",
    "udp",
    "icmp",
    "nat",
    "host",
    "none",
    "last",
    "automatic",
    "manual",
    "lend",
    "borrow",
    "in",
    "out",
    "1",
    "2",
    "3",
    "8",
    "40",
    "1000",
    "9s",
    "7ms",
    "3%",
    "/28",
    "6",
    "namespace",
    "always",
    "no-reply",
    "closed",
    "broadcast",
    "through",
    "static",
    "tcp/99",
    "2G",
    "3d",
    "kiosk",
    "desk",
    "hall",
    "north",
    "south",
    "p3",
    "wire7",
    "64512:77",
    "10.1.0.33",
    "10.1.0.0/25",
    "10.1.4.0/24",
    "198.51.100.77",
    "fd01::33",
    "+31",
    "connected",
    "rip",
    "64600",
    "tank",
    "deck",
    "bow",
    "west",
    "more",
    "other",
    "loud",
    "bench",
    "post",
    "eth0",
    "eth1",
    "eth2",
    "hall-r1",
    "hall-r2",
    "east",
    "hall-sw/p5",
    "hall-sw/p6",
    "no-route",
    "machine",
    "/60",
    "fd01:0:0:9::/64",
    "10.1.0.0/24",
    "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIFc5y0Xn0b7YdVjYxYxWkq1yGk8u8w0J3m2cV8r5s4bT other",
    "point-to-point",
    "dhcp",
    "auto",
    "02:00:5e:10:00:77",
    "root=/dev/vda",
    "files/other",
    "any-two",
};

// The form of a word: values of one form are tried in the place of each other first.
std::string form(std::string_view word) {
    std::string form;
    for (char c : word) {
        const bool is_digit = c >= '0' && c <= '9';
        const bool is_letter = (c >= 'a' && c <= 'z') || c == '-';
        const char kind = is_digit ? '0' : is_letter ? 'a' : c;
        const bool is_in_name = !form.empty() && form.back() == 'a' && kind == '0';
        if (!is_in_name && (form.empty() || form.back() != kind))
            form += kind;
    }
    return form;
}

std::vector<std::string> words_like(std::string_view value) {
    std::vector<std::string> sorted = words;
    std::ranges::stable_partition(
        sorted, [&](const std::string& word) { return form(word) == form(value); });
    return sorted;
}

} // namespace

TEST_CASE("a plan that is written as a text reads as it was") {
    for (const char* folder : {"/demo", "/demo/mistakes", "/tests/advice", "/tests/judge/speakers",
                               "/tests/judge/surprises"})
        for (const auto& file :
             std::filesystem::directory_iterator(SOURCE_DIR + std::string(folder)))
            if (file.path().extension() == ".yaml") {
                CAPTURE(file.path().string());
                holds_both_ways(plan_of(::text_of(file.path())));
            }
    const std::string most = ::text_of(SOURCE_DIR "/tests/all-keys.yaml");
    holds_both_ways(plan_of(most));
    for (std::uint64_t seed : judge::seeds(150, 20)) {
        CAPTURE(seed);
        holds_both_ways(plan_of(judge::random_any(seed).dump()));
    }
}

TEST_CASE("what two plans differ in makes the one of the other") {
    std::vector<plan::Plan> plans;
    for (std::uint64_t seed : judge::seeds(60, 10))
        plans.push_back(plan_of(judge::random_any(seed).dump()));
    plans.push_back(plan_of(::text_of(SOURCE_DIR "/tests/all-keys.yaml")));
    plans.push_back(plan_of(::text_of(SOURCE_DIR "/demo/skerry.yaml")));
    for (std::size_t i = 0; i < plans.size(); ++i)
        for (std::size_t step : {1, 7}) {
            const std::size_t other = (i + step) % plans.size();
            CAPTURE(i);
            CAPTURE(other);
            holds_as_changes(plans[i], plans[other]);
        }
}

TEST_CASE("a change that does not apply says why") {
    const plan::Plan plan = plan_of(::text_of(SOURCE_DIR "/demo/skerry.yaml"));
    for (auto [change, why] : std::initializer_list<std::pair<const char*, const char*>>{
             {"guests.nobody.mtu=1400", "guests.nobody.mtu: there is no \"nobody\""},
             {"routers.quay-r1.nics[9]-",
              "routers.quay-r1.nics[9]: there is no number 9 in the list"},
             {"routers.quay-r1.tea=hot", "routers.quay-r1.tea: \"tea\" is no key of a machine"},
             {"routers.quay-r1.nics[0].mtu=7",
              "routers.quay-r1.nics[0].mtu: \"7\" is not a whole number from 68 to 65535"},
             {"subnets.quay+={hosts: 9}", "subnets.quay: there is another \"quay\" already"},
         }) {
        const plan::Applied made = plan::apply(plan, {*plan::parse_change(change)});
        CHECK(made.problem == why);
        CHECK(!made.plan.has_value());
    }
    // What is there already, or is not there, is no reason.
    const auto twice = *plan::parse_change("routers.quay-r1.listens+=tcp/9999");
    const auto once = plan::apply(plan, {twice}).plan;
    CHECK(once != plan);
    CHECK(plan::apply(plan, {twice, twice}).plan == once);
    CHECK(plan::apply(plan, {*plan::parse_change("routers.quay-r1.listens-=tcp/9999")}).plan
          == plan);
}

// Thousands of readings, each slow under sanitizers.
TEST_CASE("each value that is changed is a difference, at its place" * doctest::skip(sanitized)) {
    const std::string text = ::text_of(SOURCE_DIR "/tests/all-keys.yaml");
    const plan::Plan plan = plan_of(text);
    CHECK(plan::difference(plan, plan).empty());
    std::vector<std::string> values;
    (void)plan::replace_values(text, [&](const plan::ValuePlace& value) {
        values.emplace_back(value.value);
        return std::nullopt;
    });
    REQUIRE(values.size() > 270);
    std::string unchanged;
    std::size_t changed = 0;
    for (std::size_t i = 0; i < values.size(); ++i) {
        std::string place;
        bool is_changed = false;
        for (const std::string& word : words_like(values[i])) {
            if (is_changed)
                break;
            std::size_t at = 0;
            const plan::Rewriting other =
                plan::replace_values(text, [&](const plan::ValuePlace& value) {
                    const bool is_it = at++ == i;
                    if (is_it)
                        place = fmt::format("{}", fmt::join(value.path, "."));
                    return is_it ? std::optional(word) : std::nullopt;
                });
            REQUIRE(other.text.has_value());
            const plan::Reading reading = plan::read(*other.text, "t");
            if (!reading.plan || reading.plan->written() == plan)
                continue;
            is_changed = true;
            CAPTURE(place);
            CAPTURE(word);
            const auto found = plan::difference(plan, reading.plan->written());
            REQUIRE(!found.empty());
            holds_both_ways(reading.plan->written());
            holds_as_changes(plan, reading.plan->written());
            holds_as_changes(reading.plan->written(), plan);
            const std::string section = place.substr(0, place.find('.'));
            if (section != "params")
                CHECK(found.front().place.steps.front().word == section);
            CHECK(plan::difference(reading.plan->written(), plan).size() == found.size());
        }
        changed += is_changed;
        if (!is_changed)
            unchanged += place + " ";
    }
    CAPTURE(unchanged);
    CHECK(changed * 10 > values.size() * 9);
}
