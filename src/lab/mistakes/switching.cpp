#include "switching.h"

#include "jackal/lab/wiring.h"
#include "jackal/limits.h"

#include <algorithm>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <map>
#include <set>

namespace jackal::lab {

using plan::Cause;

namespace {

bool is_used(const Lab& lab, std::uint16_t vlan) {
    return std::ranges::any_of(lab.subnets,
                               [&](const Subnet& subnet) { return subnet.vlan == vlan; })
           || std::ranges::any_of(lab.ports, [&](const Port& port) {
                  return !port.is_trunk && port.untagged == vlan;
              });
}

// The trunk's list as at its other end, if all that it would lose is used by nobody; else with the
// VLAN besides.
plan::Edit let_through(const Lab& lab, PortId id, std::uint16_t vlan) {
    const Port& port = lab.ports[id];
    for (const Cable& cable : lab.cables) {
        if (cable.first != id && cable.second != id)
            continue;
        const Port& other = lab.ports[cable.first == id ? cable.second : cable.first];
        const bool loses = std::ranges::any_of(
            port.tagged, [&](std::uint16_t own) { return !other.carries(own); });
        const bool is_missed = std::ranges::any_of(port.tagged, [&](std::uint16_t own) {
            return !other.carries(own) && is_used(lab, own);
        });
        if (port.is_trunk && other.is_trunk && other.carries(vlan) && loses && !is_missed)
            return plan::set_trunk(lab.plan, lab.port_name(id),
                                   {other.tagged.begin(), other.tagged.end()});
    }
    return plan::allow_vlan(lab.plan, lab.port_name(id), vlan);
}

class Teller {
  public:
    Teller(const Lab& lab, const Apart& apart) : lab_(lab), apart_(apart) {}

    Finding run() const {
        std::string port = apart_.port ? lab_.port_name(apart_.port) : "";
        std::string nic = lab_.nic_name(apart_.nic);
        plan::Mark at = apart_.port ? lab_.ports[apart_.port].at : lab_.nics[apart_.nic].at;
        switch (apart_.kind) {
        case Apart::Kind::plug_down: return plug_down(nic);
        case Apart::Kind::port_down:
            return make(
                Cause::port_down, port, fmt::format("the switch port {} is down", port),
                restore(lab_.ports[apart_.port].up, port, plan::set_port_up(lab_.plan, port)), at);
        case Apart::Kind::switch_off: {
            const Switch& owner = lab_.switches[lab_.ports[apart_.port].owner];
            return make(Cause::port_down, owner.name,
                        fmt::format("the switch {} is off", owner.name),
                        restore(owner.up, owner.name, plan::set_switch_up(lab_.plan, owner.name)),
                        owner.at);
        }
        case Apart::Kind::cable_down: {
            const Cable& cable = lab_.cables[apart_.cable];
            std::string name = cable_name();
            return make(Cause::link_down, name, fmt::format("the link {} is down", name),
                        restore(cable.up, name, plan::set_cable_up(lab_.plan, apart_.cable.row)),
                        cable.at);
        }
        case Apart::Kind::wrong_vlan: return wrong_vlan(nic, port, at);
        case Apart::Kind::not_carried: return not_carried(port, at);
        case Apart::Kind::tag_differs:
            return make(Cause::native_vlan_differs, port,
                        fmt::format("{} sends VLAN {} untagged, and the other end of {} tagged",
                                    port, apart_.vlan, cable_name()),
                        {{plan::set_port_vlan(lab_.plan, other_end(), apart_.vlan)}, ""}, at);
        case Apart::Kind::not_wired: break;
        }
        return make(Cause::segment_split, nic,
                    fmt::format("no wire joins {} to the rest of {}", nic, subnet()),
                    join_by_segment(), lab_.nics[apart_.nic].at);
    }

  private:
    static Finding make(Cause cause, std::string subject, std::string message, Remedy remedy,
                        plan::Mark at) {
        return {cause, Severity::error, std::move(subject), std::move(message), std::move(remedy),
                at};
    }

    // A change for what the plan says, advice for what the question cut.
    template <class Edit>
    static Remedy restore(bool up_in_plan, const std::string& what, Edit edit) {
        if (up_in_plan)
            return {{}, fmt::format("do not cut {}", what)};
        return {{std::move(edit)}, ""};
    }

    std::string subnet() const { return lab_.segment_name(lab_.nics[apart_.nic].segment); }

    std::string cable_name() const {
        const Cable& cable = lab_.cables[apart_.cable];
        return fmt::format("{} -- {}", lab_.port_name(cable.first), lab_.port_name(cable.second));
    }

    std::string other_end() const {
        const Cable& cable = lab_.cables[apart_.cable];
        return lab_.port_name(cable.first == apart_.port ? cable.second : cable.first);
    }

