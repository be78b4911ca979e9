// What is proposed for random labs full of mistakes: every change can be made, is one, leaves a
// plan that reads, and mends what it was proposed for; and all of them can be made together.
#include "../sanitized.h"
#include "jackal/jackal.h"
#include "random_lab.h"

#include <algorithm>
#include <doctest/doctest.h>
#include <functional>
#include <map>

using namespace jackal;

namespace {

std::string words(const std::vector<plan::Edit>& edits) {
    std::string all;
    for (const plan::Edit& text : edits)
        all += "    " + plan::to_line(text) + "\n";
    return all;
}

bool is_there(const std::vector<lab::Finding>& findings, const lab::Finding& finding) {
    return std::ranges::any_of(findings, [&](const lab::Finding& other) {
        return other.cause == finding.cause && other.subject == finding.subject
               && other.message == finding.message && other.at == finding.at;
    });
}

// What is taken out by its position moves others, and a whole entry takes what is in it, so two of
// those cannot be made as they stand.
bool takes_out(const plan::Edit& edit) {
    using plan::Move;
    return edit.move == Move::remove_route || edit.move == Move::remove_filter_rule
           || edit.move == Move::remove_translation || edit.move == Move::set_nic_automatic;
}

// The first pair of machines that got its reply before and gets none after.
std::string takes_replies(const plan::Plan& plan, const routing::Settled& before,
                          const routing::Settled& after) {
    auto replies = [](const routing::Settled& settled, const std::string& from,
                      const std::string& to) {
        auto asked = probe::question(settled.lab(), from, to);
        return asked && probe::exchange(settled, *asked).replied();
    };
    for (const plan::Machine& from : plan.machines)
        for (const plan::Machine& to : plan.machines)
            if (&from != &to && replies(before, from.name, to.name)
                && !replies(after, from.name, to.name))
                return from.name + " " + to.name;
    return "";
}

void try_all(const plan::Plan& plan, std::map<bool, std::size_t>& tried) {
    const lab::Lab lab = lab::build(plan);
    const routing::Settled settled = routing::settle(lab);
    reach::Check check = reach::check(settled);
    mend::try_remedies(plan, lab, check);
    std::vector<plan::Edit> all;
    for (const lab::Finding& finding : check.findings) {
        const std::vector<plan::Edit>& edits = finding.remedy.edits;
        if (edits.empty())
            continue;
        CAPTURE(std::string(plan::slug(finding.cause)));
        CAPTURE(finding.message);
        CAPTURE(words(edits));
        for (const plan::Edit& edit : edits)
            for (const plan::PlaceChange& change : edit.changes)
                CHECK(change.before != (change.value.empty() ? "nothing" : change.value));
        CHECK(finding.remedy.proof != lab::Remedy::Proof::untried);
        bool mends = finding.remedy.proof == lab::Remedy::Proof::mends;
        ++tried[mends];
        plan::Plan mended = plan::apply(plan, edits).plan.value();
        CHECK(plan::problems(mended).empty());
        if (mends && plan::problems(mended).empty()) {
            const lab::Lab again = lab::build(mended);
            const routing::Settled after = routing::settle(again);
            CHECK_FALSE(is_there(reach::check(after).findings, finding));
            CHECK(takes_replies(plan, settled, after) == "");
        }
        if (std::ranges::none_of(edits, takes_out))
            all.insert(all.end(), edits.begin(), edits.end());
    }
    const plan::Applied made = plan::apply(plan, all);
    CHECK(made.problem == "");
    const plan::Plan mended = made.plan.value();
    CHECK(plan::problems(mended).empty());
    if (auto problems = plan::problems(mended); !problems.empty())
        MESSAGE(problems.front().message);
}

void try_labs(const char* kind, std::uint64_t first, int count, std::map<bool, std::size_t>& tried,
              const std::function<judge::Json(std::uint64_t)>& make) {
    for (std::uint64_t seed = first; seed < first + static_cast<std::uint64_t>(count); ++seed) {
        CAPTURE(kind);
        CAPTURE(seed);
        plan::Reading reading = plan::read(make(seed).dump(), "lab");
        REQUIRE(reading.plan.has_value());
        try_all(reading.plan->written(), tried);
    }
}

} // namespace

TEST_CASE("every remedy of a random lab can be made, and mends") {
    constexpr int labs = sanitized ? 2 : 30;
    std::map<bool, std::size_t> tried; // by whether they mend
    try_labs("lab", 1, labs, tried, [](std::uint64_t seed) { return judge::random_lab(seed); });
    try_labs("protocols", 1000, labs, tried,
             [](std::uint64_t seed) { return judge::random_lab(seed, true); });
    try_labs("sites", 2000, labs, tried, judge::random_sites);
    MESSAGE(tried[true] << " remedies mend, " << tried[false] << " are a first step");
    CHECK(tried[true] > 4 * tried[false]);
}
