// The address planner as its users meet it: what is pinned stays, what is renumbered goes along as
// a whole, and no region of a subnet touches another.
#include "jackal/jackal.h"
#include "lab_of.h"

#include <algorithm>
#include <doctest/doctest.h>
#include <fstream>
#include <map>
#include <random>
#include <sstream>

using namespace jackal;

namespace {

std::string demo_text() {
    std::ifstream file(SOURCE_DIR "/demo/skerry.yaml");
    return {std::istreambuf_iterator<char>(file), {}};
}

std::string pinned(const std::string& text) {
    exports::Pinning pinning = exports::pin(text, "t");
    for (const plan::Problem& p : pinning.problems)
        MESSAGE(plan::to_string(p.at, "t") << ": " << p.message);
    REQUIRE(pinning.text.has_value());
    return *pinning.text;
}

std::string renumbered(const std::string& text, const char* name, const char* to) {
    exports::Renumbering answer = exports::renumber(text, "t", {}, name, *net::parse_prefix(to));
    for (const plan::Problem& p : answer.problems)
        MESSAGE(plan::to_string(p.at, "t") << ": " << p.message);
    REQUIRE(answer.text.has_value());
    return *answer.text;
}

// A plan that can be edited: lines of each section in the order in which they stand.
class Draft {
  public:
    explicit Draft(std::uint64_t seed) : random_(seed) {
        for (int i = below(4) + 2; i > 0; --i)
            add_subnet();
        for (int i = below(3) + 1; i > 0; --i)
            add_machine("routers");
        for (int i = below(8) + 1; i > 0; --i)
            add_machine("guests");
        for (int i = below(3); i > 0; --i)
            add_link();
    }

    void edit() {
        switch (below(6)) {
        case 0: return add_subnet();
        case 1: return add_machine("guests");
        case 2: return add_machine("routers");
        case 3: return add_link();
        case 4: { // grow
            auto& [name, text] = sections_["subnets"][static_cast<std::size_t>(
                below(static_cast<int>(sections_["subnets"].size())))];
            if (std::size_t at = text.find("hosts: "); at != text.npos)
                text.insert(at + 7, "2");
            return;
        }
        default: // remove
            auto& guests = sections_["guests"];
            if (guests.size() > 1)
                guests.erase(guests.begin() + below(static_cast<int>(guests.size())));
        }
    }

    std::string text() const {
        std::string result = "# A made-up plan.\nlab: draft\nsites:\n"
                             "  a: {space: [10.9.0.0/16, \"fd09::/48\"]} # roomy\n\n  b: {}\n"
                             "pools: {own: {space: [10.8.0.0/24, \"fd08::/64\"]}}\n";
        for (const auto& [section, entries] : sections_) {
            result += "\n# the " + section + "\n" + section + ":\n";
            for (const auto& [name, entry] : entries)
                result += "  " + name + entry + "\n";
        }
        return result;
    }

  private:
    using Entry = std::pair<std::string, std::string>;

    int below(int n) { return static_cast<int>(random_() % static_cast<unsigned>(n)); }

    void insert(const std::string& section, Entry entry) {
        auto& entries = sections_[section];
        entries.insert(entries.begin() + below(static_cast<int>(entries.size()) + 1),
                       std::move(entry));
    }

    std::string any(const std::string& section) {
        auto& entries = sections_[section];
        return entries[static_cast<std::size_t>(below(static_cast<int>(entries.size())))].first;
    }

    void add_subnet() {
        static constexpr const char* sizes[] = {"hosts: 9", "hosts: 30, growth: 50%", "size: /27",
                                                "hosts: 20, reserve: +3-+7, dhcp: {size: 5}",
                                                "prefix: 10.9.9.0/26"};
        bool written = std::exchange(has_written_, true);
        insert("subnets", {"s" + std::to_string(next_++),
                           std::string(": {site: ") + (below(3) == 0 ? "b" : "a") + ", "
                               + sizes[below(written ? 4 : 5)] + "}"});
    }

