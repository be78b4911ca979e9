// What those who look for mistakes in the tables of a lab share; each kind of mistake has a file of
// its own beside this one, with what it is, how it is found, how it is said and what mends it.
#pragma once

#include "jackal/lab/finding.h"
#include "jackal/limits.h"

namespace jackal::lab {

/// How a mistake shows: in the tables of the lab, or to a packet that met it.
enum class Seen : std::uint8_t { in_tables, by_packet };

struct Inspection {
    const Lab& lab;
    std::vector<std::uint32_t> wired; ///< island of each segment, joined by any machine
    std::vector<Finding> found = {};

    explicit Inspection(const Lab& lab);

    void find(plan::Cause cause, Severity severity, std::string subject, std::string message,
              Remedy remedy, plan::Mark at);

    /// NICs on a segment whose machines forward.
    const std::vector<NicId>& forwarding(SegmentId segment) const {
        return forwarding_[segment.row];
    }

    /// Some remedies search the whole lab. They are worked out for the first findings only; who has
    /// hundreds of one sort mends the first and asks again.
    bool worth_working_out() { return worked_out_++ < most_worked_out; }

  private:
    static constexpr int most_worked_out = limits::worked_out_remedies;
    int worked_out_ = 0;
    std::vector<std::vector<NicId>> forwarding_; // by segment
};

// ranges
void unplaced(Inspection& in);
void overlapping_subnets(Inspection& in);
void subnets_outside_their_space(Inspection& in);
void special_use_ranges(Inspection& in);
void overlaps_with_outside(Inspection& in);
// spaces, limits
void overlapping_spaces(Inspection& in);
void exceeded_limits(Inspection& in);
// addresses, macs, nics
void duplicate_addresses(Inspection& in);
void duplicate_macs(Inspection& in);
void addresses_set_aside(Inspection& in);
void misplaced_addresses(Inspection& in);
void nics_without_use(Inspection& in);
// next_hops, forwarding, routes, loops, islands
void subnet_gateways(Inspection& in);
void next_hops(Inspection& in);
void machines_that_do_not_forward(Inspection& in);
void repeated_routes(Inspection& in);
void default_route_loops(Inspection& in);
void subnets_that_nothing_joins(Inspection& in);
// filter_rules, translations
void filter_rules(Inspection& in);
void translations(Inspection& in);

/// Changes remedies so that no two propose one address, range or name: who follows all of them
/// would have the same mistake again.
void part_proposals(const Lab& lab, std::vector<Finding>& findings);

/// True if somebody has an address in one of the prefixes, or if `any` will do.
bool meets_somebody(const Lab& lab, bool any, const std::vector<net::Prefix>& prefixes);

} // namespace jackal::lab
