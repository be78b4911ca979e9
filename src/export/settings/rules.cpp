// Rules of nftables, as `nft -j list ruleset` prints them, in a plan's terms.
//
// Chains become lists of rules that decide: a jump is the list of the chain that it leads to, what
// is accepted goes on to the next chain of the hook. That is done once for each kind of NICs that
// the rules tell apart. Lists that are the same for all NICs are the machine's; others are put on
// the NICs: what a NIC lets in for the machine's own addresses, and for others. Rules for what
// comes by one NIC and leaves by another have no place in a plan, unless either alone tells; that a
// packet may leave by the NIC that it came by is not looked at.
#include "export/settings/settings.h"
#include "lab/rules/rule_list.h"

#include <algorithm>
#include <deque>
#include <fmt/format.h>
#include <nlohmann/json.hpp>
#include <stdexcept>

namespace jackal::exports {

using lab::FilterRule;
using lab::RuleList;
using nlohmann::json;
using plan::Way;
using reach::FoundRules;

namespace {

// What a rule is in a way that cannot be said in a plan.
struct Unread {
    std::string why;
};
constexpr std::string_view own_table = "inet jackal";

using NicNames = std::optional<std::set<std::string>>; // unset: all

enum class Does : std::uint8_t { nothing, accept, drop, go_back, jump, go_to, translate, unread };

struct ReadRule {
    FilterRule match;
    NicNames in;
    NicNames out;
    bool begins_flow = true;    ///< it may match the first packet of a flow
    bool matches_answer = true; ///< or what answers one
    Does does = Does::nothing;
    std::string target;                  ///< jump, go_to: the chain; unread: why
    FoundRules::Translation translation; ///< translate
    std::string at;                      ///< "table inet filter, chain input, handle 4"
};

struct Chain {
    std::string table; // "inet filter"
    std::string type;  // "filter", "nat"; empty if nothing leads there but jumps
    std::string hook;
    int priority = 0;
    bool drops = false;
    std::vector<ReadRule> rules;
};

struct DecidedPart {
    FilterRule match;
    const ReadRule* translates = nullptr;
};
using List = std::deque<DecidedPart>;

// NICs that all rules treat alike.
struct NicKind {
    std::vector<std::string> nics;
};

std::vector<json> elements(const json& value) {
    if (value.is_object() && value.contains("set"))
        return value["set"].get<std::vector<json>>();
    if (value.is_array())
        return value.get<std::vector<json>>();
    return {value};
}

class RuleReader {
  public:
    RuleReader(const json& entries, const reach::FoundMachine& machine, std::string_view only_table)
        : machine_(machine) {
        for (const reach::FoundNic& nic : machine.nics)
            if (nic.name != "lo")
                names_.insert(nic.name);
        for (const json& entry : entries)
            if (entry.contains("set"))
                read_set(entry["set"]);
        for (const json& entry : entries)
            if (entry.contains("chain"))
                read_chain(entry["chain"]);
        for (const json& entry : entries)
            if (entry.contains("rule"))
                read_rule(entry["rule"]);
        if (!only_table.empty())
            std::erase_if(chains_,
                          [&](const auto& chain) { return chain.second.table != only_table; });
    }

    FoundRules run() {
        find_kinds();
        try {
            put_filters();
            put_translations();
        } catch (const std::length_error& error) {
            note(error.what());
        }
        return std::move(rules_);
    }

    // Tables that do something, but for the plan's own.
    std::vector<std::string> other_tables() const {
        std::set<std::string> tables;
        for (const auto& [name, chain] : chains_)
            if (!chain.type.empty() && chain.table != own_table
                && (chain.drops || std::ranges::any_of(chain.rules, [](const ReadRule& rule) {
                        return rule.does != Does::nothing;
                    })))
                tables.insert(chain.table);
        return {tables.begin(), tables.end()};
    }

