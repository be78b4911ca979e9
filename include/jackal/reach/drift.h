// What real machines say of themselves, held against the plan: where they differ, and what each
// difference breaks.
//
//     reach::Drift drift = reach::drift(settled, facts);
//     for (const reach::Difference& d : drift.differences)
//         … d.planned, d.found, d.reach
//
// A difference is put in the place of what the plan says, and all pairs are asked again, so what it
// breaks is what the engines foretell of the machines as they are.
#pragma once

#include "jackal/api.h"
#include "jackal/reach/compare.h"

#include <map>
#include <optional>
#include <set>
#include <string>
#include <vector>

namespace jackal::reach {

/// A NIC as its machine's kernel has it.
struct FoundNic {
    std::string name;
    net::Mac mac;
    std::uint16_t mtu_bytes = 0;
    bool up = false;
    bool has_carrier = false;
    struct Address {
        net::Address address;
        std::uint8_t length = 0;

        friend auto operator<=>(const Address&, const Address&) = default;
    };
    std::vector<Address> addresses; ///< without link-local ones
    std::vector<net::Mac> heard;    ///< of neighbours that answered
};

/// A route by way of a next hop.
struct FoundRoute {
    net::Prefix to;
    net::Address via;
    std::string nic;
    std::uint32_t metric = 0;
    bool is_learned = false; ///< a routing protocol taught it
};

/// What a machine's own rules do with packets that begin a flow, in a plan's terms.
struct FoundRules {
    /// Each has its way; the first that matches decides, what none does passes.
    std::vector<lab::FilterRule> machine;
    std::map<std::string, std::vector<lab::FilterRule>> nics; ///< by the NIC's name
    struct Translation {
        plan::Translation::Kind kind = plan::Translation::Kind::source;
        std::string nic;
        std::vector<net::Prefix> from; ///< source: only these; empty: all
        net::Protocol protocol = net::Protocol::any;
        std::uint16_t port = 0;
        net::Address to;
        std::uint16_t to_port = 0;

        friend bool operator==(const Translation&, const Translation&) = default;
    };
    std::vector<Translation> translations; ///< by NIC; of one NIC the first that matches counts
    std::set<std::string> not_relaying;    ///< NICs between which nothing is passed on
    std::vector<std::string> unread;       ///< what has no place in a plan

    bool is_empty() const {
        return machine.empty() && nics.empty() && translations.empty() && not_relaying.empty()
               && unread.empty();
    }
};

/// The translation as a plan has it.
JACKAL_API plan::Translation as_written(const FoundRules::Translation& rule);
/// A line for each rule, as plans write it: `eth0: {do: deny, way: in, proto: tcp}`.
JACKAL_API std::vector<std::string> words(const FoundRules& rules);

/// The same for a machine that passes nothing on: what each NIC lets in and out, by whatever rules,
/// and nothing of what would be passed on.
JACKAL_API FoundRules rules_of_end(const FoundRules& rules, const std::vector<std::string>& nics);

/// What the plan has the machine's rules be.
JACKAL_API FoundRules planned_rules(const lab::Lab& lab, lab::MachineId machine);

/// What one machine says. What it was not asked, or does not know, is unset.
struct FoundMachine {
    std::string name;
    bool answers = true;
    std::vector<FoundNic> nics;
    std::vector<FoundRoute> routes;
    lab::PerFamily<std::optional<bool>> forwards;
    std::optional<FoundRules> rules;
    FoundRules own_rules;                  ///< those of the table that the plan's settings have
    std::vector<std::string> other_tables; ///< that look at packets, `inet filter`

    /// True if it is known to forward packets of neither family.
    bool passes_nothing_on() const {
        return forwards.ipv4 == std::optional(false) && forwards.ipv6 == std::optional(false);
    }
};

using Facts = std::vector<FoundMachine>;

/// What differs.
enum class Deviation : std::uint8_t {
    unknown_machine, ///< it is in no plan
    no_answer,       ///< the machine says nothing
    nic_missing,     ///< no NIC has the MAC or the name
    nic_unknown,     ///< a NIC of the machine that the plan has not
    nic_renamed,     ///< the NIC of the MAC has another name
    mac_differs,     ///< the NIC of the name has another MAC
    other_segment,   ///< the NIC hears machines of another segment alone
    nic_down,        ///< or up where the plan has it down
    no_carrier,      ///< the NIC is up, and nothing is at its other end
    mtu_differs,     ///< of a NIC
    address_missing, ///< of a NIC
    address_extra,   ///< of a NIC
    length_differs,  ///< the prefix length of an address
    lease_differs,   ///< a DHCP server gave another address, or none
    forwarding,      ///< the machine forwards, or does not
    route_missing,   ///< a static route
    route_extra,     ///< a static route
    learned_missing, ///< routes that a protocol should teach
    rules_missing,   ///< filters and translations
    rules_differ,    ///< filters and translations, by what they do
    other_rules,     ///< they differ by tables that the plan's settings have not
};

/// "no-answer", "nic-missing", …
JACKAL_API std::string_view slug(Deviation deviation);

struct Difference {
    Deviation deviation = Deviation::address_missing;
    std::string machine;
    lab::MachineId id;             ///< none for one in no plan
    lab::NicId nic;                ///< or none
    std::string what;              ///< "kettle/eth0", or the machine
    std::string planned;           ///< empty: nothing
    std::string found;             ///< empty: nothing
    std::string command;           ///< that mends it on the machine; empty if none is known
    std::vector<plan::Edit> edits; ///< that make the plan say the same; may be empty
    bool is_asked = false;         ///< what it breaks is worked out
    std::vector<ReachChange> reach;
    std::vector<ExpectationChange> expectations;
    plan::Mark at;
    /// What is to be put in the place of the plan's.
    std::optional<FoundNic::Address> address;
    std::optional<FoundNic::Address> planned_address;
    std::optional<FoundRoute> route;
    std::optional<FoundRules> rules;
    std::uint16_t mtu_bytes = 0;
    lab::SegmentId segment;
    lab::PerFamily<bool> families; ///< of forwarding: those in which it is otherwise
};

struct Drift {
    std::size_t machines = 0;            ///< of which there are facts
    std::vector<std::string> unasked;    ///< machines of the plan of which there are none
    std::vector<Difference> differences; ///< by machine
    std::size_t not_put = 0;             ///< differences that nothing can be worked out of
    std::vector<ReachChange> reach;      ///< of all others at once
    std::vector<ExpectationChange> expectations;
};

/// Who has an address, or should have it.
struct Holder {
    std::string what; ///< "kettle/eth0"
    bool is_planned = false;
    bool has_it = false;
};
/// By their names; of the plan those of whom there are facts.
JACKAL_API std::vector<Holder> holders(const lab::Lab& lab, const Facts& facts,
                                       net::Address address);

/// Of more differences than this each one's consequences are not worked out, only those of all.
constexpr std::size_t most_asked = 40;

/// See above. Throws std::length_error beyond what grid() has.
JACKAL_API Drift drift(const routing::Settled& settled, const Facts& facts,
                       const std::function<void(std::size_t, std::size_t)>& progress = {});

} // namespace jackal::reach
