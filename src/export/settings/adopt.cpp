#include "export/settings/settings.h"
#include "jackal/export/facts.h"
#include "jackal/net/special_use.h"
#include "lab/rules/rule_list.h"

#include <algorithm>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <numeric>
#include <set>

namespace jackal::exports {

namespace {

using reach::FoundMachine;
using reach::FoundNic;
using reach::FoundRoute;

// A NIC with an address, and what is known of it.
struct End {
    const FoundMachine* machine = nullptr;
    const FoundNic* nic = nullptr;
    std::size_t segment = 0;
    bool is_moved = false; ///< there by whom it hears, not by its address
};

// NICs that share a prefix.
struct Segment {
    std::string name; // of a subnet; empty for a link
    std::vector<std::size_t> ends;
    lab::PerFamily<std::optional<net::Prefix>> prefix;
};

class Adoption {
  public:
    Adoption(std::string name, reach::Facts facts)
        : name_(std::move(name)), facts_(std::move(facts)) {
        for (FoundMachine& machine : facts_)
            name_nics(machine);
        for (const FoundMachine& machine : facts_)
            for (const FoundNic& nic : machine.nics)
                if (!nic.addresses.empty() && nic.name != "lo")
                    ends_.push_back({&machine, &nic});
        find_segments();
    }

    std::string run() {
        text_ = fmt::format("# Taken from what {} machines say of themselves; what is guessed is "
                            "marked so.\nlab: {}\n",
                            facts_.size(), name_);
        text_ += "subnets:\n";
        for (const Segment& segment : segments_)
            if (!segment.name.empty())
                text_ += fmt::format("  {}: {{prefix: [{}], gateway: none}}\n", segment.name,
                                     prefixes(segment));
        for (bool router : {false, true}) {
            bool is_first = true;
            for (const FoundMachine& machine : facts_)
                if (machine.answers && forwards(machine) == router) {
                    if (std::exchange(is_first, false))
                        text_ += router ? "routers:\n" : "guests:\n";
                    write(machine);
                }
        }
        write_links();
        write_filters();
        for (const FoundMachine& machine : facts_)
            if (!machine.answers)
                text_ += fmt::format("# {} gave no answer.\n", machine.name);
        return std::move(text_);
    }

  private:
    // The plan has one word for both families: where they differ, that of the one that the machine
    // has addresses of, of both IPv4's.
    static bool forwards(const FoundMachine& machine) {
        for (net::Family family : net::both_families)
            if (has_addresses(machine, family))
                if (const auto& known = machine.forwards[family])
                    return *known;
        return false;
    }
    static bool has_addresses(const FoundMachine& machine, net::Family family) {
        return std::ranges::any_of(machine.nics, [&](const FoundNic& nic) {
            return std::ranges::any_of(nic.addresses, [&](const FoundNic::Address& address) {
                return address.address.family() == family;
            });
        });
    }
    static std::string_view words_on_forwarding(const FoundMachine& machine) {
        const auto& [ipv4, ipv6] = machine.forwards;
        if (!ipv4 || !ipv6 || *ipv4 == *ipv6 || !has_addresses(machine, net::Family::ipv4)
            || !has_addresses(machine, net::Family::ipv6))
            return "";
        return *ipv4 ? " # guessed: it forwards IPv4 alone, a plan has both or none"
                     : " # guessed: it forwards IPv6 alone, a plan has both or none";
    }