    // A port to the subnet's own segment on each of the switches that are apart.
    Remedy join_by_segment() const {
        Remedy remedy{{}, "link the switches, or wire a switch port to the segment of the subnet"};
        std::set<SwitchId> joined;
        for (NicId nic : {apart_.from, apart_.nic}) {
            auto plugs = lab_.plugs_of(nic);
            if (plugs.empty() || !plugs.front().port
                || !joined.insert(lab_.ports[plugs.front().port].owner).second)
                continue;
            SwitchId owner = lab_.ports[plugs.front().port].owner;
            remedy.edits.emplace_back(plan::add_segment_port(lab_.plan, lab_.switches[owner].name,
                                                             free_port_name(owner), apart_.vlan,
                                                             subnet()));
        }
        return remedy;
    }

    std::string free_port_name(SwitchId owner) const {
        std::string stem = "to-" + subnet().substr(0, 50);
        std::string name = stem;
        auto taken = [&](const Port& port) { return port.owner == owner && port.name == name; };
        for (int number = 2; std::ranges::any_of(lab_.ports, taken); ++number)
            name = fmt::format("{}-{}", stem, number);
        return name;
    }

    Finding plug_down(const std::string& nic) const {
        const Nic& row = lab_.nics[apart_.nic];
        const Plug& first = lab_.plugs_of(apart_.nic).front();
        return make(Cause::port_down, nic, fmt::format("no wire of the bond {} is up", nic),
                    restore(first.up, nic + "'s wires",
                            plan::set_bond_member_up(lab_.plan, lab_.machines[row.machine].name,
                                                     row.plan_index, 0)),
                    first.at);
    }

    Finding wrong_vlan(const std::string& nic, const std::string& port, plan::Mark at) const {
        const Port& row = lab_.ports[apart_.port];
        std::string who = fmt::format("{} is on {}", nic, port);
        Remedy remedy{{plan::set_port_vlan(lab_.plan, port, apart_.vlan)}, ""};
        std::uint16_t vlan = row.untagged;
        for (const Plug& plug : lab_.plugs_of(apart_.nic))
            if (plug.port == apart_.port && plug.vlan != 0) {
                vlan = plug.vlan;
                remedy = {{}, fmt::format("set `vlan: {}` at the NIC", apart_.vlan)};
            }
        if (apart_.cable)
            who = fmt::format("{} is between {} and the rest of {}", port, nic, subnet());
        std::string where =
            vlan == 0 ? "takes untagged frames into no VLAN" : fmt::format("is in VLAN {}", vlan);
        return make(
            Cause::wrong_vlan, nic,
            fmt::format("{}, which {}, but {} is VLAN {}", who, where, subnet(), apart_.vlan),
            std::move(remedy), at);
    }

    Finding not_carried(const std::string& port, plan::Mark at) const {
        const Port& row = lab_.ports[apart_.port];
        Remedy remedy{{let_through(lab_, apart_.port, apart_.vlan)}, ""};
        if (row.carries(apart_.vlan))
            remedy = {{}, fmt::format("do not cut {}:{}", port, apart_.vlan)};
        return make(Cause::vlan_not_carried, port,
                    fmt::format("{} does not carry VLAN {}, which joins {} to the rest of {}", port,
                                apart_.vlan, lab_.nic_name(apart_.nic), subnet()),
                    std::move(remedy), at);
    }

    const Lab& lab_;
    const Apart& apart_;
};

class SwitchInspector {
  public:
    SwitchInspector(const Lab& lab, std::vector<Finding>& into)
        : lab_(lab), state_(lab), wiring_(lab, state_), into_(into) {}

    void run() {
        for (const Subnet& subnet : lab_.subnets)
            look_at(subnet);
        joined();
        for (const WiringLoop& loop : wiring_.loops())
            report(loop);
        trunks();
    }

  private:
    // NICs that are in another domain than most of their subnet are named; a subnet of one NIC
    // must be in its VLAN at least.
    void look_at(const Subnet& subnet) {
        const auto& nics = lab_.segments[subnet.segment].nics;
        std::map<std::uint32_t, std::size_t> sizes;
        for (NicId nic : nics)
            ++sizes[wiring_.domain(lab_, nic)];
        NicId most;
        for (NicId nic : nics)
            if (!most || sizes[wiring_.domain(lab_, nic)] > sizes[wiring_.domain(lab_, most)])
                most = nic;
        if (!most)
            return;
        homes_.emplace(wiring_.domain(lab_, most), most);
        for (NicId nic : nics)
            if (wiring_.domain(lab_, nic) != wiring_.domain(lab_, most)
                && described_++ < most_described)
                into_.push_back(describe(lab_, why_apart(lab_, state_, most, nic)));
    }

