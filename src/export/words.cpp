#include "jackal/export/words.h"

#include "jackal/net/special_use.h"
#include "jackal/plan/write.h"
#include "jackal/routing/discord.h"

#include <algorithm>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <map>
#include <set>

namespace jackal::exports {

using net::to_string;
using packet::Ending;
using packet::Journey;

namespace {

std::string target(const net::Prefix& to) {
    return to.length() == 0 ? "default" : to_string(to);
}

// The name of the machine that has the address, in brackets, or nothing.
std::string holder(const lab::Lab& lab, net::Address address) {
    auto owners = lab.owners_of(address);
    return owners.empty() ? "" : fmt::format(" ({})", lab.machine_name(owners.front().nic));
}

// "filter quiet, rule 2 (way in)".
std::string denial_text(const lab::Lab& lab, const packet::Denial& denial) {
    std::string rule = denial.rule == lab::RuleIndex::none
                           ? "its default"
                           : fmt::format("rule {}", denial.rule + 1);
    return fmt::format("filter {}{}, {} (way {})", lab.filters[denial.filter].name,
                       denial.nic ? " on " + lab.nics[denial.nic].name : "", rule,
                       plan::to_string(denial.way));
}

std::string end_text(net::Address address, std::uint16_t port) {
    if (port == 0)
        return to_string(address);
    return address.family() == net::Family::ipv6 ? fmt::format("[{}]:{}", to_string(address), port)
                                                 : fmt::format("{}:{}", to_string(address), port);
}

std::string drop_detail(const lab::Lab& lab, const Journey& journey, const packet::Step& step) {
    std::string segment = step.out ? lab.segment_name(lab.nics[step.out].segment) : "";
    switch (journey.ending) {
    case Ending::machine_off: return "is off";
    case Ending::no_route:
        return fmt::format("no route to {}", to_string(journey.flow.destination));
    case Ending::not_forwarding: return "does not forward";
    case Ending::no_neighbour:
        if (!journey.crossings.empty() && !journey.crossings.back().works)
            return fmt::format("the {} does not work", segment);
        return fmt::format("nobody on {} answers for {}", segment, to_string(journey.next_hop));
    case Ending::which_neighbour:
        if (lab.nics[journey.answering.front()].shares_mac)
            return fmt::format("{} NICs on {} have one MAC", journey.answering.size(), segment);
        return fmt::format("{} machines on {} answer for {}", journey.answering.size(), segment,
                           to_string(journey.next_hop));
    case Ending::shared_source:
        return fmt::format("has {}, as the next machine has", to_string(journey.next_hop));
    case Ending::ttl_expired: return "TTL has run out";
    case Ending::too_big_to_take:
        return fmt::format("{} bytes do not fit the MTU of {}", journey.packet.size_bytes,
                           lab.nics[step.in].mtu_bytes);
    case Ending::too_big:
        return fmt::format("{} bytes do not fit the MTU of {}", journey.packet.size_bytes,
                           lab.nics[step.out].mtu_bytes);
    case Ending::own_source:
        return fmt::format("has the source address {} itself", to_string(journey.flow.source));
    case Ending::filtered: return denial_text(lab, journey.denial);
    case Ending::not_relayed: return "relays nothing between peers";
    case Ending::to_broadcast:
        if (journey.next_hop != net::Address{})
            return fmt::format("came to {}, which means all of {}", to_string(journey.next_hop),
                               lab.segment_name(lab.nics[step.in].segment));
        return fmt::format("{} means all of {}", to_string(journey.flow.destination), segment);
    case Ending::older_flow:
        return fmt::format("forgets the flow, which it translated for {}",
                           to_string(journey.flow.source));
    case Ending::delivered: break;
    }
    return "";
}

} // namespace

std::string counted(std::size_t n, std::string_view noun) {
    return fmt::format("{} {}{}", n, noun, n == 1 ? "" : "s");
}

std::string step_detail(const routing::Settled& settled, const Journey& journey,
                        std::size_t index) {
    const lab::Lab& lab = settled.lab();
    const packet::Step& step = journey.steps[index];
    if (step.action == packet::Action::drop)
        return drop_detail(lab, journey, step);
    if (step.action == packet::Action::deliver)
        return fmt::format("has {}", to_string(journey.flow.destination));
    auto route = settled.route(step.machine, journey.flow_at(index).destination);
    if (route->kind == routing::RouteKind::broadcast)
        return fmt::format("{} means all of a segment", to_string(route->to.first()));
    if (!route->has_next_hop())
        return fmt::format("{} is {}", to_string(route->to),
                           route->kind == routing::RouteKind::connected ? "connected"
                                                                        : "on the same segment");
    return fmt::format("{} via {}{}", target(route->to), to_string(route->via),
                       holder(lab, route->via));
}

std::string switch_text(const routing::Settled& settled, const Journey& journey,
                        std::size_t index) {
    const lab::Lab& lab = settled.lab();
    if (index == 0 || !lab.has_wiring())
        return "";
    std::string text;
    lab::SwitchId at;
    for (lab::PortId id :
         settled.wiring().way(journey.steps[index - 1].out, journey.steps[index].in)) {
        const lab::Port& port = lab.ports[id];
        if (port.owner == at)
            text += fmt::format(" > {}", port.name);
        else
            text += fmt::format("{}{} {}", text.empty() ? "" : ", ", lab.switches[port.owner].name,
                                port.name);
        at = port.owner;
    }
    return text;
}

namespace {

// Collects what each filter says of a packet that it let pass.
struct Passed {
    const lab::Lab& lab;
    std::vector<std::string> texts;

