// A picture while it is made: what stands for which machine, NIC, segment and port on it.
#pragma once

#include "jackal/export/drawing.h"

#include <map>
#include <set>

namespace jackal::exports::drawing {

/// Where something is drawn; no card if it is not.
using Place = std::optional<LineEnd>;

class Draft {
  public:
    Draft(const routing::Settled& settled, const PictureOptions& options);

    const routing::Settled& settled;
    const lab::Lab& lab;
    const PictureOptions& options;
    Picture picture;

    /// Machines that findings, the journeys or the question name: they are never folded.
    bool is_singled(lab::MachineId machine) const { return singled_.contains(machine); }
    /// True if the machine is not left out by PictureOptions::around.
    bool is_near(lab::MachineId machine) const { return near_.empty() || near_[machine.row]; }

    State state_of(lab::NicId nic) const;
    static std::string down_text(bool by_plan) { return by_plan ? "down" : "cut"; }

    /// The frame of a site, made when it is first asked for; no_frame for the nameless one.
    std::size_t frame_of(lab::SiteId site);
    /// That of a machine: no_frame if its NICs are on subnets of several sites.
    std::size_t frame_of(lab::MachineId machine);

    std::size_t add(Card card);
    /// The row for a NIC on the card of its machine.
    Row nic_row(lab::NicId nic) const;
    /// A card with a row for each NIC.
    void add_machine(lab::MachineId machine);
    /// A card for a segment, with rows for those of `guests`.
    void add_segment(lab::SegmentId segment, const std::vector<lab::NicId>& guests);
    void add_switch(lab::SwitchId id);
    void add_link(lab::LinkId link);
    /// The line of a NIC to what it is plugged into.
    void attach(lab::NicId nic, Place to, std::string label, State state);

    /// Puts a mark where what a finding is about is drawn; false if it is not.
    bool mark(std::string_view subject, Badge badge);
    void mark(const LineEnd& end, Badge badge);

    /// Of a machine, MACHINE/NIC, subnet, site or SWITCH/PORT by its name.
    Place place_of(std::string_view subject) const;
    Place place_of(lab::MachineId machine) const;
    Place place_of(lab::NicId nic) const;
    Place place_of(lab::SegmentId segment) const;
    Place place_of(lab::PortId port) const;
    /// The line that leaves the NIC, or nothing.
    std::optional<std::size_t> line_of(lab::NicId nic) const;

    std::map<lab::MachineId, LineEnd> machines;
    std::map<lab::NicId, LineEnd> nics;
    std::map<lab::SegmentId, LineEnd> segments;
    std::map<lab::PortId, LineEnd> ports;
    std::map<lab::SiteId, LineEnd> sites;
    std::map<lab::NicId, std::size_t>
        lines; ///< that leaves the NIC; the first, if it has several wires
    std::map<lab::PortId, std::size_t> cables; ///< the line of the cable at the port
    std::size_t folded_segments = 0;

  private:
    void single_out();
    void single_out(std::string_view name);
    void look_around();
    std::vector<std::vector<lab::NicId>> folded(const std::vector<lab::NicId>& guests) const;
    Row guest_row(const std::vector<lab::NicId>& alike) const;

    std::set<lab::MachineId> singled_;
    std::vector<bool> near_; // by machine; empty if all are
    std::map<lab::SiteId, std::size_t> frames_;
};

/// The findings that are marked in a picture; more are only counted.
constexpr std::size_t most_marked = 24;

// The views: what each makes cards and lines of.
void draw_machines(Draft& draft); ///< of routes and wires
void draw_sites(Draft& draft);

} // namespace jackal::exports::drawing
