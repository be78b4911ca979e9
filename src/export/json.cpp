#include "jackal/export/json.h"

#include "jackal/export/words.h"
#include "jackal/lab/peering.h"
#include "jackal/lab/start_order.h"
#include "jackal/routing/discord.h"

#include <nlohmann/json.hpp>

namespace jackal::exports {

using json = nlohmann::ordered_json;
using lab::Lab;
using net::to_string;

namespace {

std::string text(const json& value) {
    return value.dump(2, ' ', false, json::error_handler_t::replace); // what is not UTF-8
}

json place(plan::Mark at) {
    if (!at)
        return nullptr;
    return {{"line", at.line}, {"column", at.column}};
}

// Null, or the text of the value.
template <class T>
json maybe(const std::optional<T>& value) {
    return value ? json(to_string(*value)) : json(nullptr);
}

json maybe_text(const std::string& text) {
    return text.empty() ? json(nullptr) : json(text);
}

json maybe_nic(const Lab& lab, lab::NicId nic) {
    return nic ? json(lab.nics[nic].name) : json(nullptr);
}

json changes(const std::vector<plan::Edit>& edits) {
    json rows = json::array();
    for (const plan::Edit& edit : edits)
        for (const plan::PlaceChange& change : edit.changes)
            rows.push_back({{"path", plan::to_string(change.place)},
                            {"do", to_string(change.verb)},
                            {"value", maybe_text(change.value)},
                            {"before", maybe_text(change.before)},
                            {"at", place(change.at)}});
    return rows;
}

// Whether a remedy has been tried and mends, or null.
json proof(const lab::Remedy& remedy) {
    if (remedy.proof == lab::Remedy::Proof::untried)
        return nullptr;
    return remedy.proof == lab::Remedy::Proof::mends;
}

// The remedy as one text, or null.
json remedy_text(const lab::Remedy& remedy) {
    std::string joined;
    for (const std::string& line : lab::to_lines(remedy))
        joined += (joined.empty() ? "" : "; ") + line;
    return joined.empty() ? json(nullptr) : json(joined);
}

json steps_of(const routing::Settled& settled, const packet::Journey& journey);

// The tunnel that a step puts the packet into, with the steps of the packet around it.
json crossing_json(const routing::Settled& settled, const packet::Crossing* crossing) {
    if (crossing == nullptr)
        return nullptr;
    const Lab& lab = settled.lab();
    return {{"name", lab.segment_name(lab.links[crossing->tunnel].segment)},
            {"works", crossing->works},
            {"way_back", crossing->is_way_back},
            {"detail", crossing_text(lab, *crossing)},
            {"outer", crossing->outer ? steps_of(settled, *crossing->outer) : json::array()}};
}

json steps_of(const routing::Settled& settled, const packet::Journey& journey) {
    const Lab& lab = settled.lab();
    json rows = json::array();
    for (std::size_t i = 0; i < journey.steps.size(); ++i) {
        const packet::Step& step = journey.steps[i];
        rows.push_back({{"machine", lab.machines[step.machine].name},
                        {"in", maybe_nic(lab, step.in)},
                        {"out", maybe_nic(lab, step.out)},
                        {"action", packet::to_string(step.action)},
                        {"switches", switch_text(settled, journey, i)},
                        {"filters", filter_texts(settled, journey, i)},
                        {"translated", rewrite_texts(journey, i)},
                        {"tunnel", crossing_json(settled, crossing_at(journey, i))},
                        {"detail", step_detail(settled, journey, i)}});
    }
    return rows;
}

json steps(const routing::Settled& settled, const std::optional<packet::Journey>& journey) {
    return journey ? steps_of(settled, *journey) : json::array();
}

double milliseconds(probe::Microseconds time) {
    return time.count() / 1000;
}

json diagnosis(const Lab& lab, const probe::Diagnosis& d) {
    return {{"cause", plan::slug(d.cause)},
            {"where", lab.machines[d.where].name},
            {"explanation", d.explanation},
            {"at", place(d.at)}};
}

json error(const Lab& lab, const probe::SeenError& seen) {
    if (seen.error == packet::IcmpError::none)
        return nullptr;
    return {{"message", packet::to_string(seen.error)},
            {"machine", lab.machines[seen.machine].name},
            {"heard", seen.heard},
            {"from", seen.heard ? json(to_string(seen.from)) : json(nullptr)}};
}

void add_mending(json& value, const mend::Mending* mending) {
    if (mending == nullptr)
        return;
    value["remedy"] = remedy_text({mending->edits, mending->advice});
    value["changes"] = changes(mending->edits);
    value["mends"] = mending->mends;
}

json ping_value(const routing::Settled& settled, const probe::PingAnswer& answer,
                const mend::Mending* mending) {
    const Lab& lab = settled.lab();
    bool reply = !answer.diagnosis;
    const auto& service = answer.question.service;
    json others = json::array();
    for (net::Address address : probe::other_destinations(lab, answer))
        others.push_back(to_string(address));
    json value = {{"from", answer.question.from.name},
                  {"to", answer.question.to.name},
                  {"service", maybe(service)},
                  {"source", maybe(answer.source)},
                  {"destination", maybe(answer.destination)},
                  {"other_destinations", others},
                  {"sent", answer.sent},
                  {"received", answer.received},
                  {"verdict", service ? probe::to_string(answer.outcome())
                              : reply ? "reply"
                                      : "no-reply"},
                  {"cause", nullptr},
                  {"remedy", nullptr},
                  {"ttl", reply ? json(answer.reply_ttl) : json(nullptr)},
                  {"rtt_ms", nullptr},
                  {"out", steps(settled, answer.out)},
                  {"back", steps(settled, answer.back)}};
    if (reply) {
        value["rtt_ms"] = {{"min", milliseconds(answer.round_trip.min)},
                           {"mean", milliseconds(answer.round_trip.mean)},
                           {"max", milliseconds(answer.round_trip.max)}};
        return value;
    }
    value.update(diagnosis(lab, *answer.diagnosis));
    value["remedy"] = remedy_text(answer.diagnosis->remedy);
    value["error"] = error(lab, answer.error);
    add_mending(value, mending);
    return value;
}

} // namespace

std::string with_whole(const std::string& answer, const std::string& whole) {
    json both = json::parse(answer);
    both["whole"] = json::parse(whole);
    return text(both);
}

std::string check_json(const Lab& lab, const reach::Check& check) {
    json rows = json::array();
    for (const lab::Finding& f : check.findings)
        rows.push_back({{"finding", plan::slug(f.cause)},
                        {"severity", lab::to_string(f.severity)},
                        {"subject", f.subject},
                        {"explanation", f.message},
                        {"at", place(f.at)},
                        {"remedy", remedy_text(f.remedy)},
                        {"changes", changes(f.remedy.edits)},
                        {"mends", proof(f.remedy)},
                        {"follows", f.follows ? json(*f.follows) : json(nullptr)}});
    json islands = json::array();
    for (const std::vector<lab::SiteId>& sites : check.islands) {
        json names = json::array();
        for (lab::SiteId site : sites)
            names.push_back(lab.sites[site].name);
        islands.push_back(names);
    }
    json joined = json::array();
    for (const auto& [one, other] : check.joined)
        joined.push_back({lab.sites[one].name, lab.sites[other].name});
    return text({{"lab", lab.name},
                 {"plan", lab.source},
                 {"pairs", check.pairs},
                 {"pairs_asked", check.pairs_asked},
                 {"pairs_answered", check.answered},
                 {"pairs_stated", check.stated},
                 {"pairs_outside", check.outside},
                 {"pairs_explained", check.explained},
                 {"pairs_unexplained", check.unexplained},
                 {"expectations", check.verdicts.size()},
                 {"expectations_met", check.expectations_met()},
                 {"islands", islands},
                 {"joined", joined},
                 {"findings", rows}});
}

namespace {

json range_json(const std::optional<net::Range>& range) {
    if (!range)
        return nullptr;
    return {{"first", to_string(range->first)}, {"last", to_string(range->last)}};
}

json totals_json(const lab::Totals& totals) {
    return {{"machines", totals.machines},
            {"cpus", totals.cpus},
            {"memory_mib", totals.memory_mib},
            {"disk_mib", totals.disk_mib}};
}

} // namespace

std::string addresses_json(const Lab& lab) {
    json rows = json::array();
    for (const lab::PrefixUsage& row : lab::usage(lab))
        rows.push_back({{"site", row.site ? json(lab.sites[row.site].name) : json(nullptr)},
                        {"segment", lab.segment_name(row.segment)},
                        {"prefix", to_string(row.prefix)},
                        {"first", to_string(row.prefix.first_usable())},
                        {"last", to_string(row.prefix.last_usable())},
                        {"gateway", maybe(row.gateway)},
                        {"dhcp", range_json(row.dhcp)},
                        {"reserved", row.reserved},
                        {"used", row.used},
                        {"free", row.free},
                        {"growth_left", row.growth_left ? json(*row.growth_left) : json(nullptr)}});
    json spaces = json::array();
    for (const lab::SpaceUsage& row : lab::space_usage(lab)) {
        json free = json::array();
        for (const net::Prefix& block : row.free)
            free.push_back(to_string(block));
        spaces.push_back({{"site", row.site ? json(lab.sites[row.site].name) : json(nullptr)},
                          {"pool", row.pool ? json(lab.pools[row.pool].name) : json(nullptr)},
                          {"space", to_string(row.space)},
                          {"used_share", row.used_share},
                          {"free", free}});
    }
    json unplaced = json::array();
    for (const lab::Unplaced& row : lab.unplaced)
        unplaced.push_back({{"what", row.what},
                            {"why", row.why},
                            {"advice", row.advice.empty() ? json(nullptr) : json(row.advice)},
                            {"at", place(row.at)}});
    return text(
        {{"lab", lab.name}, {"prefixes", rows}, {"spaces", spaces}, {"without_room", unplaced}});
}

std::string rooms_json(const Lab& lab, const std::vector<lab::Room>& rooms) {
    json rows = json::array();
    for (const lab::Room& room : rooms)
        rows.push_back({{"site", lab.sites[room.site].name},
                        {"first", to_string(room.first)},
                        {"block", to_string(room.block)},
                        {"count", room.count}});
    return text({{"lab", lab.name}, {"rooms", rows}});
}

std::string whose_json(const Lab& lab, net::Address address, const lab::Whose& whose) {
    json nics = json::array();
    for (const lab::Owner& owner : whose.owners)
        nics.push_back(lab.nic_name(owner.nic));
    return text({{"address", to_string(address)},
                 {"is", to_string(whose.kind)},
                 {"nics", nics},
                 {"segment", whose.segment ? json(lab.segment_name(whose.segment)) : json(nullptr)},
                 {"prefix", maybe(whose.prefix)},
                 {"site", whose.site ? json(lab.sites[whose.site].name) : json(nullptr)},
                 {"explanation", whose_text(lab, address, whose)}});
}

namespace {

json wires_json(const Lab& lab, lab::NicId nic) {
    json rows = json::array();
    for (const lab::Plug& plug : lab.plugs_of(nic))
        rows.push_back({{"name", plug.member.empty() ? json(nullptr) : json(plug.member)},
                        {"port", plug.port ? json(lab.port_name(plug.port)) : json(nullptr)},
                        {"vlan", plug.vlan != 0 ? json(plug.vlan) : json(nullptr)},
                        {"state", plug.up ? "up" : "down"}});
    return rows;
}

json lease_json(const Lab& lab, lab::NicId nic) {
    const lab::Lease* lease = lab.lease_of(nic);
    if (lease == nullptr || lease->refusal != lab::Lease::Refusal::none)
        return nullptr;
    json dns = json::array();
    for (net::Address server : lease->dns)
        dns.push_back(to_string(server));
    return {{"server", lab.machines[lease->giver].name},
            {"seconds", lease->time.count()},
            {"router", maybe(lease->router)},
            {"dns", dns}};
}

json switches_json(const Lab& lab) {
    json rows = json::array();
    for (const lab::Switch& row : lab.switches)
        rows.push_back(
            {{"switch", row.name}, {"state", row.up ? "up" : "down"}, {"ports", json::array()}});
    for (const lab::Port& port : lab.ports)
        rows[port.owner.row]["ports"].push_back(
            {{"name", port.name},
             {"untagged", port.untagged != 0 ? json(port.untagged) : json(nullptr)},
             {"tagged", port.tagged},
             {"segment", port.segment ? json(lab.segment_name(port.segment)) : json(nullptr)},
             {"state", port.up ? "up" : "down"}});
    return rows;
}

} // namespace

std::string machines_json(const Lab& lab) {
    json machines = json::array();
    for (lab::MachineId id : lab.machines.ids()) {
        const lab::Machine& machine = lab.machines[id];
        json nics = json::array();
        for (lab::NicId nic : lab.nics_of(id)) {
            json addresses = json::array();
            for (lab::AddressId a : lab.addresses_of(nic)) {
                const lab::InterfaceAddress& row = lab.addresses[a];
                addresses.push_back({{"address", to_string(row.address)},
                                     {"length", row.length},
                                     {"origin", to_string(row.origin)}});
            }
            const lab::Nic& row = lab.nics[nic];
            nics.push_back({{"name", row.name},
                            {"mac", row.is_loopback() ? json(nullptr) : json(to_string(row.mac))},
                            {"segment", lab.segment_name(row.segment)},
                            {"state", row.up ? "up" : "down"},
                            {"mtu", row.mtu_bytes},
                            {"wires", wires_json(lab, nic)},
                            {"lease", lease_json(lab, nic)},
                            {"filters", filters_on(lab, nic)},
                            {"addresses", addresses}});
        }
        json listens = json::array();
        json translates = json::array();
        const lab::Duties* duties = lab.duties_of(id);
        if (duties != nullptr) {
            for (net::Service service : duties->listens)
                listens.push_back(to_string(service));
            for (const lab::Translation& translation : duties->translations)
                translates.push_back(translation_text(lab, translation));
        }
        bool filtered = duties != nullptr && duties->filter;
        machines.push_back(
            {{"machine", machine.name},
             {"kind", kind_text(machine)},
             {"forwards", machine.forwards_any()},
             {"state", machine.up ? "up" : "down"},
             {"cpus", machine.sizes.cpus},
             {"memory_mib", machine.sizes.memory_mib},
             {"disk_mib", machine.sizes.disk_mib},
             {"filter", filtered ? json(lab.filters[duties->filter].name) : json(nullptr)},
             {"listens", listens},
             {"translates", translates},
             {"nics", nics}});
    }
    json totals = json::array();
    for (const lab::Site& site : lab.sites) {
        json row = totals_json(site.totals);
        row["site"] = site.name;
        totals.push_back(row);
    }
    return text({{"lab", lab.name},
                 {"machines", machines},
                 {"switches", switches_json(lab)},
                 {"totals", totals}});
}

namespace {

json side_json(const Lab& lab, const lab::Peering& peering, int side) {
    const plan::PeeringSide& said = peering.sides[side];
    return {{"site", lab.sites[peering.sites[side]].name},
            {"declared", said.declared},
            {"accept", said.declared && said.accepts},
            {"relay", said.relayed},
            {"exit", plan::to_string(said.exit)}};
}

} // namespace

std::string peerings_json(const routing::Settled& settled,
                          const std::vector<lab::PeeringId>& peerings) {
    const Lab& lab = settled.lab();
    json rows = json::array();
    for (lab::PeeringId id : peerings) {
        const lab::Peering& peering = lab.peerings[id];
        json row = {{"sides", {side_json(lab, peering, 0), side_json(lab, peering, 1)}},
                    {"state", plan::to_string(peering.state)},
                    {"carries", peering.link && settled.condition().link_up(peering.link)},
                    {"delay_ms", milliseconds(peering.delay)},
                    {"hourly_cost", peering.hourly_cost},
                    {"within_region", peering.within_region},
                    {"link", peering.link ? json(lab.segment_name(lab.links[peering.link].segment))
                                          : json(nullptr)},
                    {"missing", nullptr},
                    {"remedy", nullptr},
                    {"at", place(peering.at)}};
        if (peering.state != plan::PeeringState::up) {
            lab::Finding f = lab::describe(lab, peering);
            row["missing"] = f.message;
            row["remedy"] = remedy_text(f.remedy);
        }
        rows.push_back(row);
    }
    return text({{"lab", lab.name}, {"peerings", rows}});
}

std::string sites_json(const Lab& lab, const reach::SiteReach& reach) {
    json rows = json::array();
    for (const reach::SitePair& pair : reach.rows) {
        json row = {
            {"from", lab.sites[pair.from].name},
            {"to", lab.sites[pair.to].name},
            {"pairs", pair.pairs},
            {"replies", pair.replies},
            {"rtt_ms", pair.replies != 0 ? json(milliseconds(pair.round_trip)) : json(nullptr)},
            {"gap", nullptr}};
        if (pair.first_gap) {
            row["gap"] = diagnosis(lab, *pair.first_gap);
            row["gap"]["between"] = pair.gap_between;
        }
        rows.push_back(row);
    }
    return text({{"lab", lab.name}, {"sites", rows}});
}

namespace {

json maybe_met(const std::optional<bool>& met) {
    return met ? json(*met) : json(nullptr);
}

json family(const std::optional<net::Family>& asked) {
    return asked ? json(static_cast<int>(*asked)) : json(nullptr);
}

} // namespace

namespace {

json reach_changes(const std::vector<reach::ReachChange>& changes) {
    json rows = json::array();
    for (const reach::ReachChange& change : changes)
        rows.push_back(
            {{"from", change.from},
             {"to", change.to},
             {"gained", change.gained},
             {"lost", change.lost},
             {"first", {change.first[0], change.first[1]}},
             {"cause", change.cause ? json(plan::slug(change.cause->cause)) : json(nullptr)},
             {"explanation", change.cause ? json(change.cause->explanation) : json(nullptr)}});
    return rows;
}

json expectation_changes(const std::vector<reach::ExpectationChange>& changes) {
    json rows = json::array();
    for (const reach::ExpectationChange& change : changes)
        rows.push_back({{"expectation", change.what},
                        {"before", maybe_met(change.before)},
                        {"after", maybe_met(change.after)},
                        {"explanation", maybe_text(change.explanation)}});
    return rows;
}

} // namespace

static json written_changes(const std::vector<plan::PlaceChange>& changes) {
    json rows = json::array();
    for (const plan::PlaceChange& change : changes)
        rows.push_back({{"place", plan::to_string(change.place)},
                        {"before", maybe_text(change.before)},
                        {"after", maybe_text(change.value)}});
    return rows;
}

std::string compare_json(const Lab& before, const Lab& after, const reach::Comparison& comparison) {
    json changes = json::array();
    for (const reach::Change& change : comparison.changes)
        changes.push_back({{"aspect", reach::to_string(change.aspect)},
                           {"what", change.what},
                           {"before", maybe_text(change.before)},
                           {"after", maybe_text(change.after)}});
    auto findings = [](const std::vector<lab::Finding>& list) {
        json rows = json::array();
        for (const lab::Finding& f : list)
            rows.push_back({{"finding", plan::slug(f.cause)},
                            {"severity", lab::to_string(f.severity)},
                            {"subject", f.subject},
                            {"explanation", f.message},
                            {"at", place(f.at)}});
        return rows;
    };
    return text({{"before", before.source},
                 {"after", after.source},
                 {"same", comparison.is_same()},
                 {"written", written_changes(comparison.written)},
                 {"changes", changes},
                 {"reach", reach_changes(comparison.reach)},
                 {"expectations", expectation_changes(comparison.expectations)},
                 {"findings_gone", findings(comparison.gone)},
                 {"findings_come", findings(comparison.come)}});
}

std::string drift_json(const lab::Lab& lab, const reach::Drift& drift) {
    json rows = json::array();
    for (const reach::Difference& d : drift.differences) {
        json edits = json::array();
        for (const plan::Edit& edit : d.edits)
            edits.push_back(plan::to_line(edit));
        rows.push_back(
            {{"difference", reach::slug(d.deviation)},
             {"what", d.what},
             {"planned", maybe_text(d.planned)},
             {"found", maybe_text(d.found)},
             {"reach", d.is_asked ? reach_changes(d.reach) : json(nullptr)},
             {"expectations", d.is_asked ? expectation_changes(d.expectations) : json(nullptr)},
             {"command", maybe_text(d.command)},
             {"edits", edits},
             {"at", place(d.at)}});
    }
    return text({{"lab", lab.name},
                 {"machines", drift.machines},
                 {"unasked", drift.unasked},
                 {"differences", rows},
                 {"reach", reach_changes(drift.reach)},
                 {"expectations", expectation_changes(drift.expectations)}});
}

std::string mend_json(const plan::Plan& plan, const mend::Outcome& outcome,
                      std::string_view difference, bool written) {
    constexpr const char* proofs[] = {"nothing-to-do", "smallest", "best-found", "none"};
    json rows = json::array();
    for (const mend::Change& change : outcome.changes) {
        json against = json::array();
        for (const mend::Decision& decision : change.against)
            against.push_back({{"says", decision.words}, {"at", place(decision.at)}});
        rows.push_back({{"cause", plan::slug(change.cause)},
                        {"explanation", change.reason},
                        {"at", place(change.at)},
                        {"changes", changes(change.edits)},
                        {"against", against}});
    }
    auto obstacles = [](const std::vector<mend::Obstacle>& list) {
        json found = json::array();
        for (const mend::Obstacle& obstacle : list)
            found.push_back(
                {{"cause", plan::slug(obstacle.cause)},
                 {"explanation", obstacle.message},
                 {"advice", obstacle.advice.empty() ? json(nullptr) : json(obstacle.advice)},
                 {"at", place(obstacle.at)}});
        return found;
    };
    return text({{"lab", plan.lab},
                 {"healthy", outcome.is_healthy()},
                 {"proof", proofs[static_cast<std::size_t>(outcome.proof)]},
                 {"changes", rows},
                 {"left", obstacles(outcome.left)},
                 {"brought", obstacles(outcome.brought)},
                 {"proposed", outcome.proposed},
                 {"tried", outcome.tried},
                 {"difference", difference},
                 {"written", written}});
}

std::string sweep_json(const Lab& lab, const reach::SweepQuestion& question,
                       const reach::Sweep& sweep) {
    json cuts = json::array();
    for (const reach::CutEffect& effect : sweep.cuts) {
        json names = json::array();
        for (const routing::Cut& cut : effect.cut)
            names.push_back(routing::to_string(lab, cut));
        json losses = json::array();
        for (const reach::CutLoss& loss : effect.losses)
            losses.push_back({{"from", sweep.rows[loss.from]},
                              {"to", sweep.columns[loss.to]},
                              {"lost", loss.lost},
                              {"moved", loss.moved}});
        json expectations = json::array();
        for (std::size_t number : effect.expectations) {
            const plan::Expectation& wanted = lab.expectations[number];
            expectations.push_back({{"from", wanted.from.value},
                                    {"to", wanted.to.value},
                                    {"service", maybe(wanted.service)},
                                    {"gets", wanted.gets.value},
                                    {"at", place(wanted.at)}});
        }
        json settles =
            effect.settles_after ? json(milliseconds(*effect.settles_after)) : json(nullptr);
        cuts.push_back({{"cut", names},
                        {"kind", reach::to_string(effect.kind)},
                        {"lost", effect.lost},
                        {"own", effect.own},
                        {"gained", effect.gained},
                        {"moved", effect.moved},
                        {"losses", losses},
                        {"more_losses", effect.more_losses},
                        {"expectations", expectations},
                        {"settles_after_ms", settles}});
    }
    return text({{"lab", lab.name},
                 {"family", family(question.family)},
                 {"service", maybe(question.service)},
                 {"pairs", sweep.pairs},
                 {"replies", sweep.replies},
                 {"asked", sweep.asked},
                 {"independent", sweep.independent},
                 {"cuts", cuts}});
}

std::string grid_json(const Lab& lab, const reach::GridQuestion& question,
                      const reach::Grid& grid) {
    json cells = json::array();
    for (std::size_t row = 0; row < grid.rows.size(); ++row)
        for (std::size_t column = 0; column < grid.columns.size(); ++column)
            if (const reach::Cell& cell = grid.cell(row, column); cell.pairs != 0)
                cells.push_back({{"from", grid.rows[row]},
                                 {"to", grid.columns[column]},
                                 {"pairs", cell.pairs},
                                 {"replies", cell.replies}});
    json gaps = json::array();
    for (const reach::GridGap& gap : grid.gaps)
        gaps.push_back({{"cause", plan::slug(gap.first.cause)},
                        {"where", lab.machines[gap.first.where].name},
                        {"pairs", gap.pairs},
                        {"first", {gap.from, gap.to}},
                        {"explanation", gap.first.explanation},
                        {"at", place(gap.first.at)},
                        {"remedy", remedy_text(gap.first.remedy)}});
    return text(
        {{"lab", lab.name},
         {"by", reach::to_string(question.by)},
         {"family", family(question.family)},
         {"service", question.service ? json(net::to_string(*question.service)) : json(nullptr)},
         {"rows", grid.rows},
         {"columns", grid.columns},
         {"cells", cells},
         {"gaps", gaps},
         {"unexplained", grid.unexplained}});
}

std::string services_json(const Lab& lab, const reach::GridQuestion& question,
                          const reach::ServicesGrid& grid) {
    json cells = json::array();
    for (std::size_t row = 0; row < grid.rows.size(); ++row)
        for (std::size_t column = 0; column < grid.columns.size(); ++column) {
            json through = json::array();
            for (const reach::Through& some : grid.cell(row, column).through) {
                json services = json::array();
                for (const reach::ServiceRange& range : some.services)
                    services.push_back(reach::to_string({range}));
                through.push_back({{"pairs", some.pairs}, {"services", services}});
            }
            if (!through.empty())
                cells.push_back(
                    {{"from", grid.rows[row]}, {"to", grid.columns[column]}, {"through", through}});
        }
    return text({{"lab", lab.name},
                 {"by", reach::to_string(question.by)},
                 {"family", family(question.family)},
                 {"service", "any"},
                 {"rows", grid.rows},
                 {"columns", grid.columns},
                 {"cells", cells}});
}

std::string ways_json(const Lab& lab, lab::SiteId one, lab::SiteId other,
                      const std::vector<reach::Way>& ways) {
    json rows = json::array();
    for (const reach::Way& way : ways) {
        bool can = way.impossible.empty();
        rows.push_back({{"way", reach::to_string(way.kind)},
                        {"impossible", can ? json(nullptr) : json(way.impossible)},
                        {"pairs", way.pairs},
                        {"replies", way.replies},
                        {"rtt_ms", can && way.replies != 0 ? json(milliseconds(way.round_trip))
                                                           : json(nullptr)},
                        {"mtu", can && way.replies != 0 ? json(way.mtu_bytes) : json(nullptr)},
                        {"hourly_cost", way.hourly_cost},
                        {"gap", way.gap.empty() ? json(nullptr) : json(way.gap)},
                        {"changes", way_lines(way)}});
    }
    return text({{"lab", lab.name},
                 {"between", {lab.sites[one].name, lab.sites[other].name}},
                 {"ways", rows}});
}

std::string start_order_json(const Lab& lab) {
    json rows = json::array();
    for (const lab::Start& start : lab::start_order(lab)) {
        json after = json::array();
        for (lab::MachineId id : start.after)
            after.push_back(lab.machines[id].name);
        rows.push_back({{"round", start.round},
                        {"machine", lab.machines[start.machine].name},
                        {"after", after}});
    }
    return text({{"lab", lab.name}, {"order", rows}});
}

std::string renumbering_json(const Renumbering& renumbering, bool written) {
    json rows = json::array();
    for (const Renumbered& row : renumbering.table)
        rows.push_back(
            {{"what", row.what}, {"from", row.before}, {"to", row.after}, {"meant", row.meant}});
    json left = json::array();
    for (const plan::Problem& problem : renumbering.left)
        left.push_back({{"at", place(problem.at)}, {"explanation", problem.message}});
    json brought = json::array();
    for (const lab::Finding& finding : renumbering.brought)
        brought.push_back({{"finding", plan::slug(finding.cause)},
                           {"subject", finding.subject},
                           {"explanation", finding.message},
                           {"at", place(finding.at)}});
    return text({{"written", written}, {"rows", rows}, {"left", left}, {"brings", brought}});
}

std::string why_json(const plan::Plan& plan, const std::string& name,
                     const std::vector<Why>& whys) {
    json rows = json::array();
    for (const Why& why : whys)
        rows.push_back({{"prefix", to_string(why.prefix)}, {"why", why.text}});
    return text({{"lab", plan.lab}, {"segment", name}, {"prefixes", rows}});
}

namespace {

// A route that a protocol has, whether or not it is used.
json offer_value(const Lab& lab, const routing::Offer& offer) {
    json gates = json::array();
    for (const routing::Gate& gate : offer.gates)
        gates.push_back({{"out", maybe_nic(lab, gate.out)},
                         {"via", gate.is_direct() ? json(nullptr) : json(to_string(gate.via))}});
    json value = {{"to", to_string(offer.to)},
                  {"kind", routing::to_string(offer.kind)},
                  {"distance", routing::administrative_distance(offer.kind)},
                  {"metric", offer.metric},
                  {"from", offer.from ? json(lab.machines[offer.from].name) : json(nullptr)},
                  {"next_hops", gates}};
    if (offer.kind == routing::RouteKind::ospf) {
        value["type"] = routing::to_string(offer.type);
        value["area"] = offer.area;
    } else if (offer.kind != routing::RouteKind::rip) {
        json communities = json::array();
        for (plan::Community community : offer.path.communities)
            communities.push_back(plan::community_text(community));
        value["as_path"] = offer.path.as_path;
        value["local_preference"] = offer.path.local_preference;
        value["communities"] = communities;
        value["originator"] = maybe(offer.path.originator);
        json clusters = json::array();
        for (const net::Address& cluster : offer.path.clusters)
            clusters.push_back(to_string(cluster));
        value["clusters"] = clusters;
        value["decision"] = routing::to_string(offer.lost_by);
    }
    return value;
}

} // namespace

std::string routes_json(const routing::Settled& settled,
                        const std::vector<lab::MachineId>& machines,
                        std::optional<net::Address> destination) {
    const Lab& lab = settled.lab();
    json tables = json::array();
    for (lab::MachineId id : machines) {
        json rows = json::array();
        auto add = [&](const routing::Route& route) {
            rows.push_back(
                {{"to", to_string(route.to)},
                 {"kind", routing::to_string(route.kind)},
                 {"out", maybe_nic(lab, route.out)},
                 {"via", route.has_next_hop() ? json(to_string(route.via)) : json(nullptr)},
                 {"source", route.source ? json(to_string(lab.addresses[route.source].address))
                                         : json(nullptr)},
                 {"distance", routing::administrative_distance(route.kind)},
                 {"metric", route.metric}});
        };
        if (destination) {
            if (auto route = settled.route(id, *destination))
                add(*route);
        } else {
            for (const routing::Route& route : settled.routes(id))
                add(route);
        }
        json offers = json::array();
        for (const routing::Offer& offer : settled.learned(id).offers(id))
            if (!destination || offer.to.contains(*destination))
                offers.push_back(offer_value(lab, offer));
        tables.push_back(
            {{"machine", lab.machines[id].name}, {"routes", rows}, {"learned", offers}});
    }
    return text({{"lab", lab.name}, {"destination", maybe(destination)}, {"tables", tables}});
}

std::string provenance_json(const routing::Settled& settled, lab::MachineId machine,
                            net::Address destination, const routing::Provenance& provenance,
                            const mend::Mending* mending) {
    const Lab& lab = settled.lab();
    json passages = json::array();
    for (const routing::Passage& passage : provenance.passages) {
        json others = json::array();
        for (const routing::Offer& offer : passage.others)
            others.push_back(offer_value(lab, offer));
        passages.push_back(
            {{"machine", lab.machines[passage.machine].name},
             {"kind", routing::to_string(passage.route.kind)},
             {"out", maybe_nic(lab, passage.route.out)},
             {"learned", passage.offer ? offer_value(lab, *passage.offer) : json(nullptr)},
             {"others", others}});
    }
    json stopped = json::array();
    for (const routing::Stopped& one : provenance.stopped)
        stopped.push_back({{"knows", lab.machines[one.knows].name},
                           {"lacks", lab.machines[one.lacks].name},
                           {"protocol", routing::to_string(one.neighbour.protocol)},
                           {"to", to_string(one.to)},
                           {"why", routing::to_string(one.why)}});
    json value = {{"lab", lab.name},
                  {"machine", lab.machines[machine].name},
                  {"destination", to_string(destination)},
                  {"to", provenance.to ? json(to_string(*provenance.to)) : json(nullptr)},
                  {"passages", passages},
                  {"stopped", stopped}};
    value["remedy"] = nullptr;
    add_mending(value, mending);
    return text(value);
}

std::string neighbours_json(const routing::Settled& settled,
                            const std::vector<routing::Neighbour>& neighbours) {
    const Lab& lab = settled.lab();
    json rows = json::array();
    for (const routing::Neighbour& n : neighbours) {
        json row = {{"protocol", routing::to_string(n.protocol)},
                    {"family", to_string(n.family)},
                    {"machine", lab.machines[n.machine].name},
                    {"nic", maybe_nic(lab, n.nic)},
                    {"neighbour", n.other ? json(lab.machines[n.other].name) : json(nullptr)},
                    {"state", routing::state_name(n)},
                    {"designated", n.designated},
                    {"virtual_link", n.transit ? json(*n.transit) : json(nullptr)},
                    {"reason", nullptr},
                    {"explanation", nullptr}};
        if (n.discord != routing::Discord::none) {
            row["reason"] = routing::slug(n.discord);
            row["explanation"] = routing::describe(lab, n).message;
        }
        rows.push_back(row);
    }
    return text({{"lab", lab.name}, {"neighbours", rows}});
}

std::string announced_json(const routing::Settled& settled,
                           const std::vector<routing::Neighbour>& neighbours) {
    const Lab& lab = settled.lab();
    json rows = json::array();
    for (const routing::Neighbour& n : neighbours) {
        json offers = json::array();
        for (const routing::Offer& offer : settled.learned(n.machine).announced(n))
            offers.push_back(offer_value(lab, offer));
        rows.push_back({{"machine", lab.machines[n.machine].name},
                        {"protocol", routing::to_string(n.protocol)},
                        {"family", to_string(n.family)},
                        {"neighbour", n.other ? json(lab.machines[n.other].name) : json(nullptr)},
                        {"announces", offers}});
    }
    return text({{"lab", lab.name}, {"announced", rows}});
}

std::string link_states_json(const routing::Settled& settled,
                             const std::vector<lab::MachineId>& machines) {
    const Lab& lab = settled.lab();
    json databases = json::array();
    for (lab::MachineId id : machines) {
        json rows = json::array();
        for (const routing::LinkState& state : settled.learned(id).link_states(id))
            rows.push_back({{"kind", routing::to_string(state.kind)},
                            {"family", to_string(state.family)},
                            {"area", state.area},
                            {"origin", lab.machines[state.origin].name},
                            {"to", state.neighbour ? json(lab.machines[state.neighbour].name)
                                                   : json(to_string(state.to))},
                            {"cost", state.cost},
                            {"type", state.type == 0 ? json(nullptr) : json(state.type)},
                            {"forwarding_address", maybe(state.forward)}});
        if (!rows.empty())
            databases.push_back({{"machine", lab.machines[id].name}, {"link_states", rows}});
    }
    return text({{"lab", lab.name}, {"databases", databases}});
}

std::string ping_json(const routing::Settled& settled, const probe::PingAnswer& answer,
                      const mend::Mending* mending) {
    return text(ping_value(settled, answer, mending));
}

namespace {

json way_value(const Lab& lab, const std::optional<packet::Journey>& journey) {
    json machines = json::array();
    if (journey)
        for (const packet::Step& step : journey->steps)
            machines.push_back(lab.machines[step.machine].name);
    return machines;
}

} // namespace

std::string ways_of_ping_json(const routing::Settled& settled,
                              const std::vector<probe::PingAnswer>& answers) {
    const Lab& lab = settled.lab();
    json ways = json::array();
    for (const probe::PingAnswer& answer : answers) {
        const auto& d = answer.diagnosis;
        json way = {{"verdict", probe::to_string(answer.outcome())},
                    {"out", way_value(lab, answer.out)},
                    {"back", way_value(lab, answer.back)},
                    {"cause", d ? json(plan::slug(d->cause)) : json(nullptr)}};
        if (std::ranges::find(ways, way) == ways.end())
            ways.push_back(std::move(way));
    }
    return text({{"from", answers.front().question.from.name},
                 {"to", answers.front().question.to.name},
                 {"ways", ways}});
}

std::string timeline_json(const Lab& lab, const probe::TimelineQuestion& question,
                          const probe::Timeline& timeline) {
    json events = json::array();
    for (const probe::TimelineEvent& event : timeline.events)
        events.push_back({{"at_ms", milliseconds(event.at)},
                          {"does", event.mends ? "mend" : "cut"},
                          {"what", to_string(lab, event.what)}});
    json stretches = json::array();
    for (const probe::Stretch& stretch : timeline.stretches) {
        const auto& d = stretch.answer.diagnosis;
        stretches.push_back(
            {{"from_ms", milliseconds(stretch.from)},
             {"until_ms", milliseconds(stretch.until)},
             {"first", stretch.first},
             {"sent", stretch.count},
             {"received", stretch.received},
             {"out", way_value(lab, stretch.answer.out)},
             {"back", way_value(lab, stretch.answer.back)},
             {"rtt_ms", stretch.answer.reaches ? json(milliseconds(stretch.answer.round_trip.mean))
                                               : json(nullptr)},
             {"cause", d ? json(plan::slug(d->cause)) : json(nullptr)},
             {"explanation", d ? json(d->explanation) : json(nullptr)}});
    }
    json turns = json::array();
    for (const probe::Turn& turn : timeline.turns)
        turns.push_back({{"at_ms", milliseconds(turn.at)},
                         {"machine", lab.machines[turn.machine].name},
                         {"event", turn.event}});
    const auto between = timeline.outage_of_daemons();
    return text(
        {{"from", question.ping.from.name},
         {"to", question.ping.to.name},
         {"interval_ms", milliseconds(question.interval)},
         {"sent", timeline.sent},
         {"received", timeline.received},
         {"longest_outage_ms", milliseconds(timeline.longest_outage())},
         {"outage_of_daemons_ms", {milliseconds(between.first), milliseconds(between.second)}},
         {"events", events},
         {"stretches", stretches},
         {"turns", turns}});
}

std::string trace_json(const routing::Settled& settled, const probe::TraceAnswer& answer,
                       const mend::Mending* mending) {
    const Lab& lab = settled.lab();
    json hops = json::array();
    for (const probe::TraceHop& hop : answer.hops) {
        json rtt = hop.address ? json(milliseconds(hop.round_trip)) : json(nullptr);
        std::string_view said = packet::to_string(hop.error);
        hops.push_back({{"ttl", hop.ttl},
                        {"machine", lab.machines[hop.machine].name},
                        {"address", maybe(hop.address)},
                        {"says", !hop.address   ? json(nullptr)
                                 : said.empty() ? json("reply")
                                                : json(said)},
                        {"rtt_ms", rtt}});
    }
    return text({{"hops", hops}, {"ping", ping_value(settled, answer.ping, mending)}});
}

std::string verify_json(const Lab& lab, const std::vector<reach::Verdict>& verdicts) {
    json rows = json::array();
    for (const reach::Verdict& verdict : verdicts) {
        const plan::Expectation& wanted = lab.expectations[verdict.expectation];
        json row = {{"from", wanted.from.value},        {"to", wanted.to.value},
                    {"service", maybe(wanted.service)}, {"gets", wanted.gets.value},
                    {"passed", verdict.passed},         {"pairs", verdict.pairs},
                    {"failed", verdict.failed},         {"at", place(wanted.at)}};
        row["explanation"] =
            verdict.explanation.empty() ? json(nullptr) : json(verdict.explanation);
        rows.push_back(row);
    }
    return text({{"lab", lab.name}, {"expectations", rows}});
}

} // namespace jackal::exports
