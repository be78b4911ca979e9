#include "export/drawing/draft.h"

#include "jackal/export/words.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::exports::drawing {

using namespace lab;

namespace {

// How many guests of one stem make one row, and how many rows of guests a segment has at most.
constexpr std::size_t fewest_folded = 4;
constexpr std::size_t most_guest_rows = 10;

/// `chart-desk` of `chart-desk-12`, or nothing.
std::string_view stem(std::string_view name) {
    std::size_t end = name.find_last_not_of("0123456789");
    bool numbered = end != std::string_view::npos && end + 1 < name.size() && name[end] == '-';
    return numbered ? name.substr(0, end) : std::string_view{};
}

std::vector<std::string> prefix_lines(const Lab& lab, SegmentId segment) {
    std::vector<std::string> lines;
    for (net::Family family : net::both_families)
        if (const auto& prefix = lab.segments[segment].prefix[family])
            lines.push_back(net::to_string(*prefix));
    return lines;
}

std::string ospf_text(const Lab& lab, NicId nic) {
    const Speaker* speaker = lab.speaker(lab.nics[nic].machine);
    if (!speaker || !speaker->ospf)
        return {};
    for (const OspfNic& spoken : speaker->ospf->nics)
        if (spoken.nic == nic)
            return spoken.passive ? fmt::format("area {}", spoken.area)
                                  : fmt::format("area {}, cost {}", spoken.area, spoken.cost);
    return {};
}

} // namespace

Draft::Draft(const routing::Settled& settled_, const PictureOptions& options_)
    : settled(settled_), lab(settled_.lab()), options(options_) {
    single_out();
    look_around();
}

void Draft::single_out(std::string_view name) {
    if (auto machine = lab.machine(name.substr(0, name.find('/'))))
        singled_.insert(*machine);
}

void Draft::single_out() {
    for (const Finding& finding :
         options.findings.first(std::min(most_marked, options.findings.size())))
        for (std::string_view name : {finding.subject, finding.from, finding.to})
            single_out(name);
    if (options.around)
        singled_.insert(*options.around);
    if (!options.answer)
        return;
    for (const auto* journey : {&options.answer->out, &options.answer->back})
        if (*journey)
            for (const packet::Step& step : (*journey)->steps)
                singled_.insert(step.machine);
    for (const probe::Endpoint* end :
         {&options.answer->question.from, &options.answer->question.to})
        if (end->machine)
            singled_.insert(end->machine);
}

void Draft::look_around() {
    if (!options.around)
        return;
    near_.assign(lab.machines.size(), false);
    near_[options.around->row] = true;
    std::vector<MachineId> edge{*options.around};
    std::set<SegmentId> seen;
    for (std::size_t hop = 0; hop < options.hops; ++hop) {
        std::vector<MachineId> next;
        for (MachineId machine : edge)
            for (NicId nic : lab.nics_of(machine))
                if (seen.insert(lab.nics[nic].segment).second)
                    for (NicId other : lab.segments[lab.nics[nic].segment].nics)
                        if (MachineId far = lab.nics[other].machine; !near_[far.row]) {
                            near_[far.row] = true;
                            next.push_back(far);
                        }
        edge = std::move(next);
    }
}

State Draft::state_of(NicId nic) const {
    return settled.is_usable(nic) ? State::works : State::down;
}

std::size_t Draft::frame_of(SiteId site) {
    if (!site || lab.sites[site].name.empty())
        return Card::no_frame;
    auto [at, is_new] = frames_.try_emplace(site, picture.frames.size());
    if (is_new)
        picture.frames.push_back({lab.sites[site].name, lab.sites[site].outside});
    return at->second;
}

std::size_t Draft::frame_of(MachineId machine) {
    SiteId only = lab.site_of(machine);
    for (NicId nic : lab.nics_of(machine))
        if (SubnetId subnet = lab.segments[lab.nics[nic].segment].subnet)
            if (lab.subnets[subnet].site != only)
                return Card::no_frame;
    return frame_of(only);
}

std::size_t Draft::add(Card card) {
    picture.cards.push_back(std::move(card));
    return picture.cards.size() - 1;
}

Row Draft::nic_row(NicId id) const {
    const Nic& nic = lab.nics[id];
    Row row{.label = nic.name, .state = state_of(id)};
    for (AddressId at : lab.addresses_of(id)) {
        const InterfaceAddress& has = lab.addresses[at];
        row.values.push_back(fmt::format("{}/{}", net::to_string(has.address), has.length));
    }
    row.note = ospf_text(lab, id);
    if (row.state == State::down)
        row.note = down_text(!nic.up || !lab.machines[nic.machine].up);
    return row;
}

