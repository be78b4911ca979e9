// Mistakes put into healthy plans, and mended: with no more changes than mistakes, and written into
// the text of the plan.
#include "jackal/jackal.h"
#include "lab_maker.h"
#include "seeds.h"

#include <algorithm>
#include <doctest/doctest.h>
#include <fmt/format.h>
#include <fmt/ranges.h>

using namespace jackal;

namespace {

// A plan whose routers know their ways by routes or by OSPF, with guests.
judge::Json healthy_lab(std::uint64_t seed) {
    judge::LabMaker m(seed);
    m.router_count = m.random.between(1, 6);
    m.mostly_dual = m.random.percent(30);
    for (int i = 0; i < m.router_count; ++i)
        m.plan["routers"][m.router(i)] = {{"nics", judge::Json::array()},
                                          {"routes", judge::Json::array()}};
    judge::add_own_subnets(m);
    judge::join_routers(m);
    if (m.random.percent(30))
        for (int i = 0; i < m.router_count; ++i)
            m.plan["routers"][m.router(i)]["ospf"] = {{"areas", {{"0", "all"}}}};
    else
        judge::add_routes(m);
    judge::add_guests(m);
    return std::move(m.plan);
}

reach::Check check_of(const plan::Plan& plan) {
    const lab::Lab lab = lab::build(plan);
    return reach::check(routing::settle(lab));
}

bool is_healthy(const plan::Plan& plan) {
    const reach::Check check = check_of(plan);
    return !check.has_errors() && check.expectations_met() == check.verdicts.size();
}

// What works in the plan, as its expectations.
void freeze(judge::Json& json, const plan::Plan& plan) {
    const lab::Lab lab = lab::build(plan);
    judge::Json all = judge::Json::array();
    for (const plan::Expectation& e : reach::expectations(routing::settle(lab), {})) {
        judge::Json entry = {{"ping", {e.from.value, e.to.value}}};
        if (e.gets.value != "reply")
            entry["gets"] = e.gets.value;
        all.push_back(entry);
    }
    json["expect"] = all;
}

// Puts mistakes into a plan, each one change of its text.
class Mistaken {
  public:
    Mistaken(judge::Random& random, const plan::Plan& plan, std::string text)
        : random_(random), plan_(plan), lab_(lab::build(plan)), text_(std::move(text)) {}

    const std::string& text() const { return text_; }
    const std::vector<std::string>& made() const { return made_; }

    void make_one() {
        constexpr int kinds = 14;
        while (!make(random_.below(kinds)))
            ;
    }

  private:
    const plan::Machine& any_machine() { return random_.any_of(plan_.machines); }

    static std::string place(const plan::Machine& machine) {
        return fmt::format("{}.{}", machine.kind == plan::MachineKind::guest ? "guests" : "routers",
                           machine.name);
    }

    bool change(const std::string& words) {
        plan::Writing written = plan::write(text_, std::vector{*plan::parse_change(words)});
        if (!written.text)
            return false;
        text_ = std::move(*written.text);
        made_.push_back(words);
        return true;
    }

    // Writes the address that the NIC has by itself, which is no mistake.
    bool write_address(const plan::Machine& machine, std::size_t nic, const std::string& nic_at) {
        const lab::NicId first = lab_.machines[*lab_.machine(machine.name)].first_nic;
        const lab::NicId id{first.row + static_cast<std::uint32_t>(nic)};
        const auto* row = lab_.first_address(id, net::Family::ipv4);
        return row != nullptr && row->origin != lab::AddressOrigin::lease
               && change(fmt::format("{}.address={}", nic_at, net::to_string(row->address)))
               && (made_.pop_back(), true);
    }

    // An address of the subnet's IPv4 prefix, or nothing.
    std::string address_on(const std::string& subnet, int host) {
        const auto& prefix =
            lab_.segments[lab_.subnets[*lab_.subnet(subnet)].segment].prefix[net::Family::ipv4];
        return prefix ? net::to_string(prefix->first().plus(static_cast<std::uint64_t>(host))) : "";
    }
    bool is_ipv4_only(const std::string& subnet) {
        const auto& prefix = lab_.segments[lab_.subnets[*lab_.subnet(subnet)].segment].prefix;
        return prefix[net::Family::ipv4] && !prefix[net::Family::ipv6];
    }

