// Plan, live lab, facts, adopted plan: the same reach.
#include "../files.h"
#include "../lab_of.h"
#include "../program.h"
#include "jackal/jackal.h"
#include "live_lab.h"
#include "random_lab.h"

#include <algorithm>
#include <doctest/doctest.h>
#include <filesystem>
#include <fmt/format.h>
#include <set>
#include <unistd.h>

using namespace jackal;
namespace fs = std::filesystem;

namespace {

// Nothing in it that a kernel does not tell of, or that nobody could tell from what it does:
// switches, what is there twice, NICs that hear nobody.
bool can_be_adopted(const lab::Lab& lab) {
    std::set<net::Prefix> prefixes;
    for (const lab::Segment& segment : lab.segments)
        for (net::Family family : net::both_families)
            if (segment.prefix[family] && !segment.loopback
                && !prefixes.insert(*segment.prefix[family]).second)
                return false;
    auto is_on_its_segment = [&](const lab::InterfaceAddress& row) {
        return row.origin != lab::AddressOrigin::link_local
               && lab.owners_of(row.address).size() == 1
               && (lab.nics[row.nic].is_loopback()
                   || row.prefix()
                          == lab.segments[lab.nics[row.nic].segment].prefix[row.address.family()]);
    };
    return !lab.has_wiring()
           && std::ranges::all_of(lab.links, [](const auto& l) { return l.up && !l.is_tunnel; })
           && std::ranges::all_of(lab.nics, [](const auto& n) { return n.up && !n.shares_mac; })
           && std::ranges::all_of(lab.machines,
                                  [](const auto& m) { return m.up && !m.outside && !m.is_core; })
           && std::ranges::all_of(lab.addresses, is_on_its_segment);
}

reach::Facts gathered(const lab::Lab& lab, const fs::path& folder) {
    std::ofstream(folder / "gather.sh") << exports::gather_script(lab);
    const fs::path into = folder / "facts";
    const Printed printed =
        run(fmt::format("sh {} {} 2>&1", (folder / "gather.sh").string(), into.string()));
    CAPTURE(printed.text);
    REQUIRE(printed.status == 0);
    reach::Facts facts;
    std::vector<std::string> problems;
    for (const lab::Machine& machine : lab.machines) {
        std::map<std::string, std::string> files;
        for (const auto& entry : fs::directory_iterator(into / machine.name))
            files[entry.path().filename()] = text_of(entry.path());
        facts.push_back(exports::found_machine(machine.name, files, problems));
    }
    CHECK(problems.empty());
    return facts;
}

bool has_reply(const routing::Settled& settled, const std::string& from, net::Address to) {
    return outcome(settled, from, net::to_string(to)) == "reply";
}

} // namespace

TEST_CASE("what is adopted from a live lab reaches what the lab does") {
    if (geteuid() != 0 || run("unshare --net true 2>&1").status != 0) {
        CHECK(getenv("JACKAL_KERNEL_REQUIRED") == nullptr);
        return;
    }
    constexpr int wanted = 50;
    int adopted = 0;
    std::uint64_t pairs = 0;
    for (std::uint64_t seed = 1; adopted < wanted; ++seed) {
        REQUIRE(seed < 5000);
        judge::Json plan = judge::random_lab(seed);
        plan["lab"] = fmt::format("adopt-{}-{}", getpid(), seed);
        const plan::Reading reading = plan::read(plan.dump(), "t");
        if (!reading.plan)
            continue;
        const lab::Lab lab = lab::build(*reading.plan);
        if (!can_be_adopted(lab))
            continue;
        CAPTURE(seed);
        const routing::Settled settled = routing::settle(lab);
        const fs::path folder =
            fs::temp_directory_path() / fmt::format("adopt-{}-{}", getpid(), seed);
        fs::create_directory(folder);
        std::string text;
        {
            judge::LiveLab live(settled);
            text = exports::adopted_plan(lab.name, gathered(lab, folder));
        }
        fs::remove_all(folder);
        CAPTURE(text);
        const lab::Lab again = lab_of(text);
        const routing::Settled resettled = routing::settle(again);
        ++adopted;
        for (const lab::Machine& from : lab.machines)
            for (const lab::InterfaceAddress& to : lab.addresses) {
                CAPTURE(from.name);
                CAPTURE(net::to_string(to.address));
                ++pairs;
                CHECK(has_reply(settled, from.name, to.address)
                      == has_reply(resettled, from.name, to.address));
            }
    }
    CHECK(pairs > 50 * static_cast<std::uint64_t>(wanted));
}