    void add_machine(const std::string& section) {
        std::string text = ": {nics: [";
        for (int i = below(2); i >= 0; --i)
            text += "{subnet: " + any("subnets") + "}" + (i > 0 ? ", " : "");
        text += "]";
        if (section == "routers" && below(2) == 0)
            text += below(2) == 0 ? ", loopback: auto" : ", loopback: own";
        if (section == "guests" && below(3) == 0)
            text += ", count: 2";
        insert(section, {(section == "routers" ? "r" : "g") + std::to_string(next_++), text + "}"});
    }

    void add_link() {
        std::string first = any("routers");
        std::string second = any("routers");
        if (first != second)
            insert("links", {"- {between: [" + first + ", " + second + "]",
                             below(2) == 0 ? ", pool: own}" : "}"});
    }

    std::mt19937_64 random_;
    std::map<std::string, std::vector<Entry>> sections_{{"subnets", {}}, {"guests", {}}};
    int next_ = 0;
    bool has_written_ = false;
};

// Every address and prefix of a lab, by the names of what has it.
std::map<std::string, std::string> names_and_numbers(const std::string& text) {
    plan::Reading reading = plan::read(text, "t");
    REQUIRE(reading.plan.has_value());
    lab::Lab lab = lab::build(*reading.plan);
    std::map<std::string, std::string> numbers;
    const std::vector<std::string> links = plan::link_names(reading.plan->entries().links);
    auto add = [&](const std::string& name, const auto& value) {
        numbers[name] += " " + net::to_string(value);
    };
    for (const lab::Segment& segment : lab.segments)
        for (net::Family family : net::both_families)
            if (const auto& prefix = segment.prefix[family])
                add(segment.subnet ? "subnet " + lab.subnets[segment.subnet].name
                    : segment.link ? "link " + links[segment.link.row]
                                   : "loopback " + lab.machines[segment.loopback].name,
                    *prefix);
    for (const lab::Subnet& subnet : lab.subnets)
        if (subnet.dhcp)
            add("dhcp " + subnet.name, *subnet.dhcp);
    for (const lab::InterfaceAddress& row : lab.addresses)
        if (row.origin != lab::AddressOrigin::link)
            add(lab.machine_name(row.nic) + " on " + lab.segment_name(lab.nics[row.nic].segment),
                row.address);
    return numbers;
}

} // namespace

TEST_CASE("pinning keeps every byte, means the same, and is done once") {
    for (std::uint64_t seed = 0; seed < 60; ++seed) {
        CAPTURE(seed);
        std::string text = Draft(seed).text();
        if (seed % 3 == 1)
            text.pop_back(); // no line break at the end
        if (seed % 3 == 2)
            for (std::size_t at = 0; (at = text.find('\n', at)) != text.npos; at += 2)
                text.insert(at, "\r");
        std::string once = pinned(text);
        CHECK(once.starts_with(text));
        CHECK(once.size() > text.size());
        CHECK(names_and_numbers(once) == names_and_numbers(text));
        CHECK(pinned(once) == once);
    }
    std::string demo = demo_text();
    std::string once = pinned(demo);
    CHECK(once.starts_with(demo));
    CHECK(pinned(once) == once);
    std::ifstream file(SOURCE_DIR "/demo/skerry-pinned.yaml");
    CHECK(once == std::string(std::istreambuf_iterator<char>(file), {}));
    // In the middle of a file the section is written anew in its place.
    std::string section = once.substr(demo.size());
    std::string middle = "lab: m\n" + section + "# next\nsubnets: {q: {hosts: 3}}\n";
    CHECK(pinned(middle)
          == "lab: m\n\npinned: # by `jackal addresses --pin`; what is taken out of here is chosen "
             "anew\n  sites:\n    m: [10.0.0.0/16, \"fd12:5aae:966d::/48\"]\n  subnets:\n    q: "
             "[10.0.0.0/29, \"fd12:5aae:966d::/64\"]\n# next\nsubnets: {q: {hosts: 3}}\n");
}