    bool make(int kind) {
        const plan::Machine& machine = any_machine();
        const std::string at = place(machine);
        const std::size_t nic =
            machine.nics.empty() ? 0 : static_cast<std::size_t>(random_.below(machine.nics.size()));
        const std::string nic_at = fmt::format("{}.nics[{}]", at, nic);
        if (machine.nics.empty())
            return false;
        const std::string subnet = machine.nics[nic].subnet.value;
        const std::string other = random_.any_of(plan_.subnets).name;
        const bool is_router = machine.kind == plan::MachineKind::router;
        switch (kind) {
        case 0:
            return !machine.routes.empty()
                   && change(
                       fmt::format("{}.routes[{}]-", at, random_.below(machine.routes.size())));
        case 1: return is_router && change(at + ".forwards=false");
        case 2: return change(nic_at + ".state=down");
        case 3: return change(at + ".state=down");
        case 4:
            return !plan_.links.empty()
                   && change(
                       fmt::format("links[{}].state=down", random_.below(plan_.links.size())));
        case 5: return !is_router && change(at + ".gateway=none");
        case 6:
            return !is_router && is_ipv4_only(subnet)
                   && change(fmt::format("{}.gateway={}", at, address_on(subnet, 14)));
        case 7:
            return !machine.routes.empty()
                   && change(fmt::format("{}.routes[{}].via={}", at,
                                         random_.below(machine.routes.size()), any_router()));
        case 8:
            return other != subnet && is_ipv4_only(subnet) && is_ipv4_only(other)
                   && change(fmt::format("{}.address={}", nic_at, address_on(other, 9)));
        case 9: // its address still says where it belongs
            return other != subnet && is_ipv4_only(subnet) && write_address(machine, nic, nic_at)
                   && change(fmt::format("{}.subnet={}", nic_at, other));
        case 10:
            return is_ipv4_only(subnet)
                   && change(fmt::format("{}.address={}/31", nic_at, address_on(subnet, 10)));
        case 11: return change(nic_at + ".address=none");
        case 12:
            return other != subnet && is_ipv4_only(subnet) && is_ipv4_only(other)
                   && change(fmt::format("subnets.{}.prefix={}/28", other, address_on(subnet, 0)));
        default: break;
        }
        const plan::Machine& twin = any_machine();
        return twin.name != machine.name && !twin.nics.empty() && mac_of(twin) != mac_of(machine)
               && change(fmt::format("{}.nics[0].mac={}", at, mac_of(twin)));
    }

    std::string any_router() {
        const plan::Machine& machine = any_machine();
        return machine.kind == plan::MachineKind::router ? machine.name : "r0";
    }
    std::string mac_of(const plan::Machine& machine) {
        return net::to_string(lab_.nics[lab_.machines[*lab_.machine(machine.name)].first_nic].mac);
    }

    judge::Random& random_;
    const plan::Plan& plan_;
    const lab::Lab lab_;
    std::string text_;
    std::vector<std::string> made_;
};

std::string lines(const mend::Outcome& outcome, plan::Plan plan) {
    std::string text;
    for (const mend::Change& change : outcome.changes) {
        for (const plan::Edit& words : change.edits)
            text += "    " + to_line(words) + "\n";
        plan = plan::apply(std::move(plan), change.edits).plan.value();
    }
    return text;
}

// About what 10 s allow in a lab of 60 guests.
constexpr std::size_t most_labs = sanitized ? 100 : 3000;

} // namespace

TEST_CASE("mistakes put into a healthy plan are mended by no more changes than there were") {
    std::size_t broken = 0;
    std::size_t unmended = 0;
    std::size_t more = 0;
    std::size_t proven = 0;
    std::size_t most = 0;
    for (std::uint64_t seed : judge::seeds(30, 2)) {
        judge::Json json = healthy_lab(seed);
        plan::Reading base = plan::read(json.dump(), "lab");
        REQUIRE(base.plan.has_value());
        freeze(json, base.plan->written());
        const std::string text = json.dump(1);
        base = plan::read(text, "lab");
        REQUIRE(base.plan.has_value());
        const plan::Plan healthy = base.plan->written();
        if (!is_healthy(healthy) || !check_of(healthy).findings.empty())
            continue; // what is only seen once something else is mended would count as new
        judge::Random random(seed);
        Mistaken mistaken(random, healthy, text);
        for (int n = random.between(1, 6); n > 0; --n)
            mistaken.make_one();
        const plan::Plan plan = plan::read(mistaken.text(), "lab").plan->written();
        if (is_healthy(plan))
            continue;
        ++broken;
        std::size_t labs = 0;
        const mend::Outcome outcome =
            mend::search(plan, {}, {}, [&] { return ++labs < most_labs; });
        most = std::max(most, outcome.tried);
        CAPTURE(seed);
        CAPTURE(fmt::format("{}", fmt::join(mistaken.made(), "\n    ")));
        CAPTURE(lines(outcome, plan));
        for (const mend::Obstacle& left : outcome.left)
            CAPTURE(left.message);
        if (!outcome.is_healthy()) {
            ++unmended;
            MESSAGE("not mended: " << outcome.left.front().message);
            continue;
        }
        proven += outcome.proof == mend::Outcome::Proof::smallest ? 1 : 0;
        if (outcome.count() > mistaken.made().size()) {
            ++more;
            MESSAGE("more changes than mistakes");
        }
        plan::Writing written = plan::write(mistaken.text(), outcome.edits());
        for (const plan::Problem& p : written.problems)
            FAIL_CHECK(p.message);
        REQUIRE(written.text.has_value());
        const plan::Plan mended = plan::read(*written.text, "lab").plan->written();
        CHECK(is_healthy(mended));
        CHECK(mend::search(mended, {}).proof == mend::Outcome::Proof::nothing_to_do);
    }
    MESSAGE(broken << " broken plans: " << unmended << " not mended, " << more
                   << " with more changes than mistakes, " << proven << " proven smallest; " << most
                   << " labs tried at most");
    if (!sanitized) { // else there is time for a few labs only
        CHECK(unmended == 0);
        CHECK(more == 0);
    }
}
