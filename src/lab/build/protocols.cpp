#include "protocols.h"

#include "jackal/sorted.h"

#include <algorithm>

namespace jackal::lab {

AreaKind Ospf::kind_of(std::uint32_t area) const {
    return std::ranges::find(stubs, area) != stubs.end()   ? AreaKind::stub
           : std::ranges::find(nssas, area) != nssas.end() ? AreaKind::nssa
                                                           : AreaKind::normal;
}

const OspfNic* Ospf::on(NicId nic) const {
    auto found = std::ranges::lower_bound(nics, nic, {}, &OspfNic::nic);
    return found != nics.end() && found->nic == nic ? &*found : nullptr;
}

const RipNic* Rip::on(NicId nic) const {
    auto found = std::ranges::lower_bound(nics, nic, {}, &RipNic::nic);
    return found != nics.end() && found->nic == nic ? &*found : nullptr;
}

namespace {

class SpeakerMaker {
    auto policy_name() const {
        return [this](std::uint32_t i) -> std::string_view { return plan_.policies[i].name; };
    }

  public:
    SpeakerMaker(const plan::Plan& plan, Lab& lab) : plan_(plan), lab_(lab) {
        for (std::uint32_t i = 0; i < plan.policies.size(); ++i)
            policies_.add(i, plan.policies[i].name, policy_name());
    }

    void run() {
        lab_.policies = plan_.policies;
        for (MachineId id : lab_.machines.ids()) {
            const auto& duties = plan_.machines[id.row].duties;
            if (!duties || !duties->protocols)
                continue;
            const plan::Protocols& told = *duties->protocols;
            machine_ = id;
            Speaker row{.machine = id, .router_id = chosen_id()};
            if (told.router_id) {
                row.router_id = told.router_id->value;
                row.router_id_written = true;
                row.router_id_at = told.router_id->at;
            }
            if (told.ospf)
                row.ospf = ospf(*told.ospf);
            if (told.rip)
                row.rip = rip(*told.rip);
            if (told.bgp)
                row.bgp = bgp(*told.bgp);
            lab_.speakers.add(std::move(row));
        }
    }

  private:
    PolicyId policy(const std::string& name) const {
        auto row = policies_.find(name, policy_name());
        return row ? PolicyId{*row} : PolicyId{};
    }

    std::optional<net::Address> chosen_id() const {
        std::optional<net::Address> best;
        bool best_is_loopback = false;
        for (NicId nic : lab_.nics_of(machine_))
            for (AddressId id : lab_.addresses_of(nic)) {
                net::Address address = lab_.addresses[id].address;
                bool loopback = lab_.nics[nic].is_loopback();
                if (address.family() == net::Family::ipv6
                    || lab_.addresses[id].origin == AddressOrigin::link_local)
                    continue;
                if (!best || std::pair(loopback, address) > std::pair(best_is_loopback, *best)) {
                    best = address;
                    best_is_loopback = loopback;
                }
            }
        return best;
    }

    // The NIC of that name; or those on the subnet of that name; or those on links to the machine
    // of that name.
    std::vector<NicId> nics_named(std::string_view name) const {
        if (auto nic = lab_.nic(machine_, name))
            return {*nic};
        std::vector<NicId> found;
        for (NicId nic : lab_.nics_of(machine_)) {
            if (lab_.nics[nic].is_loopback())
                continue;
            const Segment& segment = lab_.segments[lab_.nics[nic].segment];
            if (segment.subnet ? lab_.subnets[segment.subnet].name == name
                               : lab_.machine_name(lab_.links[segment.link].other_end(nic)) == name)
                found.push_back(nic);
        }
        return found;
    }

    bool is_wire(NicId nic) const {
        return !lab_.nics[nic].is_loopback() && lab_.segments[lab_.nics[nic].segment].link;
    }

    // Calls use(row, value) for the rows of the NICs that the values are for.
    template <class Rows, class Value, class Use>
    void each_value(Rows& rows, const std::vector<plan::NicValue<Value>>& values, Use use) {
        for (const auto& entry : values)
            for (NicId nic : nics_named(entry.nic.value))
                for (auto& row : rows)
                    if (row.nic == nic)
                        use(row, entry.value);
    }
    template <class Rows>
    void set_passive(Rows& rows, const std::vector<plan::Placed<std::string>>& names) {
        for (const auto& name : names)
            for (NicId nic : nics_named(name.value))
                for (auto& row : rows)
                    if (row.nic == nic)
                        row.passive = true;
    }