TEST_CASE("no edit moves what is pinned") {
    for (std::uint64_t seed = 100; seed < 160; ++seed) {
        CAPTURE(seed);
        Draft draft(seed);
        std::string before = draft.text();
        std::string with_pins = pinned(before);
        std::string pins = with_pins.substr(before.size());
        auto old_numbers = names_and_numbers(with_pins);
        for (int edits = 0; edits < 6; ++edits)
            draft.edit();
        std::string after = draft.text() + pins;
        CAPTURE(after);
        auto new_numbers = names_and_numbers(after);
        for (const auto& [name, numbers] : old_numbers)
            if (auto found = new_numbers.find(name); found != new_numbers.end())
                CHECK_MESSAGE(found->second == numbers, name);
    }
}

TEST_CASE("who adds a subnet to a pinned plan sees only that subnet appear") {
    std::string before = pinned(demo_text());
    std::string after = before;
    after.insert(after.find("  ridge: "), "  attic: {site: skerry, hosts: 500}\n");
    auto old_rows = exports::addresses_csv(lab_of(before));
    auto new_rows = exports::addresses_csv(lab_of(after));
    std::istringstream lines(new_rows);
    std::string left;
    for (std::string line; std::getline(lines, line);)
        if (line.find(",attic,") == line.npos)
            left += line + "\n";
    CHECK(left == old_rows);
    CHECK(left != new_rows);
}

TEST_CASE("a link inserted before others moves no NIC that is pinned, nor its MAC") {
    auto nics = [](const lab::Lab& lab) {
        std::map<std::string, std::string> found; // MACs by machine and what the NIC is on
        for (const lab::Nic& nic : lab.nics)
            if (!nic.is_loopback())
                found.emplace(lab.machines[nic.machine].name + "/" + nic.name + " on "
                                  + lab.segment_name(nic.segment),
                              net::to_string(nic.mac));
        return found;
    };
    const std::string links = "links:\n";
    for (const std::string& text : {demo_text(), pinned(demo_text())}) {
        auto before = nics(lab_of(text));
        std::string more = text;
        REQUIRE(more.find(links) != more.npos);
        more.insert(more.find(links) + links.size(),
                    "  - {between: [ridge-r1, quay-r1]}\n"
                    "  - {between: [quay-r1, raft-r1], nics: [buoy0, eth9]}\n");
        auto after = nics(lab_of(more));
        bool stays = std::ranges::includes(after, before);
        CHECK(stays == (text != demo_text()));
        CHECK(after.size() == before.size() + 4);
        CHECK(std::ranges::any_of(
            after, [](const auto& entry) { return entry.first.starts_with("quay-r1/buoy0 on"); }));
    }
}

TEST_CASE("a pinned name that no NIC can have means nothing") {
    std::string text = pinned(demo_text());
    for (const char* name : {"lo", "all", "Eth2", "a-name-of-seventeen"})
        for (const char* on : {"quay-r1 -- lamp-r1", "school-core -- quay-r1"}) {
            CAPTURE(std::string(name));
            std::string other = text;
            std::string pin = std::string(on) + ": eth";
            std::size_t at = other.find(pin, other.find("  nics:\n    "));
            REQUIRE(at != other.npos);
            other.replace(at + pin.size() - 3, 4, name);
            CHECK(exports::machines_json(lab_of(other)) == exports::machines_json(lab_of(text)));
        }
}

TEST_CASE("a site moves as a whole, and back again to the same bytes") {
    for (const std::string& text : {demo_text(), pinned(demo_text())}) {
        for (auto [name, to, back] : {std::tuple("skerry", "10.46.0.0/16", "10.41.0.0/16"),
                                      std::tuple("harbour", "fd4a::/48", "fd40:7::/48"),
                                      std::tuple("sonar", "10.40.200.64/26", "10.40.8.0/26"),
                                      std::tuple("skerry", "10.46.8.0/24", "")}) {
            CAPTURE(name);
            std::string moved = renumbered(text, name, to);
            lab::Lab lab = lab_of(moved);
            routing::Settled settled = routing::settle(lab);
            for (const reach::Verdict& verdict : reach::verify(settled))
                CHECK_MESSAGE(verdict.passed, verdict.explanation);
            CHECK(lab::findings(lab).empty());
            net::Prefix target = *net::parse_prefix(to);
            std::size_t inside = 0;
            for (const net::Prefix& prefix : lab.prefixes())
                inside += target.contains(prefix) ? 1 : 0;
            CHECK(inside > 0);
            CHECK(std::ranges::count(moved, '\n') == std::ranges::count(text, '\n'));
            if (*back != '\0')
                CHECK(renumbered(moved, name, back) == text);
        }
    }
}

