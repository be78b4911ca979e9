// A hub and four spokes, before and after the hub relays what its peers send each other.
#include "jackal/jackal.h"

#include <cstdio>

using namespace jackal;

namespace {

plan::Site automatic_site(const std::string& name, const std::string& space) {
    plan::Site site;
    site.name = name;
    site.automatic = true;
    site.space = {net::parse_prefix(space).value()};
    return site;
}

void add_room(plan::Plan& plan, const std::string& site) {
    plan::Subnet room{.name = site + "-room"};
    room.site = plan::Placed<std::string>(site);
    plan.subnets.push_back(room);
    plan.machines.push_back({.name = site + "-desk", .nics = {{.subnet = room.name}}});
}

plan::Plan hub_and_spokes() {
    plan::Plan plan;
    plan.lab = "hub-and-spokes";
    plan.sites.push_back(automatic_site("hub", "10.60.0.0/16"));
    add_room(plan, "hub");
    for (int n = 1; n <= 4; ++n) {
        std::string spoke = "spoke-" + std::to_string(n);
        plan.sites.push_back(automatic_site(spoke, "10." + std::to_string(60 + n) + ".0.0/16"));
        add_room(plan, spoke);
        plan =
            plan::apply(std::move(plan), {plan::add_peering(plan, {"hub"}, {spoke})}).plan.value();
    }
    return plan;
}

// How many ordered pairs of different sites reach each other; tells why the first does not.
void report(const char* when, const plan::Plan& plan) {
    lab::Lab lab = lab::build(plan);
    reach::SiteReach reach = reach::between_sites(routing::settle(lab));
    int pairs = 0;
    int reached = 0;
    const reach::SitePair* gap = nullptr;
    for (const reach::SitePair& row : reach.rows) {
        if (row.from == row.to)
            continue;
        ++pairs;
        reached += row.replies == row.pairs ? 1 : 0;
        if (row.first_gap && gap == nullptr)
            gap = &row;
    }
    std::printf("%s: %d of %d pairs of sites\n", when, reached, pairs);
    if (gap != nullptr)
        std::printf("  %s to %s: %s\n  %s\n", lab.sites[gap->from].name.c_str(),
                    lab.sites[gap->to].name.c_str(),
                    std::string(plan::slug(gap->first_gap->cause)).c_str(),
                    gap->first_gap->explanation.c_str());
}

} // namespace

int main() {
    plan::Plan plan = hub_and_spokes();
    report("before", plan);
    std::vector<plan::Edit> edits{plan::add_router(plan, "hub-pass", {"hub-room"}),
                                  plan::set_site_relay(plan, "hub", "hub-pass")};
    for (std::size_t n = 0; n < plan.peerings.size(); ++n)
        edits.emplace_back(plan::take_relayed(plan, n, plan.peerings[n].second.value));
    report("after", plan::apply(plan, edits).plan.value());
}