    std::vector<Redistribution>
    redistributions(const std::vector<plan::Redistribution>& entries) const {
        std::vector<Redistribution> rows;
        for (const plan::Redistribution& entry : entries)
            rows.push_back({entry.from, entry.metric, entry.type, policy(entry.policy.value)});
        return rows;
    }

    OspfNic ospf_nic(NicId nic, const plan::OspfArea& area) const {
        OspfNic row{.nic = nic, .area = area.number, .point_to_point = is_wire(nic), .at = area.at};
        if (is_wire(nic))
            if (std::uint16_t cost =
                    plan_.links[lab_.segments[lab_.nics[nic].segment].link.row].cost)
                row.cost = cost;
        if (lab_.nics[nic].is_loopback()) {
            row.cost = 0;
            row.passive = true;
        }
        return row;
    }

    Ospf ospf(const plan::Ospf& told) {
        Ospf row{.nics = {},
                 .stubs = {},
                 .nssas = {},
                 .ranges = {},
                 .virtual_links = {},
                 .redistribute = redistributions(told.redistribute),
                 .default_route = told.default_route,
                 .at = told.at};
        auto has = [&](NicId nic) {
            return std::ranges::find(row.nics, nic, &OspfNic::nic) != row.nics.end();
        };
        for (const plan::OspfArea& area : told.areas)
            for (const auto& name : area.nics.names)
                for (NicId nic : nics_named(name.value))
                    if (!has(nic))
                        row.nics.push_back(ospf_nic(nic, area));
        for (const plan::OspfArea& area : told.areas)
            if (area.nics.all)
                for (NicId nic : lab_.nics_of(machine_))
                    if (!has(nic))
                        row.nics.push_back(ospf_nic(nic, area));
        std::ranges::sort(row.nics, {}, &OspfNic::nic);
        for (const auto& stub : told.stubs)
            row.stubs.push_back(stub.value);
        for (const auto& nssa : told.nssas)
            row.nssas.push_back(nssa.value);
        for (const plan::OspfRange& range : told.ranges)
            row.ranges.push_back({range.area, range.prefix.value});
        for (const plan::OspfVirtualLink& link : told.virtual_links)
            row.virtual_links.push_back(
                {link.area, lab_.machine(link.to.value).value(), link.to.at});
        each_value(row.nics, told.costs, [](OspfNic& nic, auto cost) { nic.cost = cost; });
        each_value(row.nics, told.hello_s, [](OspfNic& nic, auto hello) {
            nic.hello_s = hello;
            nic.dead_s = 4 * hello; // RFC 2328 appendix C.3 has 10 and 40 seconds
        });
        each_value(row.nics, told.dead_s, [](OspfNic& nic, auto dead) { nic.dead_s = dead; });
        each_value(row.nics, told.priorities,
                   [](OspfNic& nic, auto priority) { nic.priority = priority; });
        each_value(row.nics, told.point_to_point,
                   [](OspfNic& nic, bool is) { nic.point_to_point = is; });
        set_passive(row.nics, told.passive);
        return row;
    }

    Rip rip(const plan::Rip& told) {
        Rip row{.nics = {},
                .split_horizon = told.split_horizon,
                .redistribute = redistributions(told.redistribute),
                .default_route = told.default_route,
                .update_s = told.update_s,
                .at = told.at};
        std::vector<NicId> nics;
        for (const auto& name : told.nics.names)
            for (NicId nic : nics_named(name.value))
                nics.push_back(nic);
        if (told.nics.all)
            for (NicId nic : lab_.nics_of(machine_))
                nics.push_back(nic);
        sort_unique(nics);
        for (NicId nic : nics)
            row.nics.push_back({.nic = nic, .passive = lab_.nics[nic].is_loopback()});
        each_value(row.nics, told.costs, [](RipNic& nic, auto cost) { nic.cost = cost; });
        set_passive(row.nics, told.passive);
        return row;
    }

    Bgp bgp(const plan::Bgp& told) {
        Bgp row{.as = told.as,
                .networks = {},
                .neighbours = {},
                .redistribute = redistributions(told.redistribute),
                .default_route = told.default_route,
                .equal_paths = told.equal_paths,
                .hold_s = told.hold_s,
                .cluster_id = told.cluster_id,
                .at = told.at};
        for (const auto& network : told.networks) {
            if (const auto* prefix = std::get_if<net::Prefix>(&network.value)) {
                row.networks.push_back(*prefix);
            } else if (auto subnet = lab_.subnet(std::get<std::string>(network.value))) {
                for (net::Family family : net::both_families)
                    if (const auto& p = lab_.segments[lab_.subnets[*subnet].segment].prefix[family])
                        row.networks.push_back(*p);
            }
        }
        for (const plan::BgpNeighbour& neighbour : told.neighbours)
            row.neighbours.push_back(bgp_neighbour(neighbour));
        return row;
    }

