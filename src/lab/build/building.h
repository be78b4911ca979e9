// A lab while it is built from a plan: what the steps share. Each step stands in the file of its
// kind.
#pragma once

#include "jackal/lab/lab.h"
#include "jackal/plan/complete.h"
#include "lab/address/allocate.h"

#include <map>

namespace jackal::lab {

/// Rows of sites, subnets, machines and filters have the numbers of the plan's entries.
struct Building {
    explicit Building(const plan::Complete& of);

    const plan::Complete& whole;
    const plan::Plan& plan;
    Lab lab = {};
    std::vector<std::pair<NicId, NicId>> link_nics = {};
    std::map<std::string, PortId> ports = {};

    SiteId site_named(std::string_view name) const { return {whole.site(name).value()}; }
    SubnetId subnet_named(std::string_view name) const { return {whole.subnet(name).value()}; }
    MachineId machine_named(std::string_view name) const { return {whole.machine(name).value()}; }
};

// --- segments.cpp ----------------------------------------------------------------------------

/// A machine stands on the site of its first subnet, a link on that of its first end that has
/// one.
Allocation choose_prefixes(const Building& b);
void add_sites(Building& b, Allocation& allocation);
PerFamily<std::optional<net::Prefix>> prefixes_in(const PerFamily<Choice>& choice);
void add_subnets(Building& b, const Allocation& allocation);
void add_totals(Building& b);
void add_loopbacks(Building& b, const Allocation& allocation);

// --- machines.cpp ----------------------------------------------------------------------------

/// Rows of machines and of all their NICs; link NICs come after those written at a machine.
void add_machines(Building& b);
/// Two names can hash to one MAC, and a written MAC can be the hash of another NIC's name: then
/// NICs without a written one get the hash of a longer name, but for the first if none is.
void separate_macs(Building& b);
void mark_shared_macs(Building& b);
void add_starts_after(Building& b);

// --- links.cpp -------------------------------------------------------------------------------

void add_links(Building& b, const Allocation& allocation);
void add_peerings(Building& b);
/// The outer addresses of tunnels, and what their NICs carry if the plan does not say.
void lay_tunnels(Building& b);

// --- switches.cpp ----------------------------------------------------------------------------

void add_switches(Building& b);
void add_plugs(Building& b);

// --- owners.cpp ------------------------------------------------------------------------------

void index_owners(Building& b);

// --- filters.cpp -----------------------------------------------------------------------------

/// The prefixes of a subnet, or the addresses of a machine.
std::vector<net::Prefix> prefixes_of(const Building& b, const plan::Ends& ends);
std::vector<net::Prefix> prefixes_of(const Building& b,
                                     const std::vector<plan::Placed<plan::Ends>>& ends);
std::vector<net::Prefix> prefixes_of(const Building& b, const plan::Route::Target& target);
void add_filters(Building& b);
void add_guards(Building& b);
void add_duties(Building& b);

// --- routes.cpp ------------------------------------------------------------------------------

void add_routes(Building& b);

} // namespace jackal::lab