    void by(lab::FilterId id, plan::Way way, const net::Flow& flow, lab::NicId nic) {
        if (!id)
            return;
        const lab::Filter& filter = lab.filters[id];
        std::uint32_t rule = filter.index.first(way, flow);
        bool is_default = rule == lab::RuleIndex::none;
        bool allows = is_default ? filter.allows : filter.rules[rule].allows;
        std::string place = nic ? " on " + lab.nics[nic].name : "";
        std::string why = !allows      ? "knows the flow"
                          : is_default ? "allows what no rule names"
                                       : fmt::format("allows it by rule {}", rule + 1);
        texts.push_back(fmt::format("filter {}{} {}", filter.name, place, why));
    }

    void on_nic(lab::NicId nic, plan::Way way, const net::Flow& flow) {
        if (!nic || !lab.nics[nic].guard)
            return;
        const lab::Guard& guard = lab.guards[lab.nics[nic].guard];
        by(guard.subnet, way, flow, nic);
        by(guard.nic, way, flow, nic);
    }
};

} // namespace

std::vector<std::string> filter_texts(const routing::Settled& settled, const Journey& journey,
                                      std::size_t index) {
    const packet::Step& step = journey.steps[index];
    Passed passed{settled.lab(), {}};
    if (step.action == packet::Action::drop || passed.lab.filters.size() == 0)
        return {};
    net::Flow came = index == 0 ? journey.packet.flow() : journey.flow_at(index - 1);
    net::Flow leaves = journey.flow_at(index);
    net::Flow within = leaves; // destinations are translated before, sources after
    within.source = came.source;
    within.source_port = came.source_port;
    passed.on_nic(step.in, plan::Way::in, came);
    if (const lab::Duties* duties = passed.lab.duties_of(step.machine);
        duties != nullptr && duties->filter)
        passed.by(duties->filter,
                  !step.in    ? plan::Way::out
                  : !step.out ? plan::Way::in
                              : plan::Way::through,
                  within, {});
    passed.on_nic(step.out, plan::Way::out, leaves);
    return std::move(passed.texts);
}

const packet::Crossing* crossing_at(const Journey& journey, std::size_t step) {
    for (const packet::Crossing& crossing : journey.crossings)
        if (crossing.step == step)
            return &crossing;
    return nullptr;
}

std::string crossing_text(const lab::Lab& lab, const packet::Crossing& crossing) {
    const lab::Link& link = lab.links[crossing.tunnel];
    if (!link.outer)
        return "its ends have no addresses of one family";
    if (!crossing.outer)
        return "inside itself";
    const packet::Packet& packet = crossing.outer->packet;
    std::string_view way = crossing.is_way_back ? "the way back fails: " : "";
    return fmt::format("{}in UDP from {} to {}, {} bytes longer", way, to_string(packet.source),
                       to_string(packet.destination),
                       lab::tunnel_overhead_bytes(packet.source.family()));
}

std::string wires_text(const lab::Lab& lab, lab::NicId nic) {
    std::string text;
    for (const lab::Plug& plug : lab.plugs_of(nic)) {
        if (!plug.member.empty())
            text += fmt::format("{}{}{}", text.empty() ? "a bond of " : ", ", plug.member,
                                plug.up ? "" : " (down)");
        if (plug.port)
            text += (plug.member.empty() ? "on " : " on ") + lab.port_name(plug.port);
        if (plug.vlan != 0)
            text += fmt::format(" VLAN {}", plug.vlan);
    }
    return text;
}

std::string port_text(const lab::Port& port) {
    if (!port.is_trunk)
        return fmt::format("VLAN {}", port.untagged);
    std::string text = fmt::format("trunk {}", fmt::join(port.tagged, ", "));
    if (port.untagged != 0)
        text += fmt::format(", native {}", port.untagged);
    return text;
}

std::vector<std::string> rewrite_texts(const Journey& journey, std::size_t index) {
    std::vector<std::string> texts;
    for (const packet::Rewrite& rewrite : journey.rewrites) {
        if (rewrite.step != index)
            continue;
        const net::Flow& before = rewrite.before;
        const net::Flow& after = rewrite.after;
        bool same_source = before.source == after.source && before.source_port == after.source_port;
        bool same_destination = before.destination == after.destination
                                && before.destination_port == after.destination_port;
        if (!same_source)
            texts.push_back(fmt::format("source {} becomes {}",
                                        end_text(before.source, before.source_port),
                                        end_text(after.source, after.source_port)));
        if (!same_destination)
            texts.push_back(fmt::format("destination {} becomes {}",
                                        end_text(before.destination, before.destination_port),
                                        end_text(after.destination, after.destination_port)));
    }
    return texts;
}

std::vector<std::string> way_lines(const reach::Way& way) {
    std::vector<plan::Edit> edits = way.common;
    for (const auto& some : way.at)
        edits.insert(edits.end(), some.begin(), some.end());
    auto is_new = [](const plan::Edit& edit) { return edit.move == plan::Move::add_router; };
    std::ranges::stable_partition(edits, is_new); // others refer to them
    return lab::to_lines({edits, ""});
}

std::string translation_text(const lab::Lab& lab, const lab::Translation& translation) {
    const std::string& nic = lab.nics[translation.nic].name;
    if (translation.kind == plan::Translation::Kind::source) {
        std::vector<std::string> from;
        for (const net::Prefix& prefix : translation.from)
            from.push_back(to_string(prefix));
        return fmt::format("sources of what leaves by {}{}", nic,
                           translation.any_source ? ""
                                                  : fmt::format(" from {}", fmt::join(from, ", ")));
    }
    std::string what = "what";
    if (translation.port != 0)
        what = to_string(net::Service{translation.protocol, translation.port}) + " that";
    else if (translation.protocol != net::Protocol::any)
        what = fmt::format("{} that", net::to_string(translation.protocol));
    return fmt::format("{} comes in by {} to {}", what, nic,
                       translation.to ? end_text(*translation.to, translation.to_port) : "nobody");
}

std::vector<std::string> filters_on(const lab::Lab& lab, lab::NicId nic) {
    std::vector<std::string> names;
    if (lab.nics[nic].guard) {
        const lab::Guard& guard = lab.guards[lab.nics[nic].guard];
        for (lab::FilterId filter : {guard.subnet, guard.nic})
            if (filter)
                names.push_back(lab.filters[filter].name);
    }
    return names;
}

std::string_view kind_text(const lab::Machine& machine) {
    if (machine.outside)
        return "outside";
    if (machine.is_core)
        return "core";
    return machine.kind == plan::MachineKind::guest ? "guest" : "router";
}

std::string_view to_string(lab::AddressOrigin origin) {
    switch (origin) {
    case lab::AddressOrigin::given: return "written";
    case lab::AddressOrigin::gateway: return "gateway";
    case lab::AddressOrigin::automatic: return "next free";
    case lab::AddressOrigin::pinned: return "pinned";
    case lab::AddressOrigin::lease: return "lease";
    case lab::AddressOrigin::link_local: return "link-local";
    case lab::AddressOrigin::loopback: return "loopback";
    case lab::AddressOrigin::link: break;
    }
    return "link";
}

std::string mask_text(const net::Prefix& prefix) {
    if (prefix.family() == net::Family::ipv6)
        return fmt::format("/{}", prefix.length());
    std::uint64_t ones = 0xffff'ffffULL << prefix.host_bits();
    return to_string(net::Address::ipv4(static_cast<std::uint32_t>(ones)));
}

std::string_view to_string(lab::Whose::Kind kind) {
    using Kind = lab::Whose::Kind;
    switch (kind) {
    case Kind::machine: return "machine";
    case Kind::gateway: return "gateway";
    case Kind::network: return "network";
    case Kind::broadcast: return "broadcast";
    case Kind::dhcp: return "dhcp";
    case Kind::reserved: return "reserved";
    case Kind::free: return "free";
    case Kind::space: return "space";
    case Kind::lan: return "lan";
    case Kind::outside: break;
    }
    return "outside";
}

namespace {

std::string owners_text(const lab::Lab& lab, std::span<const lab::Owner> owners) {
    std::string text;
    for (const lab::Owner& owner : owners) {
        const lab::Nic& nic = lab.nics[owner.nic];
        bool router = lab.machines[owner.machine].kind == plan::MachineKind::router;
        text += fmt::format("{}{}, {} on {}", text.empty() ? "" : "; and ", lab.nic_name(owner.nic),
                            router ? "router" : "guest", lab.segment_name(nic.segment));
        for (lab::AddressId id : lab.addresses_of(owner.nic))
            if (lab.addresses[id].address == owner.address)
                text += fmt::format(" ({})", to_string(lab.addresses[id].origin));
    }
    return text;
}

} // namespace

std::string site_text(const lab::Lab& lab, lab::SiteId site) {
    const std::string& name = lab.sites[site].name;
    return name.empty() ? "the lab" : "site " + name;
}

namespace {

// "60 hosts, 30 for growth and a gateway make 91 addresses".
std::string wanted_text(const lab::Wanted& wanted) {
    std::vector<std::string> parts{fmt::format("{} hosts", wanted.hosts)};
    if (wanted.growth != 0)
        parts.push_back(fmt::format("{} for growth", wanted.growth));
    if (wanted.gateway != 0)
        parts.emplace_back("a gateway");
    if (wanted.reserved != 0)
        parts.push_back(fmt::format("{} reserved", wanted.reserved));
    if (parts.size() == 1)
        return parts.front();
    std::string last = std::move(parts.back());
    parts.pop_back();
    return fmt::format("{} and {} make {} addresses", fmt::join(parts, ", "), last, wanted.sum());
}

// Why a prefix has the length it has.
std::string length_text(const plan::Subnet& subnet, const net::Prefix& prefix) {
    if (prefix.family() == net::Family::ipv6)
        return subnet.ipv6_size == 64
                   ? "an IPv6 subnet is a /64 (RFC 4291 section 2.5.4)"
                   : fmt::format("the plan asks for a /{}", int{subnet.ipv6_size});
    if (subnet.size)
        return fmt::format("the plan asks for a /{}", subnet.size->value);
    if (!subnet.hosts)
        return "the plan asks for no size, so it is a /24";
    return fmt::format("{}, for which a /{} with {} is the smallest",
                       wanted_text(lab::wanted(subnet)), prefix.length(), prefix.usable());
}

std::string why_text(const plan::Plan& plan, const plan::Subnet* subnet, const net::Prefix& prefix,
                     const lab::Reason& reason) {
    using Kind = lab::Reason::Kind;
    std::string length = subnet != nullptr         ? length_text(*subnet, prefix)
                         : prefix.host_bits() == 0 ? "a loopback is a single address"
                         : prefix.family() == net::Family::ipv4
                             ? "a link needs no more than a /31 (RFC 3021)"
                             : "a link needs no more than a /127 (RFC 6164)";
    switch (reason.kind) {
    case Kind::written:
        return fmt::format("it is written in the plan ({})", to_string(reason.at, plan.source));
    case Kind::pinned:
        return fmt::format("it is pinned in the plan ({})", to_string(reason.at, plan.source));
    case Kind::derived:
        return length
               + ", and its number is read from the IPv4 prefix: the digits of the third "
                 "byte, then the upper half of the fourth";
    case Kind::placed:
        return fmt::format("{}; larger wishes went first, and {} was then the smallest free block "
                           "that held it",
                           length, to_string(*reason.block));
    case Kind::none: break;
    }
    return "it has none";
}

// The segment that a name on the command line means.
std::optional<lab::SegmentId> segment_named(const lab::Lab& lab, std::string_view name) {
    if (auto subnet = lab.subnet(name))
        return lab.subnets[*subnet].segment;
    if (name.ends_with("/lo"))
        if (auto machine = lab.machine(name.substr(0, name.size() - 3)))
            if (auto nic = lab.nic(*machine, "lo"))
                return lab.nics[*nic].segment;
    for (const lab::Link& link : lab.links)
        if (name == lab.machine_name(link.first) + "--" + lab.machine_name(link.second)
            || name == lab.machine_name(link.second) + "--" + lab.machine_name(link.first))
            return link.segment;
    return std::nullopt;
}

} // namespace

std::vector<Why> why(const plan::Plan& plan, const lab::Lab& lab, std::string_view name) {
    auto id = segment_named(lab, name);
    if (!id)
        return {};
    const lab::Segment& segment = lab.segments[*id];
    const plan::Complete whole(plan);
    const lab::Reasons all = lab::reasons(whole);
    const auto& reasons = segment.subnet ? all.subnets[segment.subnet.row]
                          : segment.link ? all.links[segment.link.row]
                                         : all.loopbacks[segment.loopback.row];
    const plan::Subnet* subnet =
        segment.subnet ? &whole.entries().subnets[segment.subnet.row] : nullptr;
    std::vector<Why> whys;
    for (net::Family family : net::both_families)
        if (const auto& prefix = segment.prefix[family])
            whys.push_back({*prefix, why_text(plan, subnet, *prefix, reasons[family])});
    return whys;
}

std::string whose_text(const lab::Lab& lab, net::Address address, const lab::Whose& whose) {
    using Kind = lab::Whose::Kind;
    std::string place = whose.segment ? fmt::format("{} ({})", lab.segment_name(whose.segment),
                                                    to_string(*whose.prefix))
                                      : "";
    if (whose.site && !lab.sites[whose.site].name.empty() && whose.segment)
        place += fmt::format(", site {}", lab.sites[whose.site].name);
    switch (whose.kind) {
    case Kind::machine: {
        std::string text = "is " + owners_text(lab, whose.owners);
        return place.empty() ? text + "; in no subnet of the lab" : text + "; in " + place;
    }
    case Kind::gateway: return "is the gateway of " + place + ", which no machine has";
    case Kind::network: return "is the network address of " + place;
    case Kind::broadcast: return "is the broadcast address of " + place;
    case Kind::free: return "is free, in " + place;
    case Kind::dhcp: return "is one that DHCP gives out, in " + place;
    case Kind::reserved: return "is reserved, in " + place;
    case Kind::space:
        return fmt::format("is in no subnet; space {} of {}", to_string(*whose.prefix),
                           whose.pool ? "pool " + lab.pools[whose.pool].name
                                      : site_text(lab, whose.site));
    case Kind::lan:
        return fmt::format("is part of {}, the network around the lab", to_string(*whose.prefix));
    case Kind::outside: break;
    }
    const auto* special = net::special_use({address, net::address_bits(address.family())});
    return fmt::format("is outside the lab{}",
                       special == nullptr
                           ? ""
                           : fmt::format("; it is for {} ({})", special->meaning, special->source));
}

std::string as_path_text(const routing::Path& path) {
    std::string text;
    for (std::uint32_t as : path.as_path)
        text += (text.empty() ? "" : " ") + fmt::format("{}", as);
    return text.empty() ? "own" : text;
}

std::string communities_text(const routing::Path& path) {
    std::string text;
    for (plan::Community community : path.communities)
        text += (text.empty() ? "" : " ") + plan::community_text(community);
    return text;
}

std::string origin_text(const lab::Lab& lab, const routing::Offer& offer) {
    std::string from = offer.from ? lab.machines[offer.from].name : "";
    switch (offer.kind) {
    case routing::RouteKind::ospf:
        return fmt::format("{}, area {}, from {}", routing::to_string(offer.type), offer.area,
                           from);
    case routing::RouteKind::rip: return fmt::format("from {}", from);
    default: break;
    }
    std::string text = offer.path.as_path.empty()
                           ? fmt::format("of this AS, from {}", from)
                           : fmt::format("AS path {}, from {}", as_path_text(offer.path), from);
    if (offer.path.local_preference != 100)
        text += fmt::format(", local preference {}", offer.path.local_preference);
    if (!offer.path.communities.empty())
        text += ", " + communities_text(offer.path);
    return text;
}

std::string loss_text(const routing::Offer& offer, const std::vector<routing::Route>& routes) {
    auto loss = routing::loss_of(offer, routes);
    if (!loss)
        return "";
    if (!loss->to)
        return std::string(routing::to_string(loss->decision));
    return fmt::format("distance {} after {} ({})", routing::administrative_distance(offer.kind),
                       routing::administrative_distance(*loss->to), routing::to_string(*loss->to));
}

namespace {

bool is_in_one_as(const lab::Lab& lab, const routing::Stopped& stopped) {
    return lab.speaker(stopped.knows)->bgp->as == lab.speaker(stopped.lacks)->bgp->as;
}

} // namespace

std::string stopped_text(const lab::Lab& lab, const routing::Stopped& stopped) {
    const std::string& knows = lab.machines[stopped.knows].name;
    const std::string& lacks = lab.machines[stopped.lacks].name;
    std::string protocol(routing::to_string(stopped.neighbour.protocol));
    std::ranges::transform(protocol, protocol.begin(),
                           [](char c) { return static_cast<char>(c - 'a' + 'A'); });
    const std::string to = net::to_string(stopped.to);
    using routing::Stop;
    switch (stopped.why) {
    case Stop::not_neighbours:
        return fmt::format("{} could tell {} of {}, but {}", knows, lacks, to,
                           routing::describe(lab, stopped.neighbour).message);
    case Stop::next_hop:
    case Stop::loop:
        return fmt::format("{} tells {} of {} by {}, in vain: {}", knows, lacks, to, protocol,
                           stopped.why != Stop::loop ? lacks + " has no way to the next hop"
                           : is_in_one_as(lab, stopped)
                               ? "it comes from " + lacks + " or was reflected in its cluster"
                               : "the AS of " + lacks + " is in the path already");
    case Stop::not_brought_in:
        return fmt::format("{} knows {}, and does not bring it into {}", knows, to, protocol);
    case Stop::is_refused:
        return fmt::format("a policy keeps {} from telling {} of {} by {}", knows, lacks, to,
                           protocol);
    case Stop::inside_as:
        return fmt::format("{} does not pass {} on to {}: both are in the AS that it heard of it "
                           "in",
                           knows, to, lacks);
    case Stop::told_by_it:
        return stopped.neighbour.protocol == routing::Protocol::bgp
                   ? fmt::format("{0} goes to {1} by {2} itself, so does not tell {2} of it", knows,
                                 to, lacks)
                   : fmt::format("{} heard of {} where {} is, so does not tell it there", knows, to,
                                 lacks);
    case Stop::too_far:
        return fmt::format("{} is 16 hops from {}, which is too far for {}", to, lacks, protocol);
    case Stop::area: break;
    }
    return fmt::format("{} knows {}, and the area that it shares with {} does not hear of it",
                       knows, to, lacks);
}

namespace {

// The place without the names and positions on the way: what changes of one kind have in common.
std::string kind_of(const plan::PlaceChange& change) {
    std::string kind;
    for (const plan::Place::Step& step : change.place.steps)
        kind += step.kind == plan::Place::Step::Kind::key ? "." + step.word : ".*";
    return fmt::format("{} {}", kind, static_cast<int>(change.verb));
}

std::string clipped(std::string line) {
    constexpr std::size_t longest = 300;
    if (line.size() <= longest)
        return line;
    if (const std::size_t comma = line.rfind(',', longest); comma != line.npos)
        return line.substr(0, comma) + ", …";
    std::size_t end = longest;
    while ((line[end] & 0xc0) == 0x80) // not within a letter
        --end;
    return line.substr(0, end) + "…";
}

} // namespace

std::vector<std::string> written_lines(const std::vector<plan::PlaceChange>& changes) {
    constexpr std::size_t most_alike = 12;
    constexpr std::size_t shown = 3; // of more
    std::map<std::string, std::size_t> counts;
    std::set<std::string> grown; // sections: that new entries stand among the old ones says nothing
    for (const plan::PlaceChange& change : changes) {
        ++counts[kind_of(change)];
        plan::Place section = change.place;
        section.steps.pop_back();
        if (change.verb == plan::PlaceChange::Verb::set && change.before.empty())
            grown.insert(plan::to_string(section));
    }
    std::map<std::string, std::size_t> told;
    std::vector<std::string> lines;
    for (const plan::PlaceChange& change : changes) {
        if (change.verb == plan::PlaceChange::Verb::order
            && grown.contains(plan::to_string(change.place)))
            continue;
        const std::string kind = kind_of(change);
        const std::size_t count = counts[kind];
        const std::size_t number = told[kind]++;
        if (count <= most_alike || number < shown)
            lines.push_back(clipped(plan::to_line(change)));
        else if (number == shown)
            lines.push_back(fmt::format("… and {} more of {}", count - shown,
                                        kind.substr(1, kind.find(' ') - 1)));
    }
    return lines;
}

std::string expect_section(const std::vector<plan::Expectation>& expectations) {
    plan::Plan plan;
    plan.expectations = expectations;
    return expectations.empty() ? "expect:\n" : plan::text_of(plan);
}

} // namespace jackal::exports