TEST_CASE("of two sites in one range only the one that was meant moves") {
    std::ifstream file(SOURCE_DIR "/demo/mistakes/spaces-overlap.yaml");
    std::string text(std::istreambuf_iterator<char>(file), {});
    std::string moved = renumbered(text, "south", "10.50.1.0/25");
    lab::Lab lab = lab_of(moved);
    CHECK(lab::findings(lab).empty());
    CHECK(lab.prefixes()
          == std::vector{*net::parse_prefix("10.50.0.0/26"), *net::parse_prefix("10.50.1.64/26")});
}

TEST_CASE("what is in the way of pinning and renumbering is said, and nothing is written") {
    const std::string plain = "lab: t\nsites: {a: {space: 10.1.0.0/16}, b: {}}\nsubnets:\n"
                              "  q: {site: a, hosts: 300}\n  r: {site: b}\n";
    struct Row {
        std::string text;
        const char* name; // "" to pin
        const char* to;
        const char* says;
    };
    const Row rows[] = {
        {"{lab: t, subnets: {q: {}}}", "", "", "not between braces"},
        {plain + "pinned:\n  subnets:\n    q: 10.1.4.0/23 # mine\n", "", "",
         "this comment would be lost"},
        {"lab: t\nsubnets: {q: {hosts: many}}\n", "", "", "is not a whole number"},
        {plain, "c", "10.2.0.0/16", "no site or subnet \"c\""},
        {plain, "b", "10.2.0.0/16", "site b has no IPv4 space in the plan"},
        {plain, "a", "fd00::/48", "site a has no IPv6 space in the plan"},
        {plain, "q", "10.2.0.0/23", "write or pin one first"},
        {plain, "a", "10.2.0.0/24", "has no room for all prefixes of site a; the plan needs a /23"},
        {plain + "routers: {x: {routes: [{to: 10.1.128.0/17, via: 10.9.9.9}]}}\n", "a",
         "10.2.0.0/20", "10.1.128.0/17 has no place in 10.2.0.0/20"},
        {"lab: t\nsites: {a: {space: \"10.\\x31.0.0/16\"}}\n", "a", "10.2.0.0/16",
         "change it by hand"},
    };
    for (const Row& row : rows) {
        CAPTURE(row.text);
        std::vector<plan::Problem> problems;
        bool written = false;
        if (*row.name == '\0') {
            exports::Pinning answer = exports::pin(row.text, "t");
            written = answer.text.has_value();
            problems = answer.problems;
        } else {
            auto answer =
                exports::renumber(row.text, "t", {}, row.name, *net::parse_prefix(row.to));
            written = answer.text.has_value();
            problems = answer.problems;
        }
        CHECK_FALSE(written);
        REQUIRE_FALSE(problems.empty());
        CAPTURE(problems.front().message);
        CHECK(problems.front().message.find(row.says) != std::string::npos);
    }
}

