// Filter rules in a row, taken as one: the first that matches decides, what none does passes. Here
// two such lists become one, and one is written in the one way that all equal ones share.
#pragma once

#include "jackal/lab/filter.h"
#include "jackal/net/range.h"

namespace jackal::lab {

using RuleList = std::vector<FilterRule>;

/// What both match, with the verdict and way of `second`; nothing if no packet is so.
std::optional<FilterRule> both(const FilterRule& first, const FilterRule& second);

/// What passes both lists. Throws std::length_error beyond `most_rules`.
RuleList in_turn(const RuleList& first, const RuleList& second);

/// Of the filter, the rules for one way.
RuleList rules_of(const Filter& filter, plan::Way way);

/// The same list with a rule for each family where ends are told, prefixes and ports merged, and
/// without rules behind one that matches all, repeated ones and the last ones that allow.
RuleList tidied(RuleList list);

/// True for the rule that nothing passes that comes to it.
bool drops_all(const FilterRule& rule);

/// As a plan would have it, or comes closest to it.
plan::FilterRule as_written(const FilterRule& rule);
/// The same in words, with what no plan says.
std::string words(const FilterRule& rule);

constexpr std::size_t most_rules = 10'000;

/// The fewest prefixes that hold the same addresses, ascending.
std::vector<net::Prefix> merged_prefixes(std::vector<net::Prefix> prefixes);
/// The fewest prefixes that hold the addresses of a range.
std::vector<net::Prefix> prefixes_of(const net::Range& range);
/// All other addresses of a family.
std::vector<net::Prefix> all_but(const std::vector<net::Prefix>& prefixes, net::Family family);
/// All other ports, from 1.
std::vector<net::Ports> all_but(const std::vector<net::Ports>& ports);

} // namespace jackal::lab
