#include "asks.h"

#include "jackal/jackal.h"

#include <cstdio>
#include <cstdlib>
#include <map>

namespace fuzz {

using namespace jackal;

namespace {

// Kept for ever, as it is printed when all else has ended.
std::map<std::string, std::size_t>& counts() {
    static auto* all = [] {
        std::atexit([] {
            for (const auto& [what, count] : counts())
                std::fprintf(stderr, "reached: %s %zu\n", what.c_str(), count);
        });
        return new std::map<std::string, std::size_t>;
    }();
    return *all;
}

void use(const std::string& text) {
    volatile std::size_t size = text.size(); // keeps the work from being optimized away
    (void)size;
}

bool is_small(const plan::Plan& plan) {
    return plan.machines.size() <= 64 && plan.subnets.size() <= 64 && plan.links.size() <= 64;
}

void ask_addresses(const std::string& text, const plan::Complete& plan, const lab::Lab& lab) {
    use(exports::addresses_json(lab));
    use(exports::addresses_csv(lab));
    use(exports::rooms_json(lab, lab::rooms(lab, net::Family::ipv4, 26)));
    use(exports::machines_json(lab));
    use(exports::machines_csv(lab));
    use(exports::start_order_json(lab));
    for (const lab::Subnet& subnet : lab.subnets)
        use(exports::why_json(plan.written(), subnet.name,
                              exports::why(plan.written(), lab, subnet.name)));
    exports::Pinning pinning = exports::pin(text, "fuzz");
    if (pinning.text && !plan::read(*pinning.text, "fuzz").plan)
        __builtin_trap();
    for (const lab::Site& site : lab.sites)
        use(exports::renumbering_json(
            exports::renumber(text, "fuzz", {}, site.name, *net::parse_prefix("10.200.0.0/16")),
            false));
}

void ask_tables(const routing::Settled& settled, const std::vector<lab::MachineId>& machines) {
    const lab::Lab& lab = settled.lab();
    use(exports::routes_json(settled, machines, std::nullopt));
    use(exports::neighbours_json(settled, settled.lessons()->neighbours()));
    use(exports::announced_json(settled, settled.lessons()->neighbours()));
    use(exports::link_states_json(settled, machines));
    use(exports::namespaces_script(settled, {.with_dhcp = true}));
    if (!settled.lessons()->neighbours().empty())
        reached("neighbours");
    std::vector<lab::PeeringId> peerings;
    for (lab::PeeringId id : lab.peerings.ids())
        peerings.push_back(id);
    if (!peerings.empty())
        reached("peerings");
    use(exports::sites_json(lab, reach::between_sites(settled)));
}

void ask_sites(const plan::Plan& plan, const lab::Lab& lab) {
    if (lab.sites.size() < 2)
        return;
    reached("several sites");
    lab::SiteId one{0};
    lab::SiteId other{1};
    if (!lab.sites[other].outside)
        use(exports::ways_json(lab, one, other, reach::ways(plan, lab, one, other)));
}

void ask_pings(const plan::Plan& plan, const routing::Settled& settled) {
    const lab::Lab& lab = settled.lab();
    const std::string& from = plan.machines.front().name;
    const std::string& to = plan.machines.back().name;
    auto question = probe::question(lab, from, to);
    probe::TraceAnswer trace = probe::trace(settled, *question);
    reached(trace.ping.diagnosis ? plan::slug(trace.ping.diagnosis->cause).data() : "replies");
    mend::Mending mending = mend::reply(plan, {from, to});
    use(exports::trace_json(settled, trace, &mending));
    use(exports::ping_json(settled, trace.ping, &mending));
    use(exports::ways_of_ping_json(settled, probe::ping_every_way(settled, *question, 16)));
    use(exports::routes_json(settled, {question->from.machine}, trace.ping.destination));
    for (net::Service service : {net::Service{net::Protocol::tcp, 22}, {net::Protocol::udp, 53}})
        if (auto asked = probe::question(lab, from, to, {.service = service}))
            use(exports::ping_json(settled, probe::ping(settled, *asked), nullptr));
    std::vector<routing::Cut> cuts = routing::single_cuts(lab);
    probe::TimelineQuestion over_time{.ping = *question};
    for (std::size_t i = 0; i < cuts.size() && i < 3; ++i) {
        over_time.events.push_back({std::chrono::seconds(3 * i + 3), false, cuts[i]});
        over_time.events.push_back({std::chrono::seconds(3 * i + 5), true, cuts[i]});
    }
    use(exports::timeline_json(lab, over_time, probe::timeline(lab, over_time)));
}

} // namespace

void reached(const char* what) {
    ++counts()[what];
}

void ask_everything(const std::string& text, const plan::Complete& complete) {
    reached("plans");
    if (!is_small(complete.entries()))
        return;
    const plan::Plan& plan = complete.written();
    lab::Lab lab = lab::build(complete);
    routing::Settled settled = routing::settle(lab);
    reach::Check check = reach::check(settled);
    for (const lab::Finding& finding : check.findings) {
        reached(plan::slug(finding.cause).data());
        for (const std::string& line : lab::to_lines(finding.remedy))
            use(line);
    }
    const editor::View view(text, "fuzz");
    for (const editor::Note& note : editor::notes(view, &check))
        use(note.message);
    if (view.lab() != nullptr)
        for (const editor::Mention& mention : view.outline()->mentions())
            if (auto words = editor::hover(view, &check, mention.at.begin))
                use(words->text);
    for (const editor::Hint& hint : editor::hints(view))
        use(hint.text);
    use(exports::check_json(lab, check));
    use(exports::verify_json(lab, reach::verify(settled)));
    ask_addresses(text, complete, lab);
    std::vector<lab::MachineId> machines;
    for (lab::MachineId id : lab.machines.ids())
        machines.push_back(id);
    ask_tables(settled, machines);
    ask_sites(plan, lab);
    if (plan.machines.size() >= 2)
        ask_pings(plan, settled);
}

} // namespace fuzz
