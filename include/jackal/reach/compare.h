// Two labs, one before and one after a change of the plan: what moved, and what that means for who
// reaches whom.
//
//     reach::Comparison both = reach::compare(before, after); // settled
//     for (const reach::Change& change : both.changes)
//         … change.what: change.before, change.after
//
// Machines and subnets are told apart by their names. A name that is gone and one that is new are
// the same thing renamed if the addresses are.
#pragma once

#include "jackal/api.h"
#include "jackal/probe/diagnosis.h"
#include "jackal/reach/check.h"

namespace jackal::reach {

/// What a change is about.
enum class Aspect : std::uint8_t {
    name,    ///< of a machine or subnet that was renamed
    subnet,  ///< is there, and its prefixes
    machine, ///< is there, and whether it is on and forwards
    nic,     ///< is there, on which segment, and whether it is up
    address, ///< of a NIC
    lease,   ///< the same, from a DHCP server
    mac,     ///< of a NIC
    gateway, ///< of a subnet, or of a machine
    route,   ///< of a machine: static, or learned
};

/// "name", "subnet", "machine", "nic", "address", "lease", "mac", "gateway" or "route".
JACKAL_API std::string_view to_string(Aspect aspect);

/// One thing that differs.
struct Change {
    Aspect aspect = Aspect::address;
    std::string what;   ///< as it is called after, or before if it is gone
    std::string before; ///< empty: it was not there
    std::string after;  ///< empty: it is there no more
};

/// Pairs of machines that are in both labs, guests or hosts outside, that get a reply in one only.
struct ReachChange {
    std::string from; ///< a subnet
    std::string to;
    std::uint64_t gained = 0;
    std::uint64_t lost = 0;
    std::string first[2];                  ///< the first lost pair; else the first gained
    std::optional<probe::Diagnosis> cause; ///< why that gets no reply: after, else before
};

/// All of them together.
struct ReachSum {
    std::uint64_t gained = 0;
    std::uint64_t lost = 0;
};
JACKAL_API ReachSum sum_of(const std::vector<ReachChange>& changes);

/// An expectation that is not in both, or fares otherwise.
struct ExpectationChange {
    std::string what;           ///< `ping [desk, pump] gets reply`
    std::optional<bool> before; ///< whether it was met; unset: it was not there
    std::optional<bool> after;
    std::string explanation; ///< why it is not met now
};

struct JACKAL_API Comparison {
    std::vector<Change> changes; ///< by aspect
    std::vector<ReachChange> reach;
    std::vector<ExpectationChange> expectations;
    std::vector<lab::Finding> gone; ///< findings of before
    std::vector<lab::Finding> come; ///< findings of after

    /// plan::difference() of the plans, for who has them.
    std::vector<plan::PlaceChange> written;

    bool is_same() const {
        return written.empty() && changes.empty() && reach.empty() && expectations.empty()
               && gone.empty() && come.empty();
    }
};

/// See above. Throws std::length_error beyond what grid() has.
JACKAL_API Comparison compare(const routing::Settled& before, const routing::Settled& after,
                              const std::function<void(std::size_t, std::size_t)>& progress = {});

/// Comparison::reach alone, asked by that family; compare() asks a pair that has both by IPv4.
JACKAL_API std::vector<ReachChange>
reach_changes(const routing::Settled& before, const routing::Settled& after, net::Family family);

} // namespace jackal::reach
