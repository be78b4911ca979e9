// The checks of a plan: what they share. Each stands in the file of its kind.
#pragma once

#include "jackal/limits.h"
#include "jackal/plan/complete.h"
#include "jackal/plan/name_index.h"
#include "plan/nic_names.h"
#include "plan/suggester.h"

#include <fmt/format.h>
#include <set>
#include <string>
#include <unordered_map>
#include <unordered_set>
#include <vector>

namespace jackal::plan {

/// Names of one sort of entry, for looking up and for suggesting.
template <class Entry>
class Names {
  public:
    Names(std::string what, const std::vector<Entry>& entries)
        : what_(std::move(what)), entries_(entries) {}

    bool add(std::uint32_t row) { return index_.add(row, entries_[row].name, name_of()); }
    std::optional<std::uint32_t> row(std::string_view name) const {
        return index_.find(name, name_of());
    }
    bool has(std::string_view name) const { return row(name).has_value(); }

    std::string unknown(std::string_view name) { return unknown(name, what_); }
    /// `what` for what it might have been instead.
    std::string unknown(std::string_view name, std::string_view what) {
        return fmt::format("there is no {} \"{}\"{}", what, name,
                           suggester_.suggestion(name, entries_, &name_of_entry));
    }

  private:
    static std::string_view name_of_entry(const Entry& entry) { return entry.name; }
    auto name_of() const {
        return [this](std::uint32_t r) -> std::string_view { return entries_[r].name; };
    }

    std::string what_;
    const std::vector<Entry>& entries_;
    NameIndex index_;
    Suggester suggester_;
};

struct Validation {
    explicit Validation(const Complete& of);

    const Complete& whole;
    const Plan& plan;
    std::vector<Problem> problems = {};
    Names<Site> sites;
    Names<Pool> pools;
    Names<Subnet> subnets;
    Names<Machine> machines;
    Names<Filter> filters;
    Names<Policy> policies;
    Names<Switch> switches;
    NicNames nic_names;      ///< of all
    std::string bridge = {}; ///< the subnet that is the physical network
    std::size_t named = 0;   ///< addresses, by rules and translations so far
    Suggester ports_near = {};
    std::set<std::pair<std::string_view, std::string_view>> linked =
        {};                                                    ///< machines, both ways round
    std::unordered_set<std::string> ports = {};                ///< `SWITCH/PORT`
    std::unordered_map<std::string, std::string> plugged = {}; ///< by port: what
    std::vector<std::size_t> link_nics;                        ///< by machine: NICs that links add
    std::unordered_map<const Machine*, std::unordered_set<std::string>> many_names =
        {}; ///< of machines with many that were asked for

    /// Rules and translations may name so many addresses in all.
    static constexpr std::size_t most_named = limits::named_addresses;

    /// What a NIC of one of the plan's machines is called.
    std::string name_of(const Machine& machine, std::size_t position) const {
        return nic_names.name(static_cast<std::size_t>(&machine - plan.machines.data()), position);
    }

    void problem(Mark at, std::string message) { problems.push_back({at, std::move(message)}); }
};

// --- names.cpp -------------------------------------------------------------------------------

void check_lab_name(Validation& v);
/// A host-name label of at most `most` letters.
void check_name(Validation& v, std::string_view name, Mark at, std::size_t most = 63);
void collect_names(Validation& v);
void count_link_nics(Validation& v);
std::size_t nic_count(const Validation& v, const Machine& machine);
bool has_nic(Validation& v, const Machine& machine, std::string_view name);
void check_nic_name(Validation& v, const std::string& name, Mark at);
void check_nic_names(Validation& v, const Machine& machine);
bool are_linked(Validation& v, const std::string& one, const std::string& other);

// --- sites.cpp -------------------------------------------------------------------------------

void check_sites(Validation& v);
void check_peerings(Validation& v);
void check_pools(Validation& v);
void check_pool(Validation& v, const Placed<std::string>& pool);

// --- subnets.cpp -----------------------------------------------------------------------------

void check_subnet(Validation& v, const Subnet& subnet);
void check_hosts(Validation& v, const std::vector<Placed<Host>>& hosts);
/// Hosts far away stand at addresses that are nobody's (RFC 5737, RFC 3849).
void check_outside(Validation& v);

// --- machines.cpp ----------------------------------------------------------------------------

void check_machine(Validation& v, const Machine& machine);
void check_filter_name(Validation& v, const Placed<std::string>& name);
void check_filter(Validation& v, const Filter& filter);

// --- switches.cpp ----------------------------------------------------------------------------

void check_switches(Validation& v);
bool check_port(Validation& v, const Placed<std::string>& port);
/// One thing is plugged into a port; only NICs of one machine share it, each with its VLAN.
void plug(Validation& v, const std::string& port, Mark at, const std::string& what);

// --- links.cpp -------------------------------------------------------------------------------

void check_link(Validation& v, const Link& link);
void check_link_prefixes(Validation& v, const std::vector<Placed<net::Prefix>>& prefixes,
                         const Placed<std::string>& pool);

// --- protocols.cpp ---------------------------------------------------------------------------

void check_protocols(Validation& v, const Protocols& told, const Machine& machine);

// --- expectations.cpp ------------------------------------------------------------------------

void check_expectation(Validation& v, const Expectation& expectation);

} // namespace jackal::plan
