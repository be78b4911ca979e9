// A lab as a shell script of network namespaces: what the parts of the script share. Each part
// stands in the file of its kind; what no plan changes stands in the .sh files beside them.
#pragma once

#include "jackal/export/namespaces.h"

#include <set>
#include <string>
#include <vector>

namespace jackal::exports {

/// The texts of head.sh ({0}: the lab's name, {1}: what is not as in the plan) and verbs.sh.
extern const std::string_view script_head;
extern const std::string_view script_verbs;

struct Script {
    Script(const routing::Settled& of, const ScriptOptions& options);

    bool with_dhcp;
    bool with_routing;
    const routing::Settled& settled;
    const routing::Condition& condition;
    const lab::Lab& lab;
    std::set<lab::RouteId> refused = {};
    std::vector<std::string> unasked = {}; ///< what check cannot ask, in words
};

// --- header.cpp ------------------------------------------------------------------------------

std::vector<std::string_view> running(const Script& s);
/// `machines='…'`, broken into lines.
std::string write_names(const Script& s);
std::string header_notes(const Script& s);

// --- build.cpp -------------------------------------------------------------------------------

std::string write_build(Script& s);

// --- wires.cpp -------------------------------------------------------------------------------

std::string write_wires(const Script& s);
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

// --- questions.cpp ---------------------------------------------------------------------------

std::string write_questions(Script& s);

} // namespace jackal::exports