    BgpNeighbour bgp_neighbour(const plan::BgpNeighbour& told) {
        BgpNeighbour row{.name = {},
                         .machine = {},
                         .session = {},
                         .as = told.as,
                         .takes = policy(told.takes.value),
                         .gives = policy(told.gives.value),
                         .next_hop_self = told.next_hop_self,
                         .distant = told.distant,
                         .client = told.client.value,
                         .up = told.up,
                         .at = told.at};
        std::optional<NicId> from;
        if (!told.from.value.empty())
            for (NicId nic : nics_named(told.from.value))
                from = from.value_or(nic);
        if (const auto* address = std::get_if<net::Address>(&told.peer.value)) {
            row.name = net::to_string(*address);
            if (auto owners = lab_.owners_of(*address); !owners.empty())
                row.machine = owners.front().machine;
            if (auto own = own_address(*address, from))
                row.session[address->family() == net::Family::ipv4 ? 0 : 1] = {*own, *address};
            return row;
        }
        row.name = std::get<std::string>(told.peer.value);
        row.machine = lab_.machine(row.name).value();
        for (net::Family family : net::both_families)
            row.session[family == net::Family::ipv4 ? 0 : 1] =
                ends_towards(row.machine, family, from);
        return row;
    }

    // Addresses on a segment that both machines are on, else of their loopbacks.
    std::optional<BgpEnds> ends_towards(MachineId peer, net::Family family,
                                        std::optional<NicId> from) const {
        if (!from || !lab_.nics[*from].is_loopback())
            for (NicId own : lab_.nics_of(machine_))
                for (NicId theirs : lab_.nics_of(peer)) {
                    if (lab_.nics[own].is_loopback() || lab_.nics[theirs].is_loopback()
                        || (from && own != *from)
                        || lab_.nics[own].segment != lab_.nics[theirs].segment)
                        continue;
                    const auto* here = lab_.first_address(own, family);
                    const auto* there = lab_.first_address(theirs, family);
                    if (here != nullptr && there != nullptr)
                        return BgpEnds{here->address, there->address};
                }
        for (NicId theirs : lab_.nics_of(peer))
            if (const auto* there = lab_.first_address(theirs, family);
                there != nullptr && lab_.nics[theirs].is_loopback())
                if (auto own = own_address(there->address, from))
                    return BgpEnds{*own, there->address};
        return std::nullopt;
    }

    // Of the given NIC; or on the peer's prefix; or of the loopback; or any.
    std::optional<net::Address> own_address(net::Address peer, std::optional<NicId> from) const {
        std::optional<net::Address> loopback;
        std::optional<net::Address> any;
        for (NicId nic : lab_.nics_of(machine_))
            for (AddressId id : lab_.addresses_of(nic)) {
                const InterfaceAddress& row = lab_.addresses[id];
                if (row.address.family() != peer.family() || (from && nic != *from))
                    continue;
                if (row.prefix().contains(peer) && row.address != peer)
                    return row.address;
                if (lab_.nics[nic].is_loopback())
                    loopback = loopback.value_or(row.address);
                any = any.value_or(row.address);
            }
        return loopback ? loopback : any;
    }

    const plan::Plan& plan_;
    Lab& lab_;
    plan::NameIndex policies_;
    MachineId machine_;
};

void add_link_locals(Lab& lab) {
    auto add = [&](NicId nic) {
        if (!lab.nics[nic].is_loopback() && lab.first_address(nic, net::Family::ipv6) != nullptr)
            lab.link_locals.push_back(
                {net::link_local_address(lab.nics[nic].mac), nic, lab.nics[nic].machine});
    };
    for (const Speaker& speaker : lab.speakers) {
        if (speaker.ospf)
            for (const OspfNic& told : speaker.ospf->nics)
                add(told.nic);
        if (speaker.rip)
            for (const RipNic& told : speaker.rip->nics)
                if (!speaker.ospf || speaker.ospf->on(told.nic) == nullptr)
                    add(told.nic);
    }
    std::ranges::sort(lab.link_locals);
}

} // namespace

void add_speakers(const plan::Plan& plan, Lab& lab) {
    SpeakerMaker(plan, lab).run();
    add_link_locals(lab);
}

} // namespace jackal::lab
