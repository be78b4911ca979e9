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
};

// NICs that share a prefix.
struct Segment {
    std::string name; // of a subnet; empty for a link
    std::vector<std::size_t> ends;
    lab::PerFamily<std::optional<net::Prefix>> prefix;
};

class Adoption {
  public:
    Adoption(std::string name, const reach::Facts& facts) : name_(std::move(name)), facts_(facts) {
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
                if (forwards(machine) == router && machine.answers) {
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
    // A guess where the two families differ: the plan has one word for both.
    static bool forwards(const FoundMachine& machine) {
        return machine.forwards[0].value_or(false) || machine.forwards[1].value_or(false);
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
        std::size_t number = 0;
        for (Segment& segment : segments_) {
            for (net::Family family : net::both_families)
                segment.prefix[family] = commonest(segment, family);
            if (!is_link(segment))
                segment.name = fmt::format("net-{}", ++number);
        }
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
        text_ += fmt::format("  {}:\n    nics:", machine.name);
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
            text_ += fmt::format("    # not taken over: {}\n", one_line(what));
    }

    // Names in facts are anybody's.
    static std::string one_line(std::string text) {
        std::ranges::replace_if(
            text, [](unsigned char c) { return c < ' '; }, ' ');
        return text;
    }

    // One filter for all that have the same rules.
    std::string filter_name(const std::vector<lab::FilterRule>& rules, int ways) {
        const bool drops_rest = std::ranges::count_if(rules, lab::drops_all) == ways;
        std::string text;
        for (const lab::FilterRule& rule : rules)
            if (!drops_rest || !lab::drops_all(rule))
                text += fmt::format("\n      - {}", plan::to_string(lab::as_written(rule)));
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
        text_ += end.nic->up ? "}" : ", state: down}";
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
            links +=
                fmt::format("  - {{between: [{}, {}], nics: [{}, {}], prefix: [{}], mtu: {}}}\n",
                            first->machine->name, second->machine->name, first->nic->name,
                            second->nic->name, prefixes(segment), mtu);
        }
        if (!links.empty())
            text_ += "links:\n" + links;
    }

    static constexpr int nic_ways = 2; // in and out
    static constexpr int machine_ways = 3;

    std::string name_;
    const reach::Facts& facts_;
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