void Draft::add_machine(MachineId id) {
    const Machine& machine = lab.machines[id];
    bool on = settled.condition().machine_on(id);
    Card card{.kind = machine.kind == plan::MachineKind::router ? Card::Kind::router
                                                                : Card::Kind::guest,
              .id = "machine-" + machine.name,
              .title = machine.name,
              .says = machine.is_core ? "core of its site" : std::string(kind_text(machine)),
              .frame = frame_of(id),
              .outside = machine.outside,
              .state = on ? State::works : State::down};
    if (!on)
        card.says += machine.up ? ", cut" : ", off";
    else if (card.kind == Card::Kind::router && !machine.forwards_any())
        card.says += ", does not forward";
    else if (card.kind == Card::Kind::guest && machine.forwards_any())
        card.says += ", forwards";
    std::size_t at = picture.cards.size();
    machines[id] = {.card = at};
    for (NicId nic : lab.nics_of(id)) {
        nics[nic] = {.card = at, .row = card.rows.size()};
        card.rows.push_back(nic_row(nic));
    }
    add(std::move(card));
}

std::vector<std::vector<NicId>> Draft::folded(const std::vector<NicId>& guests) const {
    std::vector<std::vector<NicId>> groups;
    auto joins = [&](NicId nic) {
        std::string_view name = stem(lab.machine_name(nic));
        return !options.all_guests && !groups.empty() && !name.empty()
               && !is_singled(lab.nics[nic].machine)
               && !is_singled(lab.nics[groups.back().front()].machine)
               && state_of(nic) == state_of(groups.back().front())
               && stem(lab.machine_name(groups.back().front())) == name;
    };
    for (NicId nic : guests)
        if (joins(nic))
            groups.back().push_back(nic);
        else
            groups.push_back({nic});
    std::vector<std::vector<NicId>> rows;
    for (auto& group : groups)
        if (group.size() >= fewest_folded)
            rows.push_back(std::move(group));
        else
            for (NicId nic : group)
                rows.push_back({nic});
    if (options.all_guests || rows.size() <= most_guest_rows)
        return rows;
    // The last row is all that is no longer shown by name.
    std::vector<std::vector<NicId>> kept;
    std::vector<NicId> rest;
    for (auto& row : rows)
        if (kept.size() + 1 < most_guest_rows || is_singled(lab.nics[row.front()].machine))
            kept.push_back(std::move(row));
        else
            rest.insert(rest.end(), row.begin(), row.end());
    if (!rest.empty())
        kept.push_back(std::move(rest));
    return kept;
}

Row Draft::guest_row(const std::vector<NicId>& alike) const {
    NicId first = alike.front();
    NicId last = alike.back();
    Row row = nic_row(first);
    for (std::string& value : row.values)
        value.resize(value.find('/')); // the prefix stands on the card
    row.label = lab.nic_name(first);
    if (alike.size() == 1)
        return row;
    if (std::string_view name = stem(lab.machine_name(first));
        !name.empty() && stem(lab.machine_name(last)) == name)
        row.label = fmt::format("{} to {}", lab.machine_name(first),
                                lab.machine_name(last).substr(name.size()));
    else
        row.label = "others";
    row.values.resize(std::min<std::size_t>(row.values.size(), 1));
    if (!row.values.empty() && row.label != "others")
        row.values.front() += " ...";
    else
        row.values.clear();
    row.note = fmt::format("{} guests", alike.size());
    return row;
}

void Draft::add_segment(SegmentId id, const std::vector<NicId>& guests) {
    const Segment& segment = lab.segments[id];
    const Subnet& subnet = lab.subnets[segment.subnet];
    Card card{.kind = Card::Kind::segment,
              .id = "segment-" + subnet.name,
              .title = subnet.name,
              .says = "segment",
              .below = prefix_lines(lab, id),
              .frame = frame_of(subnet.site),
              .outside = subnet.outside};
    if (subnet.vlan != 0 && options.view == View::wires)
        card.says = fmt::format("VLAN {}", subnet.vlan);
    if (subnet.uplink != plan::Uplink::none)
        card.says += ", way outside";
    std::size_t at = picture.cards.size();
    segments[id] = {.card = at};
    for (const auto& alike : folded(guests)) {
        for (NicId nic : alike) {
            machines[lab.nics[nic].machine] = {.card = at, .row = card.rows.size()};
            nics[nic] = {.card = at, .row = card.rows.size()};
        }
        card.rows.push_back(guest_row(alike));
    }
    add(std::move(card));
}

void Draft::add_switch(SwitchId id) {
    const Switch& owner = lab.switches[id];
    const lab::WiringState& wiring = settled.condition().wiring();
    bool on = wiring.switch_on[id.row];
    Card card{.kind = Card::Kind::switch_,
              .id = "switch-" + owner.name,
              .title = owner.name,
              .says = on ? "switch" : "switch, " + down_text(!owner.up),
              .state = on ? State::works : State::down};
    std::size_t at = picture.cards.size();
    for (PortId port : lab.ports.ids())
        if (lab.ports[port].owner == id) {
            bool up = wiring.port_up[port.row];
            ports[port] = {.card = at, .row = card.rows.size()};
            card.rows.push_back({.label = lab.ports[port].name,
                                 .values = {port_text(lab.ports[port])},
                                 .note = up ? "" : down_text(!lab.ports[port].up),
                                 .state = up ? State::works : State::down});
        }
    add(std::move(card));
}

