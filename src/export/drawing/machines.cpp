#include "export/drawing/draft.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::exports::drawing {

using namespace lab;

namespace {

// With more cards than this, segments that one machine alone joins become rows of it.
constexpr std::size_t crowd = 60;

// The views of routes and of wires.
class MachineView {
  public:
    explicit MachineView(Draft& draft)
        : d(draft), lab(draft.lab), wires_(draft.options.view == View::wires) {}

    void draw() {
        sort_out();
        for (MachineId machine : lab.machines.ids())
            if (d.is_near(machine) && !is_row_[machine.row])
                d.add_machine(machine);
        if (wires_)
            for (SwitchId id : lab.switches.ids())
                if (is_drawn(id))
                    d.add_switch(id);
        for (SegmentId segment : lab.segments.ids())
            if (lab.segments[segment].subnet)
                place(segment);
        if (wires_)
            join_ports();
        for (NicId nic : lab.nics.ids())
            if (d.is_near(lab.nics[nic].machine) && !is_row_[lab.nics[nic].machine.row])
                join(nic);
        for (LinkId link : lab.links.ids())
            if (!wires_ || !lab.links[link].is_tunnel)
                d.add_link(link);
    }

  private:
    bool is_plugged(NicId nic) const {
        return wires_ && std::ranges::any_of(lab.plugs_of(nic), [](const Plug& plug) {
                   return bool(plug.port);
               });
    }

    // A guest of one NIC and at most one wire needs no card of its own.
    bool is_row(MachineId id) const {
        const Machine& machine = lab.machines[id];
        return machine.kind == plan::MachineKind::guest && !machine.forwards_any()
               && machine.nic_count == 1 && lab.segments[lab.nics[machine.first_nic].segment].subnet
               && !(wires_ && lab.plugs_of(machine.first_nic).size() > 1);
    }

    void sort_out() {
        is_row_.resize(lab.machines.size());
        joining_.resize(lab.segments.size());
        std::size_t cards = 0;
        for (MachineId machine : lab.machines.ids()) {
            is_row_[machine.row] = is_row(machine);
            cards += d.is_near(machine) && !is_row_[machine.row];
        }
        for (NicId nic : lab.nics.ids())
            if (d.is_near(lab.nics[nic].machine) && !is_row_[lab.nics[nic].machine.row])
                joining_[lab.nics[nic].segment.row].push_back(nic);
        is_crowded_ = cards + lab.subnets.size() > crowd;
    }

    bool is_drawn(SwitchId id) const {
        if (!d.options.around)
            return true;
        return std::ranges::any_of(lab.plugs, [&](const Plug& plug) {
            return plug.port && lab.ports[plug.port].owner == id
                   && d.is_near(lab.nics[plug.nic].machine);
        });
    }

    // The guests of a segment, on a card of it or where else they belong.
    void place(SegmentId id) {
        std::vector<NicId> guests;
        bool is_needed = !wires_ && !d.options.around;
        for (NicId nic : lab.segments[id].nics) {
            MachineId machine = lab.nics[nic].machine;
            if (!d.is_near(machine))
                continue;
            if (is_plugged(nic)) {
                if (is_row_[machine.row])
                    plug_in(nic);
                continue;
            }
            is_needed = true;
            if (is_row_[machine.row])
                guests.push_back(nic);
        }
        if (wires_)
            for (const Port& port : lab.ports)
                is_needed |= port.segment == id && !d.options.around;
        if (!is_needed)
            return;
        const auto& joining = joining_[id.row];
        bool is_stub = joining.size() == 1 && std::ranges::none_of(guests, [&](NicId nic) {
                           return d.is_singled(lab.nics[nic].machine);
                       });
        if (is_crowded_ && is_stub && !is_plugged(joining.front()))
            fold(id, guests, joining.front());
        else
            d.add_segment(id, guests);
    }

    // The segment as words on the row of the only NIC that joins it to anything.
    void fold(SegmentId id, const std::vector<NicId>& guests, NicId into) {
        Place place = d.place_of(into);
        d.segments[id] = *place;
        for (NicId nic : guests) {
            d.nics[nic] = *place;
            d.machines[lab.nics[nic].machine] = *place;
        }
        Row& row = d.picture.cards[place->card].rows[place->row];
        row.note += fmt::format("{}{}: {} guest{}", row.note.empty() ? "" : ", ",
                                lab.segment_name(id), guests.size(), guests.size() == 1 ? "" : "s");
        ++d.folded_segments;
    }

    // A guest as words on the row of the port that it is plugged into.
    void plug_in(NicId nic) {
        Place place = d.place_of(lab.plugs_of(nic).front().port);
        if (!place)
            return;
        d.nics[nic] = *place;
        d.machines[lab.nics[nic].machine] = *place;
        Row& row = d.picture.cards[place->card].rows[place->row];
        row.note += (row.note.empty() ? "" : ", ") + lab.nic_name(nic);
        if (d.state_of(nic) == State::down)
            row.note += " ("
                        + d.down_text(!lab.nics[nic].up || !lab.machines[lab.nics[nic].machine].up)
                        + ")";
    }

    void join_ports() {
        for (CableId id : lab.cables.ids()) {
            const Cable& cable = lab.cables[id];
            Place first = d.place_of(cable.first);
            Place second = d.place_of(cable.second);
            if (!first || !second || first->card == second->card)
                continue;
            const WiringState& wiring = d.settled.condition().wiring();
            bool up = wiring.cable_up[id.row];
            bool works = up && wiring.works(lab, cable.first) && wiring.works(lab, cable.second);
            d.cables[cable.first] = d.cables[cable.second] = d.picture.lines.size();
            d.picture.lines.push_back({.kind = Line::Kind::cable,
                                       .ends = {*first, *second},
                                       .label = up ? "" : d.down_text(!cable.up),
                                       .state = works ? State::works : State::down});
        }
        for (PortId id : lab.ports.ids())
            if (SegmentId segment = lab.ports[id].segment)
                if (Place from = d.place_of(id), to = d.place_of(segment);
                    from && to && from->card != to->card)
                    d.picture.lines.push_back({.kind = Line::Kind::cable, .ends = {*from, *to}});
    }

    void join(NicId nic) {
        if (!is_plugged(nic)) {
            d.attach(nic, d.place_of(lab.nics[nic].segment), "", d.state_of(nic));
            return;
        }
        const WiringState& wiring = d.settled.condition().wiring();
        for (const Plug& plug : lab.plugs_of(nic)) {
            std::string label = plug.member;
            if (plug.vlan != 0)
                label += fmt::format("{}VLAN {}", label.empty() ? "" : ", ", plug.vlan);
            bool works = plug.up && d.state_of(nic) == State::works
                         && (!plug.port || wiring.works(lab, plug.port));
            d.attach(nic, plug.port ? d.place_of(plug.port) : d.place_of(lab.nics[nic].segment),
                     std::move(label), works ? State::works : State::down);
        }
    }

    Draft& d;
    const Lab& lab;
    bool wires_;
    bool is_crowded_ = false;
    std::vector<bool> is_row_;                // by machine
    std::vector<std::vector<NicId>> joining_; // by segment: NICs of machines with cards
};

} // namespace

void draw_machines(Draft& draft) {
    MachineView(draft).draw();
}

} // namespace jackal::exports::drawing
