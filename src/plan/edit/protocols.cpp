// Edits of what machines are told of routing protocols.
#include "plan/edit/making.h"
#include "plan/nic_names.h"

namespace jackal::plan {

namespace {

// What the machine is told of routing protocols; nothing if it is told nothing.
const Protocols& told_of(const Machine& machine) {
    static const Protocols none;
    return machine.duties && machine.duties->protocols ? *machine.duties->protocols : none;
}

// The names that a NIC may go by in the machine's protocols: its own, that of its subnet or of the
// machine that its link leads to.
std::vector<std::string> names_in_protocols(const Written& plan, const Machine& machine,
                                            const std::string& nic) {
    const Plan& entries = plan.entries();
    std::vector<std::string> names{nic};
    NicNames all(entries);
    auto number = static_cast<std::size_t>(&machine - entries.machines.data());
    std::size_t position = machine.nics.size();
    for (std::size_t i = 0; i < machine.nics.size(); ++i)
        if (all.name(number, i) == nic)
            names.push_back(machine.nics[i].subnet.value);
    for (const Link& link : std::span(entries.links.data(), plan.links())) {
        bool first = link.first.value == machine.name;
        if (!first && link.second.value != machine.name)
            continue;
        if (all.name(number, position++) == nic)
            names.push_back((first ? link.second : link.first).value);
    }
    return names;
}

// The machine, which speaks the protocol.
const Machine& speaker_of(const Written& plan, const std::string& name, RouteSource protocol) {
    const Machine& machine = machine_of(plan, name);
    const Protocols& told = told_of(machine);
    if (!(protocol == RouteSource::ospf  ? bool(told.ospf)
          : protocol == RouteSource::rip ? bool(told.rip)
                                         : bool(told.bgp)))
        throw Missing{fmt::format("{} does not speak {}", name, to_string(protocol))};
    return machine;
}

// False if OSPF is told of all NICs alike: then no other name of one needs to be known.
bool names_a_nic(const Ospf& ospf) {
    return !ospf.passive.empty() || !ospf.hello_s.empty() || !ospf.dead_s.empty()
           || !ospf.point_to_point.empty() || !ospf.priorities.empty()
           || std::ranges::any_of(ospf.areas,
                                  [](const OspfArea& area) { return !area.nics.names.empty(); });
}

// What OSPF is told of one NIC of a machine.
class OspfOfNic {
  public:
    OspfOfNic(const Written& plan, const std::string& machine, const std::string& nic)
        : machine_(machine_of(plan, machine)), nic_(nic), place_(place_of(machine_).key("ospf")) {
        static const Ospf nothing;
        ospf_ = told_of(machine_).ospf ? &*told_of(machine_).ospf : &nothing;
        at_ = ospf_->at ? ospf_->at : machine_.at;
        names_ = names_a_nic(*ospf_) ? names_in_protocols(plan, machine_, nic) : std::vector{nic};
    }

    Changes set_to(OspfKey key, std::uint32_t value) const {
        const std::string number = fmt::format("{}", value);
        switch (key) {
        case OspfKey::area:
            return nic_.empty() && ospf_->areas.size() == 1 ? move_all(value) : move(value);
        case OspfKey::active: return {removal(place_.key("passive"), at_, passive_name())};
        case OspfKey::hello: return {set_at("hello", ospf_->hello_s, number + "s")};
        case OspfKey::dead: return {set_at("dead", ospf_->dead_s, number + "s")};
        case OspfKey::network:
            return {set_at("network", ospf_->point_to_point,
                           value != 0 ? "point-to-point" : "broadcast")};
        case OspfKey::priority: break;
        }
        return {set_at("priority", ospf_->priorities, number)};
    }

  private:
    bool is_named(const std::string& name) const {
        return std::ranges::find(names_, name) != names_.end();
    }

    template <class Values>
    PlaceChange set_at(std::string_view key, const Values& values, std::string value) const {
        for (const auto& entry : values)
            if (is_named(entry.nic.value))
                return set(place_.key(key).name(entry.nic.value), std::move(value), entry.nic.at);
        return set(place_.key(key).name(nic_), std::move(value), at_);
    }

    std::string passive_name() const {
        for (const auto& passive : ospf_->passive)
            if (is_named(passive.value))
                return passive.value;
        return nic_;
    }

    Place area(std::uint32_t number) const {
        return place_.key("areas").name(fmt::format("{}", number));
    }

    // All that is in the one area.
    Changes move_all(std::uint32_t to) const {
        const OspfArea& own = ospf_->areas.front();
        std::string list = "all";
        if (!own.nics.all) {
            list.clear();
            for (const auto& name : own.nics.names)
                list += (list.empty() ? "[" : ", ") + name.value;
            list += "]";
        }
        return {set(area(to), list, at_), removal(area(own.number), at_)};
    }

    Changes move(std::uint32_t to) const {
        Changes changes;
        bool is_in_all = false;
        for (const OspfArea& there : ospf_->areas) {
            is_in_all |= there.number == to && there.nics.all;
            for (const auto& name : there.nics.names)
                if (is_named(name.value) && there.number != to)
                    changes.push_back(removal(area(there.number), name.at, name.value));
        }
        if (!is_in_all || changes.empty())
            changes.insert(changes.begin(), add(area(to), nic_, at_));
        return changes;
    }