void Draft::add_link(LinkId id) {
    const Link& link = lab.links[id];
    Place first = place_of(link.first);
    Place second = place_of(link.second);
    if (!first || !second || first->card == second->card)
        return;
    Line line{.kind = link.peering     ? Line::Kind::peering
                      : link.is_tunnel ? Line::Kind::tunnel
                                       : Line::Kind::link,
              .ends = {*first, *second}};
    auto ms = [](std::chrono::microseconds time) {
        return fmt::format("{:g} ms", static_cast<double>(time.count()) / 1000);
    };
    auto say = [&](std::string text) { line.label += (line.label.empty() ? "" : ", ") + text; };
    if (link.delay.count() != 0)
        say(ms(link.delay));
    if (link.jitter.count() != 0)
        line.label += " +/- " + ms(link.jitter);
    if (link.loss > 0)
        say(fmt::format("{:g} % lost", link.loss * 100));
    std::uint16_t mtu = std::min(lab.nics[link.first].mtu_bytes, lab.nics[link.second].mtu_bytes);
    if (mtu != 1500)
        say(fmt::format("MTU {}", mtu));
    if (!settled.condition().link_up(id)) {
        line.state = State::down;
        say(down_text(!link.up));
    } else if (state_of(link.first) == State::down || state_of(link.second) == State::down) {
        line.state = State::down;
    }
    lines[link.first] = lines[link.second] = picture.lines.size();
    picture.lines.push_back(std::move(line));
}

void Draft::attach(NicId nic, Place to, std::string label, State state) {
    Place from = place_of(nic);
    if (!from || !to || from->card == to->card)
        return;
    lines.try_emplace(nic, picture.lines.size());
    picture.lines.push_back({.kind = Line::Kind::attached,
                             .ends = {*from, *to},
                             .label = std::move(label),
                             .state = state});
}

namespace {

template <class Id>
Place find(const std::map<Id, LineEnd>& places, Id id) {
    auto at = places.find(id);
    return at == places.end() ? Place{} : at->second;
}

} // namespace

Place Draft::place_of(MachineId machine) const {
    return find(machines, machine);
}
Place Draft::place_of(NicId nic) const {
    return find(nics, nic);
}
Place Draft::place_of(SegmentId segment) const {
    return find(segments, segment);
}
Place Draft::place_of(PortId port) const {
    return find(ports, port);
}

std::optional<std::size_t> Draft::line_of(NicId nic) const {
    auto at = lines.find(nic);
    return at == lines.end() ? std::nullopt : std::optional(at->second);
}

void Draft::mark(const LineEnd& end, Badge badge) {
    Card& card = picture.cards[end.card];
    auto& badges = end.row == LineEnd::title ? card.badges : card.rows[end.row].badges;
    if (std::ranges::find(badges, badge) == badges.end())
        badges.push_back(badge);
}

Place Draft::place_of(std::string_view subject) const {
    Place place;
    std::size_t slash = subject.find('/');
    if (auto machine = lab.machine(subject.substr(0, slash))) {
        if (slash != std::string_view::npos)
            if (auto nic = lab.nic(*machine, subject.substr(slash + 1)))
                place = place_of(*nic);
        if (!place)
            place = place_of(*machine);
    }
    if (auto subnet = lab.subnet(subject); subnet && !place)
        place = place_of(lab.subnets[*subnet].segment);
    if (auto site = lab.site(subject); site && !place)
        place = find(sites, *site);
    for (PortId port : lab.ports.ids())
        if (!place && lab.port_name(port) == subject)
            place = place_of(port);
    return place;
}

bool Draft::mark(std::string_view subject, Badge badge) {
    if (Place place = place_of(subject)) {
        mark(*place, badge);
        return true;
    }
    // A link or a peering: "quay-r1 -- lamp-r1", "tunnel quay-r1 -- vessel-r1", "harbour--skerry".
    std::size_t dashes = subject.find("--");
    if (dashes == std::string_view::npos)
        return false;
    auto name = [](std::string_view text) {
        if (text.starts_with("tunnel "))
            text.remove_prefix(7);
        std::size_t first = text.find_first_not_of(' ');
        return first == text.npos ? text.substr(0, 0)
                                  : text.substr(first, text.find_last_not_of(' ') + 1 - first);
    };
    Place one = place_of(name(subject.substr(0, dashes)));
    Place other = place_of(name(subject.substr(dashes + 2)));
    if (!one || !other)
        return false;
    bool marked = false;
    for (const Line& line : picture.lines)
        for (int end : {0, 1})
            if (line.kind != Line::Kind::attached && line.ends[end].card == one->card
                && line.ends[1 - end].card == other->card) {
                mark(line.ends[0], badge);
                mark(line.ends[1], badge);
                marked = true;
            }
    return marked;
}

} // namespace jackal::exports::drawing
