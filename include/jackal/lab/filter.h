// Filters, ready to judge by: names are prefixes, and the first rule that matches is found without
// trying them one after another.
#pragma once

#include "jackal/api.h"
#include "jackal/limits.h"
#include "jackal/net/flow.h"
#include "jackal/net/range.h"
#include "jackal/plan/plan.h"

#include <optional>
#include <unordered_map>
#include <vector>

namespace jackal::lab {

/// A rule of the plan, with the names in it looked up.
struct FilterRule {
    bool allows = false;
    std::optional<plan::Way> way; ///< unset: all
    net::Protocol protocol = net::Protocol::any;
    std::vector<net::Prefix> from; ///< empty with any_from, or if the names have no address
    std::vector<net::Prefix> to;
    bool any_from = true;
    bool any_to = true;
    std::vector<net::Ports> ports; ///< destination ports; empty: any
    bool requests_only = false;    ///< of ICMP echo requests alone, as no plan but a machine has it
    plan::Mark at;
};

/// The first matching rule, by tuple space search (Srinivasan, Suri and Varghese 1999): rules whose
/// prefixes have the same two lengths share a hash table, and rules with the same prefixes a list
/// of port ranges. A search costs one access for each pair of lengths that the rules use and that
/// may still hold an earlier rule, whatever their number. It never changes, so
/// threads may share one.
class RuleIndex {
  public:
    static constexpr std::uint32_t none = 0xffffffff;

    /// Entries that the indexes of one lab may have together, of some 150 bytes each at most.
    static constexpr std::size_t most_entries = limits::filter_entries;

    RuleIndex() = default;
    /// Takes its entries from `entries_left`.
    JACKAL_API RuleIndex(const std::vector<FilterRule>& rules, std::size_t& entries_left);

    /// The position of the first rule that matches, or none.
    JACKAL_API std::uint32_t first(plan::Way way, const net::Flow& flow) const;

  private:
    struct Key {
        net::Address from;
        net::Address to;
        std::uint8_t sort = 0; // address family, way and protocol

        friend bool operator==(const Key&, const Key&) = default;
    };
    struct Hash {
        std::size_t operator()(const Key& key) const;
    };
    // From this port on to the next stretch `rule` is the first that matches.
    struct Stretch {
        std::uint32_t port = 0;
        std::uint32_t rule = none;
    };
    struct Tuple {
        int from_bits = 0;
        int to_bits = 0;
        std::uint32_t first_rule = none;
        std::uint32_t sorts = 0; // a bit for each that a key has
        std::unordered_map<Key, std::vector<Stretch>, Hash> lists;
    };
    struct Claim {
        net::Ports ports;
        std::uint32_t rule = 0;
    };
    // A rule that is kept apart: its ends of one family as ascending, disjoint ranges.
    struct Wide {
        std::uint32_t rule = 0;
        net::Family family = net::Family::ipv4;
        std::uint8_t ways = 0; // a bit for each
        std::uint8_t protocols = 0;
        std::vector<net::Range> from;
        std::vector<net::Range> to;
        std::vector<net::Ports> ports; // in order, disjoint

        bool matches(plan::Way way, const net::Flow& flow) const;
    };
    void keep_apart(std::uint32_t number, const FilterRule& rule);
    static std::vector<Stretch> stretches(std::vector<Claim> claims);

    std::vector<Tuple> tuples_; // by first_rule
    std::vector<Wide> wide_;    // by rule
};

/// A named filter. It passes what the first matching rule allows, and by default what none names.
struct Filter {
    std::string name;
    bool allows = false; ///< what no rule names
    std::vector<FilterRule> rules;
    RuleIndex index;
    std::optional<RuleIndex> of_answers; ///< if some rules are of requests only, without those
    plan::Mark at;
    plan::Mark default_at;
    std::uint32_t plan_index = 0; ///< position in Plan::filters

    /// The position of the first rule that matches, or RuleIndex::none.
    std::uint32_t first(plan::Way way, const net::Flow& flow, bool begins_flow) const {
        return (begins_flow || !of_answers ? index : *of_answers).first(way, flow);
    }
};

/// The positions of the rules that never decide anything, as earlier ones together match all that
/// they do. O(n^2) in the number of rules; gives up when `comparisons_left` are used up, and on
/// rules with very many combinations of ends, or that earlier ones cut into very many pieces.
JACKAL_API std::vector<std::uint32_t> shadowed_rules(const Filter& filter,
                                                     std::size_t& comparisons_left);

} // namespace jackal::lab
