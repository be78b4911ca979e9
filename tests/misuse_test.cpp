// Plans that a program fills in with nonsense: refused with std::invalid_argument, changes of what
// is not there with a reason.
#include "jackal/lab/build.h"
#include "jackal/plan/edit.h"

#include <doctest/doctest.h>
#include <functional>
#include <limits>
#include <stdexcept>

using namespace jackal;

namespace {

net::Prefix prefix(const char* text) {
    return *net::parse_prefix(text);
}

plan::Plan sound() {
    plan::Plan p{.lab = "x"};
    p.sites = {{.name = "s", .space = {prefix("10.0.0.0/8")}}};
    p.subnets = {{.name = "a"}, {.name = "b"}};
    p.machines = {{.name = "g", .nics = {{.subnet = std::string("a")}}},
                  {.kind = plan::MachineKind::router,
                   .name = "r",
                   .nics = {{.subnet = std::string("a")}, {.subnet = std::string("b")}}}};
    plan::Link link;
    link.first = std::string("g");
    link.second = std::string("r");
    p.links = {link};
    return p;
}

plan::Protocols& protocols(plan::Plan& p) {
    p.machines[1].duties = plan::Duties{};
    p.machines[1].duties->protocols = plan::Protocols{};
    return *p.machines[1].duties->protocols;
}

} // namespace

TEST_CASE("a plan of nonsense from a program is refused") {
    CHECK_NOTHROW(lab::build(sound()));
    using Spoil = std::function<void(plan::Plan&)>;
    const Spoil spoils[] = {
        [](plan::Plan& p) { p.machines[0].nics[0].subnet = std::string(); },
        [](plan::Plan& p) { p.links[0].first = std::string(); },
        [](plan::Plan& p) { p.links[0].loss = std::numeric_limits<double>::quiet_NaN(); },
        [](plan::Plan& p) { p.links[0].loss = 7; },
        [](plan::Plan& p) { p.links[0].delay = std::chrono::microseconds(-1); },
        [](plan::Plan& p) { p.links[0].mtu_bytes = 0; },
        [](plan::Plan& p) { p.peerings.resize(1); },
        [](plan::Plan& p) { p.expectations.resize(1); },
        [](plan::Plan& p) { p.machines[0].routes.resize(1); },
        [](plan::Plan& p) { p.subnets[0].size = 77U; },
        [](plan::Plan& p) { p.subnets[0].ipv6_size = 200; },
        [](plan::Plan& p) { p.subnets[0].hosts = std::uint64_t{0}; },
        [](plan::Plan& p) {
            p.subnets[0].prefixes = {prefix("10.1.0.0/24"), prefix("10.2.0.0/24")};
        },
        [](plan::Plan& p) { p.subnets[0].vlan = 65535; },
        [](plan::Plan& p) { p.subnets[0].dhcp = plan::DhcpRange{}; },
        [](plan::Plan& p) {
            plan::DhcpRange dhcp;
            dhcp.range = plan::Region(plan::Places{9, 1});
            p.subnets[0].dhcp = dhcp;
        },
        [](plan::Plan& p) {
            for (int length : {-1, 200})
                p.machines[0].nics[0].address.given.emplace_back(
                    plan::GivenAddress{*net::parse_address("10.1.0.1"), length});
            p.machines[0].nics[0].address.kind = plan::NicAddress::Kind::given;
        },
        [](plan::Plan& p) { p.machines[0].nics[0].address.kind = plan::NicAddress::Kind::given; },
        [](plan::Plan& p) { p.machines[0].clone_digits = 200; },
        [](plan::Plan& p) {
            p.machines[1].duties = plan::Duties{};
            p.machines[1].duties->translations.resize(1);
        },
        [](plan::Plan& p) {
            p.switches = {
                {.name = "w", .ports = {{.name = "p", .is_trunk = true, .tagged = {9, 5}}}}};
        },
        [](plan::Plan& p) {
            protocols(p).ospf = plan::Ospf{.costs = {{std::string("eth0"), 0}}};
        },
        [](plan::Plan& p) {
            protocols(p).ospf = plan::Ospf{.hello_s = {{std::string("eth0"), 0}}};
        },
        [](plan::Plan& p) { protocols(p).bgp = plan::Bgp{}; },
        [](plan::Plan& p) { protocols(p).rip = plan::Rip{.update_s = 0}; },
    };
    for (std::size_t row = 0; row < std::size(spoils); ++row) {
        CAPTURE(row);
        plan::Plan plan = sound();
        spoils[row](plan);
        CHECK_THROWS_AS(lab::build(plan), std::invalid_argument);
    }
    const plan::Plan plan = sound();
    const std::pair<plan::Edit, const char*> edits[] = {
        {plan::set_nic_up(plan, "nobody", 0), "the plan has no machine nobody"},
        {plan::set_nic_up(plan, "g", 9), "there is no NIC number 9"},
        {plan::set_link_up(plan, 99), "there is no link number 99"},
        {plan::set_bond_member_up(plan, "g", 0, 5), "NIC 0 of g is no bond"},
        {plan::set_bgp_neighbour(plan, "g", "r", 5, false), "g does not speak bgp"},
        {plan::set_ospf_stub(plan, "g", 5, true), "g does not speak ospf"}};
    for (const auto& [edit, why] : edits) {
        const plan::Applied made = plan::apply(sound(), {edit});
        CHECK(!made.plan.has_value());
        CHECK(made.problem == why);
    }
}