    static bool is_table(std::string_view family_and_name) {
        auto is_letter = [](char c) { return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z'); };
        const std::string_view name = family_and_name.substr(family_and_name.find(' ') + 1);
        return std::ranges::all_of(family_and_name,
                                   [&](char c) {
                                       return is_letter(c) || (c >= '0' && c <= '9') || c == '_'
                                              || c == '-' || c == '.' || c == ' ';
                                   })
               && !name.empty() && name.find(' ') == name.npos && is_letter(name.front());
    }

  private:
    void note(std::string what) {
        if (std::ranges::find(rules_.unread, what) == rules_.unread.end())
            rules_.unread.push_back(std::move(what));
    }

    static std::string word(const json& row, const char* key) {
        return row.value(key, std::string());
    }
    static std::string table_of(const json& row) {
        return word(row, "family") + " " + word(row, "table");
    }

    // --- reading -------------------------------------------------------------------------------

    void read_set(const json& row) {
        sets_[table_of(row) + " @" + word(row, "name")] =
            row.contains("elem") ? row["elem"] : json::array();
    }

    void read_chain(const json& row) {
        Chain& chain = chains_[table_of(row) + " " + word(row, "name")];
        chain.table = table_of(row);
        chain.type = word(row, "type");
        chain.hook = word(row, "hook");
        chain.priority = row.value("prio", 0);
        chain.drops = word(row, "policy") == "drop";
    }

    void read_rule(const json& row) {
        table_ = table_of(row);
        auto chain = chains_.find(table_ + " " + word(row, "chain"));
        if (chain == chains_.end())
            return;
        ReadRule first;
        first.at = fmt::format("table {}, chain {}, handle {}", table_, word(row, "chain"),
                               row.value("handle", 0));
        const std::string family = word(row, "family");
        if (family == "ip" || family == "ip6")
            match_family(first.match, family == "ip" ? net::Family::ipv4 : net::Family::ipv6);
        std::vector<ReadRule> rules{first};
        try {
            for (const json& statement : row.value("expr", json::array()))
                for (const auto& [key, value] : statement.items())
                    take(rules, key, value);
        } catch (const Unread& unread) {
            for (ReadRule& rule : rules) {
                rule.does = Does::unread;
                rule.target = unread.why;
            }
        }
        for (ReadRule& rule : rules) {
            rule.match.requests_only &= rule.does == Does::drop; // else their answers pass by state
            const bool answers_pass = !rule.begins_flow && rule.does == Does::accept;
            if (answers_pass)
                keeps_state_.insert(table_);
            if (rule.begins_flow && rule.does != Does::nothing)
                chain->second.rules.push_back(std::move(rule));
        }
    }

    // A statement of a rule; one that several values match becomes as many rules.
    void take(std::vector<ReadRule>& rules, const std::string& key, const json& value) {
        if (key == "match") {
            if (value.at("left").contains("ct"))
                match_state(rules, value);
            else
                match(rules, value.at("left"), value.at("right"), value.at("op") == "!=");
        } else if (key == "vmap") {
            choose(rules, value);
        } else if (key != "counter" && key != "log" && key != "comment") {
            for (ReadRule& rule : rules)
                decide(rule, key, value);
        }
    }

    void decide(ReadRule& rule, const std::string& key, const json& value) const {
        if (rule.does != Does::nothing)
            return;
        if (key == "accept")
            rule.does = Does::accept;
        else if (key == "drop" || key == "reject") // what is refused gets an error besides
            rule.does = Does::drop;
        else if (key == "return")
            rule.does = Does::go_back;
        else if (key == "jump" || key == "goto") {
            rule.does = key == "jump" ? Does::jump : Does::go_to;
            rule.target = table_ + " " + word(value, "target");
        } else if (key == "masquerade")
            rule.does = Does::translate;
        else if (key == "snat" || key == "dnat")
            translate(rule, value, key == "snat");
        else
            throw Unread{key};
    }

    // A source that is not the NIC's own is told when the NIC is known.
    static void translate(ReadRule& rule, const json& value, bool is_source) {
        if (!value.is_object() || !value.contains("addr") || !value["addr"].is_string())
            throw Unread{is_source ? "snat" : "dnat"};
        const auto to = net::parse_address(value["addr"].get<std::string>());
        if (!to || to->family() != net::Family::ipv4)
            throw Unread{is_source ? "snat" : "dnat"};
        rule.does = Does::translate;
        rule.translation = {.kind = is_source ? plan::Translation::Kind::source
                                              : plan::Translation::Kind::destination,
                            .to = *to,
                            .to_port = static_cast<std::uint16_t>(value.value("port", 0U))};
    }

    // Alternatives take the place of each rule.
    template <class Alternatives, class Use>
    static void multiply(std::vector<ReadRule>& rules, const Alternatives& alternatives, Use use) {
        std::vector<ReadRule> all;
        for (const ReadRule& rule : rules)
            for (const auto& alternative : alternatives) {
                ReadRule one = rule;
                if (use(one, alternative))
                    all.push_back(std::move(one));
            }
        if (all.size() > lab::most_rules)
            throw Unread{"more than 10000 values"};
        rules = std::move(all);
    }

    void choose(std::vector<ReadRule>& rules, const json& value) {
        const json& left = value.at("key");
        std::vector<json> rows = elements(resolved(value.at("data")));
        std::vector<ReadRule> all;
        for (const json& row : rows) {
            std::vector<ReadRule> some = rules;
            if (left.contains("ct"))
                match_state(some, {{"left", left}, {"op", "in"}, {"right", row.at(0)}});
            else
                match(some, left, row.at(0), false);
            for (ReadRule& rule : some)
                for (const auto& [key, target] : row.at(1).items())
                    decide(rule, key, target);
            all.insert(all.end(), some.begin(), some.end());
        }
        rules = std::move(all);
    }

    json resolved(const json& value) const {
        if (!value.is_string() || !value.get<std::string>().starts_with("@"))
            return value;
        auto found = sets_.find(table_ + " " + value.get<std::string>());
        if (found == sets_.end())
            throw Unread{value.get<std::string>()};
        return found->second;
    }

    static void match_state(std::vector<ReadRule>& rules, const json& value) {
        if (word(value.at("left").at("ct"), "key") != "state")
            throw Unread{"ct " + word(value["left"]["ct"], "key")};
        const auto states = elements(value.at("right"));
        const bool has_new = std::ranges::find(states, "new") != states.end();
        for (ReadRule& rule : rules)
            rule.begins_flow &= has_new == (value.at("op") != "!=");
    }

    void match(std::vector<ReadRule>& rules, const json& left, const json& right, bool is_not) {
        const std::vector<json> values = elements(resolved(right));
        if (left.contains("meta")) {
            const std::string key = word(left["meta"], "key");
            if (key == "iif" || key == "iifname" || key == "oif" || key == "oifname")
                match_nic(rules, key.starts_with("i"), values, is_not);
            else if (key == "l4proto")
                match_protocol(rules, values, is_not);
            else if (key == "nfproto" || key == "protocol")
                match_families(rules, values, is_not);
            else
                throw Unread{"meta " + key};
            return;
        }
        if (!left.contains("payload"))
            throw Unread{"a match"};
        const std::string protocol = word(left["payload"], "protocol");
        const std::string field = word(left["payload"], "field");
        const bool is_ip = protocol == "ip" || protocol == "ip6";
        const net::Family family = protocol == "ip" ? net::Family::ipv4 : net::Family::ipv6;
        if (is_ip && (field == "saddr" || field == "daddr"))
            match_addresses(rules, field == "saddr", family, values, is_not);
        else if (is_ip && (field == "protocol" || field == "nexthdr")) {
            match_protocol(rules, values, is_not);
            narrow(rules, family);
        } else if (field == "dport" && (protocol == "th" || protocol == "tcp" || protocol == "udp"))
            match_ports(rules, protocol, values, is_not);
        else if (field == "type" && (protocol == "icmp" || protocol == "icmpv6"))
            match_type(rules, protocol == "icmp", values, is_not);
        else
            throw Unread{protocol + " " + field};
    }

    void match_nic(std::vector<ReadRule>& rules, bool in, const std::vector<json>& values,
                   bool is_not) {
        std::set<std::string> named;
        for (const json& value : values) {
            std::string name = value.is_string() ? value.get<std::string>() : "";
            const bool is_start = name.ends_with("*");
            name.erase(name.size() - (is_start ? 1 : 0));
            for (const std::string& nic : names_)
                if (is_start ? nic.starts_with(name) : nic == name)
                    named.insert(nic);
        }
        if (is_not) {
            std::set<std::string> others;
            std::ranges::set_difference(names_, named, std::inserter(others, others.end()));
            named = std::move(others);
        }
        for (ReadRule& rule : rules) {
            NicNames& known = in ? rule.in : rule.out;
            std::set<std::string> both = named;
            if (known)
                std::erase_if(both, [&](const auto& nic) { return !known->contains(nic); });
            known = std::move(both);
        }
    }

    // Narrows a match; false if nothing is left of it.
    static bool narrow(ReadRule& rule, FilterRule by) {
        auto rest = lab::both(by, rule.match);
        if (rest)
            rule.match = std::move(*rest);
        return rest.has_value();
    }
    static void match_family(FilterRule& match, net::Family family) {
        match.any_from = false;
        match.from = {net::Prefix::everything(family)};
    }
    static void narrow(std::vector<ReadRule>& rules, net::Family family) {
        multiply(rules, std::array{family}, [](ReadRule& rule, net::Family only) {
            FilterRule by;
            match_family(by, only);
            return narrow(rule, by);
        });
    }

    static void match_families(std::vector<ReadRule>& rules, const std::vector<json>& values,
                               bool is_not) {
        std::vector<FilterRule> alternatives;
        for (net::Family family : net::both_families) {
            const char* name = family == net::Family::ipv4 ? "ipv4" : "ipv6";
            const char* ether = family == net::Family::ipv4 ? "ip" : "ip6";
            const bool named = std::ranges::any_of(
                values, [&](const json& value) { return value == name || value == ether; });
            if (named != is_not)
                match_family(alternatives.emplace_back(), family);
        }
        multiply(rules, alternatives, narrow_by);
    }
    static bool narrow_by(ReadRule& rule, const FilterRule& by) { return narrow(rule, by); }

    // Other protocols than these no packet of a plan has.
    static void match_protocol(std::vector<ReadRule>& rules, const std::vector<json>& values,
                               bool is_not) {
        constexpr std::array<std::tuple<std::string_view, int, net::Protocol>, 5> known{
            {{"icmp", 1, net::Protocol::icmp},
             {"ipv6-icmp", 58, net::Protocol::icmp},
             {"tcp", 6, net::Protocol::tcp},
             {"udp", 17, net::Protocol::udp},
             {"ospf", 89, net::Protocol::ospf}}};
        std::vector<FilterRule> alternatives;
        for (const auto& [name, number, protocol] : known) {
            const bool named = std::ranges::any_of(values, [&](const json& value) {
                return value == std::string(name) || value == number
                       || (number == 58 && value == "icmpv6")
                       || (number == 89 && value == "ospfigp");
            });
            if (named == is_not)
                continue;
            FilterRule match{.protocol = protocol};
            if (protocol == net::Protocol::icmp)
                match_family(match, number == 1 ? net::Family::ipv4 : net::Family::ipv6);
            alternatives.push_back(std::move(match));
        }
        // A rule each, unless one of a plan means them all.
        auto is_of = [](net::Protocol protocol) {
            return [=](const FilterRule& match) { return match.protocol == protocol; };
        };
        if (std::ranges::count_if(alternatives, is_of(net::Protocol::icmp)) == 2) {
            std::erase_if(alternatives, is_of(net::Protocol::icmp));
            alternatives.insert(alternatives.begin(), {.protocol = net::Protocol::icmp});
        }
        if (std::ranges::any_of(alternatives, is_of(net::Protocol::tcp))
            && std::ranges::any_of(alternatives, is_of(net::Protocol::udp))) {
            std::erase_if(alternatives, is_of(net::Protocol::tcp));
            std::erase_if(alternatives, is_of(net::Protocol::udp));
            alternatives.push_back({.ports = {{1, 65535}}});
        }
        multiply(rules, alternatives, narrow_by);
    }

    static void match_addresses(std::vector<ReadRule>& rules, bool is_source, net::Family family,
                                const std::vector<json>& values, bool is_not) {
        std::vector<net::Prefix> prefixes;
        for (const json& value : values) {
            const auto some = prefixes_in(value);
            prefixes.insert(prefixes.end(), some.begin(), some.end());
        }
        FilterRule by;
        (is_source ? by.any_from : by.any_to) = false;
        (is_source ? by.from : by.to) =
            is_not ? lab::all_but(prefixes, family) : lab::merged_prefixes(std::move(prefixes));
        multiply(rules, std::array{by}, narrow_by);
    }

    static std::vector<net::Prefix> prefixes_in(const json& value) {
        auto address = [](const json& text) {
            const auto read = net::parse_address(text.get<std::string>());
            if (!read)
                throw Unread{text.get<std::string>()};
            return *read;
        };
        if (value.is_object() && value.contains("elem"))
            return prefixes_in(value["elem"].at("val"));
        if (value.is_object() && value.contains("prefix"))
            return {{address(value["prefix"].at("addr")),
                     static_cast<int>(value["prefix"].at("len").get<std::uint8_t>())}};
        if (value.is_object() && value.contains("range")) {
            const net::Range range{address(value["range"].at(0)), address(value["range"].at(1))};
            if (range.first.family() != range.last.family() || range.last < range.first)
                throw Unread{"a range"};
            return lab::prefixes_of(range);
        }
        if (!value.is_string())
            throw Unread{"an address"};
        const net::Address one = address(value);
        return {{one, net::address_bits(one.family())}};
    }

    static void match_ports(std::vector<ReadRule>& rules, const std::string& protocol,
                            const std::vector<json>& values, bool is_not) {
        std::vector<net::Ports> ports;
        for (const json& value : values)
            if (value.is_object() && value.contains("range"))
                ports.push_back({value["range"].at(0).get<std::uint16_t>(),
                                 value["range"].at(1).get<std::uint16_t>()});
            else if (value.is_number_unsigned())
                ports.push_back({value.get<std::uint16_t>(), value.get<std::uint16_t>()});
            else
                throw Unread{"a port"};
        FilterRule by{.protocol = protocol == "tcp"   ? net::Protocol::tcp
                                  : protocol == "udp" ? net::Protocol::udp
                                                      : net::Protocol::any,
                      .ports = is_not ? lab::all_but(ports) : ports};
        // Who asks does it from the ports that Linux takes for it (ip_local_port_range).
        constexpr std::uint16_t first_of_askers = 32768;
        const bool is_service = std::ranges::all_of(
            by.ports, [](const net::Ports& each) { return each.last < first_of_askers; });
        multiply(rules, std::array{by}, [&](ReadRule& rule, const FilterRule& match) {
            rule.matches_answer &= !is_service;
            return !match.ports.empty() && narrow(rule, match); // else no port is left
        });
    }

    // A plan's ICMP is a ping; errors belong to flows, and neighbours are always found.
    static void match_type(std::vector<ReadRule>& rules, bool is_ipv4,
                           const std::vector<json>& values, bool is_not) {
        const bool is_ping = (std::ranges::find(values, "echo-request") != values.end()) != is_not;
        const bool has_reply = (std::ranges::find(values, "echo-reply") != values.end()) != is_not;
        FilterRule by{.protocol = net::Protocol::icmp, .requests_only = !has_reply};
        match_family(by, is_ipv4 ? net::Family::ipv4 : net::Family::ipv6);
        multiply(rules, std::array{by}, [&](ReadRule& rule, const FilterRule& match) {
            rule.matches_answer &= has_reply;
            return is_ping && narrow(rule, match);
        });
    }

    // --- chains to lists -----------------------------------------------------------------------

    void find_kinds() {
        std::map<std::vector<bool>, NicKind> kinds;
        for (const std::string& nic : names_) {
            std::vector<bool> named;
            for (const auto& [name, chain] : chains_)
                for (const ReadRule& rule : chain.rules)
                    for (const NicNames* names : {&rule.in, &rule.out})
                        if (*names)
                            named.push_back((*names)->contains(nic));
            kinds[named].nics.push_back(nic);
        }
        for (auto& [named, kind] : kinds)
            kinds_.push_back(std::move(kind));
        constexpr std::size_t most_kinds = 64;
        if (kinds_.size() > most_kinds) {
            note("rules that tell more than 64 kinds of NICs apart");
            kinds_.clear();
        }
    }

    void push(List& list, const List& head) {
        constexpr std::size_t most_entries = 500'000;
        entries_ += head.size();
        if (entries_ > most_entries)
            throw std::length_error("rules that jump so often that they are not followed");
        list.insert(list.begin(), head.begin(), head.end());
    }

    // What of `rest` is decided for what `rule` matches.
    static List only(const ReadRule& rule, const List& rest) {
        List list;
        for (const DecidedPart& entry : rest)
            if (auto match = lab::both(rule.match, entry.match))
                list.push_back({std::move(*match), entry.translates});
        list.push_back({rule.match});
        list.back().match.allows = true;
        return list;
    }

    struct Nics {
        const std::string* in = nullptr;
        const std::string* out = nullptr;
    };

    // `after`: what the end of the chain, `accepted`: what accepting comes to.
    List decided(const Chain& chain, const Nics& nics, const List& after, const List& accepted,
                 int depth) {
        constexpr int deepest = 16; // NFT_JUMP_STACK_SIZE of Linux
        if (depth > deepest)
            throw std::length_error("rules that jump deeper than 16 chains");
        List list = after;
        for (auto rule = chain.rules.rbegin(); rule != chain.rules.rend(); ++rule) {
            const bool comes = !rule->in || nics.in == nullptr || rule->in->contains(*nics.in);
            const bool goes = !rule->out || nics.out == nullptr || rule->out->contains(*nics.out);
            if (!comes || !goes)
                continue;
            switch (rule->does) {
            case Does::accept: push(list, only(*rule, accepted)); break;
            case Does::go_back: push(list, only(*rule, after)); break;
            case Does::drop:
                push(list, {{rule->match}});
                list.front().match.allows = false;
                break;
            case Does::translate: push(list, {{rule->match, &*rule}}); break;
            case Does::jump:
            case Does::go_to:
                if (auto target = chains_.find(rule->target); target != chains_.end())
                    push(list, only(*rule, decided(target->second, nics,
                                                   rule->does == Does::jump ? list : after,
                                                   accepted, depth + 1)));
                break;
            case Does::unread: note(fmt::format("{} ({})", rule->at, rule->target)); break;
            case Does::nothing: break;
            }
        }
        return list;
    }

    std::vector<const Chain*> chains_at(std::string_view type, std::string_view hook) const {
        std::vector<const Chain*> chains;
        for (const auto& [name, chain] : chains_)
            if ((chain.type == type || (type == "filter" && chain.type == "route"))
                && chain.hook == hook)
                chains.push_back(&chain);
        std::ranges::stable_sort(chains, {}, &Chain::priority);
        return chains;
    }

    List decided(std::string_view type, std::string_view hook, const Nics& nics) {
        List list;
        std::vector<const Chain*> chains = chains_at(type, hook);
        for (auto chain = chains.rbegin(); chain != chains.rend(); ++chain) {
            const List later = list;
            if ((*chain)->drops)
                list = {{FilterRule{.allows = false}}};
            list = decided(**chain, nics, list, later, 0);
        }
        return list;
    }

    RuleList filter(std::string_view hook, const Nics& nics, Way way) {
        RuleList list;
        for (DecidedPart& entry : decided("filter", hook, nics)) {
            entry.match.way = way;
            list.push_back(std::move(entry.match));
        }
        return lab::tidied(std::move(list));
    }

    // --- filters -------------------------------------------------------------------------------

    static bool are_equal(const RuleList& one, const RuleList& other) {
        return std::ranges::equal(one, other, {}, lab::words, lab::words);
    }

    void put_filters() {
        find_relay();
        for (const auto& [name, chain] : chains_)
            if (!chain.type.empty())
                look_at(chain);
        std::vector<std::string> all;
        for (const NicKind& kind : kinds_)
            all.push_back(kind.nics.front());
        std::vector<RuleList> in;
        std::vector<RuleList> out;
        for (const std::string& nic : all) {
            in.push_back(filter("input", {.in = &nic}, Way::in));
            out.push_back(filter("output", {.out = &nic}, Way::out));
        }
        const Forwarding forward = forwarding(all);
        auto is_one = [](const std::vector<RuleList>& lists) {
            return std::ranges::all_of(
                lists, [&](const RuleList& list) { return are_equal(list, lists.front()); });
        };
        auto give_machine = [&](const std::vector<RuleList>& lists) {
            if (!lists.empty())
                rules_.machine.insert(rules_.machine.end(), lists.front().begin(),
                                      lists.front().end());
        };
        const bool in_is_one = is_one(in);
        const bool out_is_one = is_one(out);
        if (in_is_one)
            give_machine(in);
        if (out_is_one)
            give_machine(out);
        rules_.machine.insert(rules_.machine.end(), forward.all.begin(), forward.all.end());
        for (std::size_t i = 0; i < all.size(); ++i) {
            const RuleList none;
            RuleList list =
                at_nic(filter("prerouting", {.in = &all[i]}, Way::in), in_is_one ? none : in[i],
                       forward.by_in.empty() ? none : forward.by_in[i], Way::in);
            RuleList leaving = at_nic(filter("postrouting", {.out = &all[i]}, Way::out),
                                      out_is_one ? none : out[i],
                                      forward.by_out.empty() ? none : forward.by_out[i], Way::out);
            list.insert(list.end(), leaving.begin(), leaving.end());
            if (!list.empty())
                for (const std::string& nic : kinds_[i].nics)
                    rules_.nics.emplace(nic, list);
        }
    }

    // What a plan's filters cannot be.
    void look_at(const Chain& chain) {
        const bool drops =
            chain.drops || std::ranges::any_of(chain.rules, [](const ReadRule& rule) {
                return rule.does != Does::accept && rule.does != Does::go_back;
            });
        if (!drops)
            return;
        const bool is_of_ip = chain.table.starts_with("inet ") || chain.table.starts_with("ip");
        if (!is_of_ip || chain.hook == "ingress" || chain.hook == "egress")
            note(fmt::format("table {}, at the hook {}", chain.table, chain.hook));
        if (chain.type == "nat")
            return;
        if (!keeps_state_.contains(chain.table) && drops_answers(chain.table))
            note(fmt::format("table {} lets no answers pass by themselves", chain.table));
        constexpr int translation = 100; // NF_IP_PRI_NAT_SRC, and NF_IP_PRI_NAT_DST below 0
        const bool sees_other_side =
            (chain.hook == "prerouting" && chain.priority > -translation)
            || (chain.hook == "postrouting" && chain.priority < translation);
        if (sees_other_side && !chains_at("nat", chain.hook).empty())
            note(fmt::format("table {} at {} sees addresses of the other side of the translation",
                             chain.table, chain.hook));
    }

    // True if some rule of the table may drop what answers a packet that it has let pass.
    bool drops_answers(const std::string& table) const {
        return std::ranges::any_of(chains_, [&](const auto& entry) {
            const Chain& chain = entry.second;
            return chain.table == table
                   && (chain.drops || std::ranges::any_of(chain.rules, [](const ReadRule& rule) {
                           return rule.matches_answer
                                  && (rule.does == Does::drop || rule.does == Does::unread);
                       }));
        });
    }

    // What the NIC has, then what the machine has for its own addresses and for others.
    RuleList at_nic(const RuleList& nic, const RuleList& own, const RuleList& others,
                    Way way) const {
        if (own.empty() && others.empty())
            return nic;
        if (machine_.passes_nothing_on() && others.empty()) // all that it gets is its own
            return lab::tidied(way == Way::in ? lab::in_turn(nic, own) : lab::in_turn(own, nic));
        const bool in = way == Way::in;
        FilterRule of_machine{.allows = true, .way = way};
        (in ? of_machine.any_to : of_machine.any_from) = false;
        (in ? of_machine.to : of_machine.from) = own_addresses();
        RuleList list;
        for (const FilterRule& rule : own)
            if (auto both = lab::both(of_machine, rule))
                list.push_back(std::move(*both));
        list.push_back(of_machine);
        list.insert(list.end(), others.begin(), others.end());
        for (FilterRule& rule : list)
            rule.way = way;
        return lab::tidied(lab::in_turn(nic, list));
    }

    // With what is sent to all and to groups, which is for the machine as well.
    std::vector<net::Prefix> own_addresses() const {
        std::vector<net::Prefix> own{
            *net::parse_prefix("224.0.0.0/4"), *net::parse_prefix("255.255.255.255/32"),
            *net::parse_prefix("ff00::/8"), *net::parse_prefix("fe80::/10")};
        for (const reach::FoundNic& nic : machine_.nics)
            for (const reach::FoundNic::Address& address : nic.addresses) {
                const net::Family family = address.address.family();
                own.emplace_back(address.address, net::address_bits(family));
                const net::Prefix prefix(address.address, address.length);
                if (family == net::Family::ipv4 && prefix.is_broadcast_address(prefix.last()))
                    own.emplace_back(prefix.last(), net::address_bits(family));
            }
        return lab::merged_prefixes(std::move(own));
    }

    // A core of a plan passes nothing on from peer to peer: one rule says so.
    void find_relay() {
        for (auto& [name, chain] : chains_)
            if (chain.hook == "forward")
                std::erase_if(chain.rules, [&](const ReadRule& rule) {
                    const bool is_relay = rule.does == Does::drop && rule.in && rule.in == rule.out
                                          && rule.match.any_from && rule.match.any_to
                                          && rule.match.protocol == net::Protocol::any
                                          && rule.match.ports.empty();
                    if (is_relay)
                        rules_.not_relaying.insert(rule.in->begin(), rule.in->end());
                    return is_relay;
                });
    }

    struct Forwarding {
        RuleList all;
        std::vector<RuleList> by_in; // by kind; empty: nothing by them
        std::vector<RuleList> by_out;
    };

    Forwarding forwarding(const std::vector<std::string>& nics) {
        const std::size_t count = nics.size();
        if (count == 0)
            return {};
        std::vector<std::vector<RuleList>> lists(count);
        for (std::size_t in = 0; in < count; ++in)
            for (const std::string& out : nics)
                lists[in].push_back(
                    filter("forward", {.in = &nics[in], .out = &out}, Way::through));
        auto is_looked_at = [&](std::size_t in, std::size_t out) {
            return in != out || kinds_[in].nics.size() > 1 || count == 1;
        };
        // By what is known of a NIC alone, its list; nothing if two differ.
        auto by = [&](bool is_in) -> std::optional<std::vector<RuleList>> {
            std::vector<RuleList> found;
            for (std::size_t one = 0; one < count; ++one) {
                std::optional<RuleList> list;
                for (std::size_t other = 0; other < count; ++other) {
                    const RuleList& next = is_in ? lists[one][other] : lists[other][one];
                    if (!is_looked_at(one, other))
                        continue;
                    if (list && !are_equal(*list, next))
                        return std::nullopt;
                    list = next;
                }
                found.push_back(list.value_or(RuleList{}));
            }
            return found;
        };
        const bool has_inwards = !chains_at("nat", "prerouting").empty();
        const bool has_outwards = !chains_at("nat", "postrouting").empty();
        auto in = by(true);
        auto out = by(false);
        if (in && out)
            return {.all = in->front()};
        // Filters of NICs see addresses before they are translated, and after.
        if (in && !has_inwards)
            return {.by_in = std::move(*in)};
        if (out && !has_outwards)
            return {.by_out = std::move(*out)};
        note("rules for what comes by one NIC and leaves by another");
        return {};
    }

    // --- translations --------------------------------------------------------------------------

    void put_translations() {
        for (std::size_t i = 0; i < kinds_.size(); ++i) {
            const std::string& first = kinds_[i].nics.front();
            for (bool in : {true, false}) {
                const Nics nics = in ? Nics{.in = &first} : Nics{.out = &first};
                for (const DecidedPart& entry :
                     decided("nat", in ? "prerouting" : "postrouting", nics)) {
                    if (entry.translates == nullptr) {
                        if (!entry.match.allows || !is_last_word(entry))
                            note("rules that leave some flows untranslated");
                        break;
                    }
                    for (const std::string& nic : kinds_[i].nics)
                        put_translation(nic, entry, in);
                }
            }
        }
        std::ranges::stable_sort(rules_.translations, {}, &FoundRules::Translation::nic);
    }

    static bool is_last_word(const DecidedPart& entry) {
        return entry.match.any_from && entry.match.any_to
               && entry.match.protocol == net::Protocol::any && entry.match.ports.empty();
    }

    void put_translation(const std::string& nic, const DecidedPart& entry, bool in) {
        FoundRules::Translation found = entry.translates->translation;
        const FilterRule& match = entry.match;
        found.nic = nic;
        if (in != (found.kind == plan::Translation::Kind::destination)) {
            note(fmt::format("{} (snat or dnat)", entry.translates->at));
            return;
        }
        std::vector<net::Prefix> own;
        for (const reach::FoundNic& row : machine_.nics)
            if (row.name == nic)
                for (const reach::FoundNic::Address& address : row.addresses)
                    if (address.address.family() == net::Family::ipv4)
                        own.emplace_back(address.address, 32);
        const bool is_to_own = lab::merged_prefixes(match.to) == lab::merged_prefixes(own);
        const std::vector all{net::Prefix::everything(net::Family::ipv4)};
        const bool from_all = match.any_from || match.from == all;
        bool fits = std::ranges::all_of(match.from, [](const net::Prefix& prefix) {
            return prefix.family() == net::Family::ipv4;
        });
        if (in) {
            const bool one_port =
                match.ports.empty()
                || (match.ports.size() == 1 && match.ports.front().first == match.ports.front().last
                    && match.protocol != net::Protocol::any);
            fits = fits && from_all && is_to_own && one_port;
            found.protocol = match.protocol;
            found.port = match.ports.empty() ? std::uint16_t{0} : match.ports.front().first;
        } else {
            const bool by_own =
                found.to == net::Address() || (own.size() == 1 && own.front().first() == found.to);
            fits = fits && match.any_to && match.protocol == net::Protocol::any
                   && match.ports.empty() && by_own;
            found.to = {};
            if (!from_all)
                found.from = lab::merged_prefixes(match.from);
        }
        if (!fits)
            note(fmt::format("{}, for {}", entry.translates->at, nic));
        else if (std::ranges::find(rules_.translations, found) == rules_.translations.end())
            rules_.translations.push_back(std::move(found));
    }

    const reach::FoundMachine& machine_;
    std::set<std::string> names_; // of NICs
    std::map<std::string, json> sets_;
    std::map<std::string, Chain> chains_;
    std::set<std::string> keeps_state_; // tables
    std::string table_;                 // of the rule that is read
    std::vector<NicKind> kinds_;
    std::size_t entries_ = 0;
    FoundRules rules_;
};

} // namespace

void read_rules(const json& entries, reach::FoundMachine& machine) {
    RuleReader all(entries, machine, "");
    machine.other_tables = all.other_tables();
    machine.rules = all.run();
    machine.own_rules = machine.other_tables.empty()
                            ? *machine.rules
                            : RuleReader(entries, machine, own_table).run();
    // Of tables with names that nft does not read, no command can be told.
    std::erase_if(machine.other_tables,
                  [](const std::string& table) { return !RuleReader::is_table(table); });
}

} // namespace jackal::exports
