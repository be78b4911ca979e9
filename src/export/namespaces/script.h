// A lab as a shell script of network namespaces: what the parts of the script share. Each part
// stands in the file of its kind; what no plan changes stands in the .sh files beside them.
#pragma once

#include "jackal/export/namespaces.h"

#include <map>
#include <set>
#include <string>
#include <vector>

namespace jackal::exports {

/// The texts of head.sh ({0}: the lab's name, {1}: what is not as in the plan), places.sh and
/// verbs.sh, and attach.sh.
extern const std::string_view script_head;
extern const std::string_view script_places;
extern const std::string_view script_attach;
extern const std::string_view script_verbs;

struct Script {
    Script(const routing::Settled& of, const ScriptOptions& options);

    bool with_dhcp;
    bool with_routing;
    bool attached;
    const routing::Settled& settled;
    const routing::Condition& condition;
    const lab::Lab& lab;
    std::set<lab::RouteId> refused = {};
    std::vector<std::string> unasked = {};          ///< what check cannot ask, in words
    std::set<lab::MachineId> virtual_machines = {}; ///< that are no namespaces
    std::string boots = {};                         ///< the lines that start them

    /// Runs, in a namespace or as a virtual machine. What is outside an attached lab does not.
    bool runs(lab::MachineId id) const { return condition.machine_on(id) && !is_real(id); }
    /// Outside of an attached lab, but for the gateways of NICs that have a way out of their own.
    bool is_real(lab::MachineId id) const;
    bool in_namespace(lab::MachineId id) const {
        return runs(id) && !virtual_machines.contains(id);
    }
    /// The computer that an attached lab runs on, as the plan has it; or none.
    lab::MachineId station() const;
};

// --- header.cpp ------------------------------------------------------------------------------

std::vector<std::string_view> running(const Script& s);
/// `machines='…'`, broken into lines; with virtual ones also `virtual='…'`.
std::string write_names(const Script& s);
/// A function that says how a machine behaves that forwards, or does not.
std::string write_settings();
std::string header_notes(const Script& s);

// --- build.cpp -------------------------------------------------------------------------------

std::string write_build(Script& s);

// --- wires.cpp -------------------------------------------------------------------------------

std::string write_wires(const Script& s);
/// By broadcast domain the NICs on subnets that hear each other: all that is shown of switches.
std::map<std::uint32_t, std::vector<lab::NicId>> domains(const Script& s);
/// The bridges of NICs' segments, or broadcast domains, by name.
class Bridges {
  public:
    explicit Bridges(const Script& s) : s_(s), domains_(domains(s)) {}
    std::string of(lab::NicId nic) const;

  private:
    const Script& s_;
    std::map<std::uint32_t, std::vector<lab::NicId>> domains_;
};
bool is_live_tunnel(const Script& s, const lab::Segment& segment);
std::string write_tunnel(const Script& s, lab::LinkId id);

// --- machines.cpp ----------------------------------------------------------------------------

std::string write_machine(const Script& s, lab::MachineId id);
/// True if the address comes from a real server.
bool is_taken(const Script& s, const lab::InterfaceAddress& row);
bool takes_lease(const Script& s, lab::MachineId id);
/// Those that the kernel is expected to refuse are tried on their own.
std::string write_routes(const Script& s, lab::MachineId id, std::string& refused);

// --- speakers.cpp ----------------------------------------------------------------------------

/// The daemons of machines that speak routing protocols, and whom they should hear.
std::string write_speakers(const Script& s);
/// True if a daemon of the machine learns its routes.
bool runs_daemon(const Script& s, lab::MachineId id);

// --- leases.cpp ------------------------------------------------------------------------------

std::string write_leases(const Script& s);

// --- services.cpp ----------------------------------------------------------------------------

std::string write_services(const Script& s);

// --- attach.cpp ------------------------------------------------------------------------------

/// What is done to this computer, if the lab is attached to it.
std::string write_attachment(const Script& s);

// --- questions.cpp ---------------------------------------------------------------------------

std::string write_questions(Script& s);

} // namespace jackal::exports