TEST_CASE("router, static, reserved and DHCP addresses of a subnet never collide") {
    std::mt19937_64 random(11);
    auto below = [&](unsigned n) { return static_cast<unsigned>(random() % n); };
    for (int round = 0; round < 300; ++round) {
        std::string text =
            "lab: t\nsubnets:\n  q: {prefix: [10.1.0.0/26, \"fd01::/64\"], gateway: ";
        text += below(2) == 0 ? "first" : "last";
        unsigned first = below(60);
        text += ", reserve: [+" + std::to_string(first) + "-+"
                + std::to_string(std::min(63U, first + below(9))) + ", 10.1.0."
                + std::to_string(below(64)) + "]";
        text += ", dhcp: {size: " + std::to_string(1 + below(20)) + "}}\nguests:\n";
        for (unsigned i = 0; i < 1 + below(20); ++i)
            text += "  g" + std::to_string(i) + ": {nics: [{subnet: q"
                    + (below(4) == 0 ? ", address: 10.1.0." + std::to_string(1 + i * 3) : "")
                    + "}]}\n";
        text += "routers: {r: {nics: [{subnet: q}]}}\n";
        CAPTURE(text);
        lab::Lab lab = lab_of(text);
        const lab::Subnet& subnet = lab.subnets[lab::SubnetId{0}];
        net::Prefix prefix = *lab.segments[subnet.segment].prefix.ipv4;
        for (const lab::InterfaceAddress& row : lab.addresses)
            if (row.origin == lab::AddressOrigin::automatic)
                REQUIRE(subnet.set_aside(row.address) == nullptr);
        if (subnet.dhcp) {
            REQUIRE(net::Range{prefix.first_usable(), prefix.last_usable()}.contains(*subnet.dhcp));
            REQUIRE_FALSE(subnet.dhcp->contains(*subnet.gateway.ipv4));
            for (const net::Range& range : subnet.reserved)
                REQUIRE_FALSE(range.overlaps(*subnet.dhcp));
            for (const lab::InterfaceAddress& row : lab.addresses)
                REQUIRE_FALSE(subnet.dhcp->contains(row.address));
        }
        // The sums are right: every usable address is counted once.
        lab::PrefixUsage usage = lab::usage(lab).front();
        std::uint64_t free = 0;
        for (net::Address a = prefix.first_usable(); a <= prefix.last_usable(); a = a.plus(1))
            free += lab.owners_of(a).empty() && subnet.set_aside(a) == nullptr ? 1 : 0;
        REQUIRE(usage.free == free);
    }
}

TEST_CASE("sites without a space get private ranges that nothing else in the plan has") {
    std::mt19937_64 random(5);
    for (int round = 0; round < 60; ++round) {
        std::string text = "lab: t" + std::to_string(round)
                           + "\noutside: {lan: 10.0.0.0/24}\nsites:\n"
                             "  own: {space: [10.1.0.0/16, \"fd01::/48\"]}\n";
        std::string subnets = "subnets:\n  fixed: {site: own, prefix: 10.2.128.0/20}\n";
        for (unsigned i = 0; i < 1 + random() % 6; ++i) {
            text += "  x" + std::to_string(i) + ": {}\n";
            for (unsigned k = 0; k < 1 + random() % 4; ++k)
                subnets += "  s" + std::to_string(i) + "-" + std::to_string(k) + ": {site: x"
                           + std::to_string(i) + ", size: /" + std::to_string(10 + random() % 20)
                           + "}\n";
        }
        CAPTURE(text + subnets);
        lab::Lab lab = lab_of(text + subnets);
        std::vector<net::Prefix> all{*net::parse_prefix("10.0.0.0/24"),
                                     *net::parse_prefix("10.2.128.0/20")};
        for (const lab::Site& site : lab.sites)
            all.insert(all.end(), site.space.begin(), site.space.end());
        for (std::size_t i = 0; i < all.size(); ++i)
            for (std::size_t k = 0; k < i; ++k)
                REQUIRE_FALSE(all[i].overlaps(all[k]));
        for (const lab::Segment& segment : lab.segments)
            if (const auto& prefix = segment.prefix.ipv4;
                prefix && lab.subnets[segment.subnet].name != "fixed") {
                const auto& space = lab.sites[lab.subnets[segment.subnet].site].space;
                REQUIRE(std::ranges::any_of(space, [&](auto& p) { return p.contains(*prefix); }));
            }
        if (lab.unplaced.empty())
            for (const lab::Segment& segment : lab.segments)
                REQUIRE(segment.prefix.ipv4.has_value());
    }
}