    const Machine& machine_;
    std::string nic_;
    std::vector<std::string> names_;
    Place place_;
    const Ospf* ospf_;
    Mark at_;
};

Place neighbour_place(const Machine& machine, const std::string& neighbour) {
    return place_of(machine).key("bgp").key("neighbours").name(neighbour);
}

const BgpNeighbour* neighbour_of(const Machine& machine, const std::string& neighbour) {
    for (const BgpNeighbour& known : told_of(machine).bgp->neighbours)
        if (to_string(known.peer.value) == neighbour)
            return &known;
    return nullptr;
}

} // namespace

Edit set_ospf_nic(const Written& plan, const std::string& machine, const std::string& nic,
                  OspfKey key, std::uint32_t value) {
    return made(Move::set_ospf_nic,
                [&] { return OspfOfNic(plan, machine, nic).set_to(key, value); });
}

Edit speak_protocol(const Written& plan, const std::string& machine, RouteSource protocol,
                    std::uint32_t area) {
    return made(Move::speak_protocol, [&] {
        const Machine& entry = machine_of(plan, machine);
        return Changes{set(place_of(entry).key(to_string(protocol)),
                           protocol == RouteSource::ospf
                               ? fmt::format("{{areas: {{{}: all}}}}", area)
                               : "{nics: all}",
                           entry.at)};
    });
}

Edit redistribute(const Written& plan, const std::string& machine, RouteSource into,
                  RouteSource from) {
    return made(Move::redistribute, [&] {
        const Machine& entry = speaker_of(plan, machine, into);
        return Changes{add(place_of(entry).key(to_string(into)).key("redistribute"),
                           std::string(to_string(from)), entry.at)};
    });
}

Edit announce_default(const Written& plan, const std::string& machine, RouteSource into) {
    return made(Move::announce_default, [&] {
        const Machine& entry = speaker_of(plan, machine, into);
        return Changes{set(place_of(entry).key(to_string(into)).key("default"), "true", entry.at)};
    });
}

Edit set_ospf_stub(const Written& plan, const std::string& machine, std::uint32_t area, bool to,
                   bool is_nssa) {
    return made(Move::set_ospf_stub, [&] {
        const Machine& entry = speaker_of(plan, machine, RouteSource::ospf);
        Place place = place_of(entry).key("ospf").key(is_nssa ? "nssa" : "stub");
        std::string number = fmt::format("{}", area);
        return Changes{to ? add(std::move(place), std::move(number), entry.at)
                          : removal(std::move(place), entry.at, std::move(number))};
    });
}

Edit add_virtual_link(const Written& plan, const std::string& machine, std::uint32_t area,
                      const std::string& to) {
    return made(Move::add_virtual_link, [&] {
        const Machine& entry = speaker_of(plan, machine, RouteSource::ospf);
        return Changes{
            add(place_of(entry).key("ospf").key("virtual-links").name(fmt::format("{}", area)), to,
                entry.at)};
    });
}

Edit set_router_id(const Written& plan, const std::string& machine, net::Address to) {
    return made(Move::set_router_id, [&] {
        const Machine& entry = machine_of(plan, machine);
        const auto& now = told_of(entry).router_id;
        return Changes{set(place_of(entry).key("router-id"), net::to_string(to),
                           now ? now->at : entry.at, now ? net::to_string(now->value) : "")};
    });
}

Edit set_bgp_neighbour(const Written& plan, const std::string& machine,
                       const std::string& neighbour, std::uint32_t as, bool distant) {
    return made(Move::set_bgp_neighbour, [&] {
        const Machine& entry = speaker_of(plan, machine, RouteSource::bgp);
        const Place place = neighbour_place(entry, neighbour);
        const BgpNeighbour* known = neighbour_of(entry, neighbour);
        if (known == nullptr)
            return Changes{add(place,
                               fmt::format("{{as: {}{}}}", as, distant ? ", distant: true" : ""),
                               entry.at)};
        Changes changes;
        if (known->as != as)
            changes.push_back(set(place.key("as"), fmt::format("{}", as), known->at,
                                  fmt::format("{}", known->as)));
        if (!known->up)
            changes.push_back(set(place.key("state"), "up", known->at));
        if (distant && !known->distant)
            changes.push_back(set(place.key("distant"), "true", known->at));
        if (changes.empty()) // it is there already
            changes.push_back(set(place.key("as"), fmt::format("{}", as), known->at));
        return changes;
    });
}

Edit remove_policy(const Written& plan, const std::string& machine, const std::string& neighbour) {
    return made(Move::remove_policy, [&] {
        const Machine& entry = speaker_of(plan, machine, RouteSource::bgp);
        const BgpNeighbour* known = neighbour_of(entry, neighbour);
        return Changes{removal(neighbour_place(entry, neighbour).key("takes"),
                               known == nullptr ? entry.at : known->at)};
    });
}

} // namespace jackal::plan