    void joined() {
        for (auto home = homes_.begin(); home != homes_.end(); ++home) {
            auto before = home == homes_.begin() ? homes_.end() : std::prev(home);
            if (before == homes_.end() || before->first != home->first)
                continue;
            NicId one = std::min(before->second, home->second);
            NicId other = std::max(before->second, home->second);
            std::vector<PortId> way = wiring_.way(one, other);
            std::vector<std::string> names;
            Remedy remedy{{}, "put one of them into a VLAN of its own"};
            PortId at;
            for (PortId port : way) {
                names.push_back(lab_.port_name(port));
                if (lab_.ports[port].segment) {
                    at = port;
                    remedy = {{plan::set_port_up(lab_.plan, names.back(), false)}, ""};
                }
            }
            std::string subnet = lab_.segment_name(lab_.nics[other].segment);
            into_.push_back({Cause::segments_joined, Severity::warning, subnet,
                             fmt::format("{} and {} are one broadcast domain, by way of {}",
                                         lab_.segment_name(lab_.nics[one].segment), subnet,
                                         names.empty() ? "the same segment"
                                                       : fmt::format("{}", fmt::join(names, ", "))),
                             std::move(remedy), at ? lab_.ports[at].at : lab_.nics[other].at});
        }
    }

    void report(const WiringLoop& loop) {
        std::vector<std::string> names;
        for (PortId port : loop.ports)
            names.push_back(lab_.port_name(port));
        Remedy remedy{{}, "shut one of these ports"};
        plan::Mark at = lab_.ports[loop.ports.back()].at;
        if (loop.cable) {
            remedy = {{plan::set_cable_up(lab_.plan, loop.cable.row, false)}, ""};
            at = lab_.cables[loop.cable].at;
        }
        into_.push_back({Cause::switching_loop, Severity::error, names.empty() ? "" : names.back(),
                         fmt::format("frames of VLAN {} go round for ever, as nothing keeps them "
                                     "from it: {}",
                                     loop.vlan, fmt::join(names, " -> ")),
                         std::move(remedy), at});
    }

    // Trunks whose ends differ, where nothing misses it yet.
    void trunks() {
        for (CableId id : lab_.cables.ids()) {
            const Cable& cable = lab_.cables[id];
            for (auto [one, other] :
                 {std::pair(cable.first, cable.second), std::pair(cable.second, cable.first)})
                if (lab_.ports[one].is_trunk && lab_.ports[other].is_trunk)
                    compare(one, other);
        }
    }

    void compare(PortId one, PortId other) {
        const Port& here = lab_.ports[one];
        const Port& there = lab_.ports[other];
        auto add = [&](Cause cause, std::string message, plan::Edit edit) {
            bool known = std::ranges::any_of(into_, [&](const Finding& f) {
                return f.cause == cause && (f.at == there.at || f.at == here.at);
            });
            if (!known)
                into_.push_back({cause,
                                 Severity::warning,
                                 lab_.port_name(other),
                                 std::move(message),
                                 {{std::move(edit)}, ""},
                                 there.at});
        };
        for (std::uint16_t vlan : here.tagged)
            if (!there.carries(vlan) && is_used(lab_, vlan)) {
                add(Cause::vlan_not_carried,
                    fmt::format("{} carries VLAN {}, and {} at the other end does not",
                                lab_.port_name(one), vlan, lab_.port_name(other)),
                    let_through(lab_, other, vlan));
                break;
            }
        if (here.untagged != 0 && here.untagged != there.untagged
            && (there.untagged == 0 || one < other))
            add(Cause::native_vlan_differs,
                fmt::format("the native VLAN is {} on {}, and {} on {} at the other end",
                            here.untagged, lab_.port_name(one),
                            there.untagged == 0 ? "none" : fmt::format("{}", there.untagged),
                            lab_.port_name(other)),
                plan::set_port_vlan(lab_.plan, lab_.port_name(other), here.untagged));
    }

    // The reason is searched for along the cables; who has more of them mends these first.
    static constexpr int most_described = limits::worked_out_remedies;

    const Lab& lab_;
    WiringState state_;
    Wiring wiring_;
    int described_ = 0;
    std::multimap<std::uint32_t, NicId> homes_; // by domain: a NIC of each subnet that lives there
    std::vector<Finding>& into_;
};

} // namespace

Finding describe(const Lab& lab, const Apart& apart) {
    return Teller(lab, apart).run();
}

void add_switch_findings(const Lab& lab, std::vector<Finding>& into) {
    if (lab.has_wiring())
        SwitchInspector(lab, into).run();
}

} // namespace jackal::lab