    // A plan's names have letters, digits and hyphens: `eth0.10` is called eth0-10.
    void name_nics(FoundMachine& machine) {
        std::map<std::string, std::string> names;
        std::set<std::string> taken{"lo"};
        for (const FoundNic& nic : machine.nics)
            if (nic.name == "lo" || is_nic_name(nic.name)) {
                names[nic.name] = nic.name;
                taken.insert(nic.name);
            }
        for (FoundNic& nic : machine.nics) {
            if (names.contains(nic.name))
                continue;
            std::string name = nearest_name(nic.name);
            for (std::size_t number = 0; !taken.insert(name).second; ++number)
                name = fmt::format("nic-{}", number);
            names[nic.name] = name;
        }
        for (FoundNic& nic : machine.nics) {
            const std::string& name = names[nic.name];
            if (name != nic.name)
                called_[{machine.name, name}] = nic.name;
            nic.name = name;
        }
        for (FoundRoute& route : machine.routes)
            if (auto known = names.find(route.nic); known != names.end())
                route.nic = known->second;
        if (!machine.rules)
            return;
        reach::FoundRules& rules = *machine.rules;
        std::map<std::string, std::vector<lab::FilterRule>> of_nics;
        for (auto& [nic, list] : rules.nics)
            of_nics[names.contains(nic) ? names[nic] : nic] = std::move(list);
        rules.nics = std::move(of_nics);
        for (reach::FoundRules::Translation& rule : rules.translations)
            if (names.contains(rule.nic))
                rule.nic = names[rule.nic];
        std::set<std::string> not_relaying;
        for (const std::string& nic : rules.not_relaying)
            not_relaying.insert(names.contains(nic) ? names[nic] : nic);
        rules.not_relaying = std::move(not_relaying);
    }
    static bool is_nic_name(std::string_view name) {
        return plan::is_name(name) && name != "all" && name != "default";
    }
    static std::string nearest_name(const std::string& name) {
        std::string near;
        for (char c : name)
            near += c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a')
                    : (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') ? c
                                                                       : '-';
        near.erase(near.find_last_not_of('-') + 1);
        near.erase(0, near.find_first_not_of('-'));
        return is_nic_name(near) ? near : "nic-0";
    }
    std::string words_on_name(const FoundMachine& machine, const FoundNic& nic) const {
        auto other = called_.find({machine.name, nic.name});
        return other == called_.end()
                   ? ""
                   : fmt::format(" # called \"{}\" there", plan::printable(other->second));
    }

    static net::Prefix prefix_of(const FoundNic::Address& address) {
        return {address.address, address.length};
    }

    void find_segments() {
        std::vector<std::size_t> parents(ends_.size());
        std::iota(parents.begin(), parents.end(), std::size_t{0});
        auto root = [&](std::size_t i) {
            while (parents[i] != i)
                i = parents[i] = parents[parents[i]];
            return i;
        };
        std::map<net::Prefix, std::size_t> first; // NIC with that prefix
        for (std::size_t i = 0; i < ends_.size(); ++i)
            for (const FoundNic::Address& address : ends_[i].nic->addresses) {
                if (address.length == net::address_bits(address.address.family()))
                    continue; // on no link
                auto [known, is_new] = first.emplace(prefix_of(address), i);
                if (!is_new)
                    parents[root(i)] = root(known->second);
            }
        std::map<std::size_t, std::size_t> numbers;
        for (std::size_t i = 0; i < ends_.size(); ++i) {
            auto [known, is_new] = numbers.emplace(root(i), segments_.size());
            if (is_new)
                segments_.emplace_back();
            ends_[i].segment = known->second;
            segments_[known->second].ends.push_back(i);
        }
        move_by_ear();
        std::size_t number = 0;
        for (Segment& segment : segments_) {
            for (net::Family family : net::both_families)
                segment.prefix[family] = commonest(segment, family);
            if (!is_link(segment))
                segment.name = fmt::format("net-{}", ++number);
        }
    }

    // A NIC that hears machines of one other segment alone is on that one, whatever its address
    // says.
    void move_by_ear() {
        std::multimap<std::uint64_t, std::size_t> by_mac;
        for (std::size_t i = 0; i < ends_.size(); ++i)
            by_mac.emplace(ends_[i].nic->mac.bits, i);
        std::map<std::size_t, std::size_t> to; // segments, by ends
        for (std::size_t i = 0; i < ends_.size(); ++i) {
            std::set<std::size_t> heard;
            for (net::Mac mac : ends_[i].nic->heard)
                for (auto [at, last] = by_mac.equal_range(mac.bits); at != last; ++at)
                    heard.insert(ends_[at->second].segment);
            if (heard.size() == 1 && *heard.begin() != ends_[i].segment)
                to[i] = *heard.begin();
        }
        for (const auto& [end, segment] : to) {
            std::erase(segments_[ends_[end].segment].ends, end);
            segments_[segment].ends.push_back(end);
            ends_[end].segment = segment;
            ends_[end].is_moved = true;
        }
        std::erase_if(segments_, [](const Segment& segment) { return segment.ends.empty(); });
        for (std::size_t segment = 0; segment < segments_.size(); ++segment)
            for (std::size_t end : segments_[segment].ends)
                ends_[end].segment = segment;
    }
    static std::string words_on_segment(const End& end) {
        return end.is_moved ? " # guessed: by whom it hears; its address is of another subnet" : "";
    }

    std::optional<net::Prefix> commonest(const Segment& segment, net::Family family) const {
        std::map<net::Prefix, std::size_t> count;
        for (std::size_t end : segment.ends)
            for (const FoundNic::Address& address : ends_[end].nic->addresses)
                if (address.address.family() == family
                    && address.length != net::address_bits(family))
                    ++count[prefix_of(address)];
        auto best = std::ranges::max_element(
            count, [](const auto& a, const auto& b) { return a.second < b.second; });
        return best == count.end() ? std::nullopt : std::optional(best->first);
    }

    // Two NICs of two machines that have just the addresses that a link of the plan gives its ends.
    bool is_link(const Segment& segment) const {
        if (segment.ends.size() != 2)
            return false;
        const End& one = ends_[segment.ends[0]];
        const End& other = ends_[segment.ends[1]];
        if (one.machine == other.machine || has_filter(one) || has_filter(other))
            return false;
        for (net::Family family : net::both_families) {
            const auto& prefix = segment.prefix[family];
            for (const End* end : {&one, &other})
                if (std::ranges::count_if(
                        end->nic->addresses,
                        [&](const auto& address) { return address.address.family() == family; })
                    != (prefix ? 1 : 0))
                    return false;
            const int longest = net::address_bits(family);
            if (prefix && prefix->length() < longest - 1)
                return false;
        }
        return is_first(one, segment) || is_first(other, segment);
    }

    // NICs of links have none in a plan.
    static bool has_filter(const End& end) {
        return end.machine->rules && end.machine->rules->nics.contains(end.nic->name);
    }

    // The end with the lower addresses, which stands first in the plan.
    static bool is_first(const End& end, const Segment& segment) {
        return std::ranges::all_of(end.nic->addresses, [&](const FoundNic::Address& address) {
            return segment.prefix[address.address.family()]
                   && address.address == segment.prefix[address.address.family()]->first();
        });
    }

    static std::string prefixes(const Segment& segment) {
        std::string list;
        for (net::Family family : net::both_families)
            if (const auto& prefix = segment.prefix[family])
                list += fmt::format("{}\"{}\"", list.empty() ? "" : ", ", net::to_string(*prefix));
        return list;
    }

    void write(const FoundMachine& machine) {
        text_ += fmt::format("  {}:{}\n    nics:", machine.name, words_on_forwarding(machine));
        bool has_any = false;
        for (const End& end : ends_)
            if (end.machine == &machine && !segments_[end.segment].name.empty()) {
                has_any = true;
                write(end);
            }
        text_ += has_any ? "\n" : " []\n";
        if (!forwards(machine))
            text_ += "    gateway: none\n";
        write_loopback(machine);
        if (!machine.routes.empty())
            text_ += "    routes:\n";
        for (const FoundRoute& route : machine.routes)
            write(machine, route);
        if (machine.rules)
            write_rules(*machine.rules);
    }

    void write(const FoundMachine& machine, const FoundRoute& route) {
        const auto via = next_hop(machine, route);
        if (!via)
            text_ += fmt::format("      # {} via {}, which nobody has\n", net::to_string(route.to),
                                 net::to_string(route.via));
        // A route to its own next hop says nothing, as that is near, and hides it from others.
        else if (route.to != net::Prefix(*via, net::address_bits(via->family())))
            text_ += fmt::format("      - {{to: \"{}\", via: \"{}\", metric: {}}}{}\n",
                                 net::to_string(route.to), net::to_string(*via), route.metric,
                                 route.is_learned ? " # guessed: a protocol taught it" : "");
    }

    void write_rules(const reach::FoundRules& rules) {
        if (!rules.machine.empty())
            text_ += fmt::format("    filter: {}\n", filter_name(rules.machine, machine_ways));
        if (!rules.translations.empty())
            text_ += "    nat:\n";
        for (const reach::FoundRules::Translation& rule : rules.translations)
            text_ += fmt::format("      - {}\n", reach::words(rule));
        if (!rules.not_relaying.empty())
            text_ += fmt::format("    # not taken over: nothing is passed on between {}\n",
                                 fmt::join(rules.not_relaying, ", "));
        for (const std::string& what : rules.unread)
            text_ += fmt::format("    # not taken over: {}\n", plan::printable(what));
    }

    // One filter for all that have the same rules.
    std::string filter_name(const std::vector<lab::FilterRule>& rules, int ways) {
        const bool drops_rest = std::ranges::count_if(rules, lab::drops_all) == ways;
        std::string text;
        for (const lab::FilterRule& rule : rules)
            if (!drops_rest || !lab::drops_all(rule))
                text += fmt::format("\n      - {}{}", plan::to_string(lab::as_written(rule)),
                                    rule.requests_only
                                        ? " # guessed: found of echo requests, a plan has all ICMP"
                                        : "");
        text = fmt::format("    default: {}\n    rules:{}\n", drops_rest ? "deny" : "allow",
                           text.empty() ? " []" : text);
        return filters_.emplace(std::move(text), fmt::format("filter-{}", filters_.size() + 1))
            .first->second;
    }

    void write_filters() {
        std::map<std::string, std::string> by_name;
        for (const auto& [text, name] : filters_)
            by_name.emplace(name, text);
        if (!by_name.empty())
            text_ += "filters:\n";
        for (const auto& [name, text] : by_name)
            text_ += fmt::format("  {}:\n{}", name, text);
    }

    void write(const End& end) {
        std::string addresses;
        for (const FoundNic::Address& address : end.nic->addresses)
            addresses += fmt::format("{}\"{}/{}\"", addresses.empty() ? "" : ", ",
                                     net::to_string(address.address), address.length);
        text_ += fmt::format("\n      - {{subnet: {}, name: {}, address: [{}], mac: \"{}\"",
                             segments_[end.segment].name, end.nic->name, addresses,
                             net::to_string(end.nic->mac));
        constexpr std::uint16_t usual_mtu = 1500;
        if (end.nic->mtu_bytes != usual_mtu)
            text_ += fmt::format(", mtu: {}", end.nic->mtu_bytes);
        if (has_filter(end))
            text_ += fmt::format(", filter: {}",
                                 filter_name(end.machine->rules->nics.at(end.nic->name), nic_ways));
        const bool works = end.nic->up && end.nic->has_carrier;
        text_ += works ? "}" : ", state: down}";
        if (end.nic->up && !works)
            text_ += " # guessed: it is up, and has no carrier";
        text_ += words_on_segment(end) + words_on_name(*end.machine, *end.nic);
    }

    void write_loopback(const FoundMachine& machine) {
        auto lo = std::ranges::find(machine.nics, "lo", &FoundNic::name);
        if (lo == machine.nics.end() || lo->addresses.empty())
            return;
        std::string addresses;
        std::set<net::Family> seen;
        for (const FoundNic::Address& address : lo->addresses)
            if (seen.insert(address.address.family()).second)
                addresses += fmt::format("{}\"{}\"", addresses.empty() ? "" : ", ",
                                         net::to_string(address.address));
        text_ += fmt::format("    loopback: [{}]\n", addresses);
    }

    // Link-local next hops are those of NICs by their MACs; a plan has the NIC's own address.
    std::optional<net::Address> next_hop(const FoundMachine& machine,
                                         const FoundRoute& route) const {
        if (!net::is_link_local(route.via))
            return route.via;
        for (const End& own : ends_)
            if (own.machine == &machine && own.nic->name == route.nic)
                for (std::size_t other : segments_[own.segment].ends)
                    if (net::link_local_address(ends_[other].nic->mac) == route.via)
                        for (const FoundNic::Address& address : ends_[other].nic->addresses)
                            if (address.address.family() == net::Family::ipv6)
                                return address.address;
        return std::nullopt;
    }

    void write_links() {
        std::string links;
        for (const Segment& segment : segments_) {
            if (!segment.name.empty())
                continue;
            const End* first = &ends_[segment.ends[0]];
            const End* second = &ends_[segment.ends[1]];
            if (!is_first(*first, segment))
                std::swap(first, second);
            const std::uint16_t mtu = std::min(first->nic->mtu_bytes, second->nic->mtu_bytes);
            links += fmt::format(
                "  - {{between: [{}, {}], nics: [{}, {}], prefix: [{}], mtu: {}{}}}{}{}\n",
                first->machine->name, second->machine->name, first->nic->name, second->nic->name,
                prefixes(segment), mtu,
                first->nic->has_carrier && second->nic->has_carrier ? "" : ", state: down",
                words_on_name(*first->machine, *first->nic),
                words_on_name(*second->machine, *second->nic));
        }
        if (!links.empty())
            text_ += "links:\n" + links;
    }

    static constexpr int nic_ways = 2; // in and out
    static constexpr int machine_ways = 3;

    std::string name_;
    reach::Facts facts_; // with names of NICs as a plan has them
    std::map<std::pair<std::string, std::string>, std::string> called_; // NICs that are renamed
    std::vector<End> ends_;
    std::vector<Segment> segments_;
    std::map<std::string, std::string> filters_; // their names by what they say
    std::string text_;
};

} // namespace

std::string adopted_plan(const std::string& name, const reach::Facts& facts) {
    return Adoption(name, facts).run();
}

} // namespace jackal::exports