TEST_CASE("the number of an IPv6 subnet is read from the IPv4 prefix") {
    struct Row {
        const char* ipv4;
        const char* ipv6_space;
        const char* number;
    };
    const Row rows[] = {
        {"10.40.0.0/24", "fd40:7::/48", "fd40:7::/64"},
        {"10.40.8.0/24", "fd40:7::/48", "fd40:7:0:80::/64"},
        {"10.40.8.64/26", "fd40:7::/48", "fd40:7:0:84::/64"},
        {"10.40.123.240/28", "fd40:7::/48", "fd40:7:0:123f::/64"},
        {"10.40.8.64/26", "fd40::/32", "fd40:0:40:84::/64"},
        {"10.40.8.0/24", "fd40:7::/56", "fd40:7::/64"}, // too small for it: the next free
    };
    for (const Row& row : rows) {
        // A site of just that prefix, so that the subnet can be nowhere else.
        net::Prefix prefix = *net::parse_prefix(row.ipv4);
        lab::Lab lab =
            lab_of("lab: t\nsites: {s: {space: [" + std::string(row.ipv4) + ", \"" + row.ipv6_space
                   + "\"]}}\nsubnets: {q: {size: /" + std::to_string(prefix.length()) + "}}\n");
        CAPTURE(row.ipv4);
        CHECK(net::to_string(*lab.segments[lab::SegmentId{0}].prefix.ipv6) == row.number);
    }
}

TEST_CASE("an IPv6 subnet has the length that the plan asks for") {
    lab::Lab lab =
        lab_of("lab: t\nsites: {s: {space: [10.1.0.0/16, \"fd01::/48\"]}}\nsubnets:\n"
               "  a: {size: [/27, /60]}\n  b: {size: /72}\n  c: {hosts: 9, size: /120}\n");
    std::vector<int> lengths;
    for (const lab::PrefixUsage& row : lab::usage(lab))
        lengths.push_back(row.prefix.length());
    CHECK(lengths == std::vector{27, 60, 24, 72, 28, 120});
    CHECK(lab::findings(lab).empty());
}

TEST_CASE("what finds no room says how much is missing and what would do") {
    struct Row {
        const char* text;
        const char* says;
        const char* remedy;
    };
    const std::string site = "lab: t\nsites: {s: {space: 10.1.0.0/25}}\n";
    const Row rows[] = {
        {"subnets: {q: {hosts: 60, growth: 200%}}",
         "the largest free block of site s is "
         "10.1.0.0/25, 128 addresses too small; with a growth of 100% it would fit",
         "sites.s.space: add 10.1.1.0/24"},
        {"subnets: {q: {size: /25}, r: {size: /25}}", "site s has no address space left",
         "sites.s.space: add"},
        {"subnets: {q: {size: /26, dhcp: {size: 62}}}", "10.1.0.0/26 has not as many in a row",
         "ask for less"},
        {"subnets: {q: {size: /26, reserve: +60-+90}}", "10.1.0.0/26 ends at +63", "count to"},
        {"pools: {p: {space: 10.9.0.0/31}}\nsubnets: {q: {size: /28}}\n"
         "routers: {a: {nics: [{subnet: q}]}, b: {nics: [{subnet: q}]}}\n"
         "links: [{between: [a, b], pool: p}, {between: [a, b], pool: p}]",
         "a -- b wants a /31, but pool p has no address space left", "larger"},
        {"subnets: {q: {size: /30}}\nguests: {g: {count: 4, nics: [{subnet: q}]}}",
         "all 2 usable addresses of 10.1.0.0/30 are taken", "larger subnet"},
        {"subnets: {q: {hosts: 60}}\npinned: {subnets: {q: 10.1.0.0/27}}",
         "it is pinned to 10.1.0.0/27", "take q out of `pinned`"},
    };
    for (const Row& row : rows) {
        plan::Reading reading = plan::read(site + row.text, "t");
        REQUIRE(reading.plan.has_value());
        auto findings = lab::findings(lab::build(*reading.plan));
        auto found = std::ranges::find(findings, plan::Cause::no_space_left, &lab::Finding::cause);
        CAPTURE(row.text);
        REQUIRE(found != findings.end());
        CAPTURE(found->message);
        CHECK(found->message.find(row.says) != std::string::npos);
        std::string remedy = lab::to_lines(found->remedy).front();
        CAPTURE(remedy);
        CHECK(remedy.find(row.remedy) != std::string::npos);
    }
}
