#include "export/settings/settings.h"
#include "jackal/export/facts.h"
#include "jackal/net/special_use.h"
#include "jackal/plan/write.h"
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
        plan_.lab = name_;
        for (const Segment& segment : segments_)
            if (!segment.name.empty())
                add_subnet(segment);
        for (bool router : {false, true})
            for (const FoundMachine& machine : facts_)
                if (machine.answers && forwards(machine) == router)
                    add(machine);
        add_links();
        std::string text = fmt::format("# Taken from what {} machines say of themselves; what is "
                                       "guessed is marked so.\n",
                                       facts_.size())
                           + plan::text_of(plan_, notes_);
        for (const FoundMachine& machine : facts_)
            if (!machine.answers)
                text += fmt::format("# {} gave no answer.\n", machine.name);
        return text;
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
        return *ipv4 ? "guessed: it forwards IPv4 alone, a plan has both or none"
                     : "guessed: it forwards IPv6 alone, a plan has both or none";
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
        return other == called_.end() ? "" : fmt::format("called \"{}\" there", other->second);
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

    static std::vector<plan::Placed<net::Prefix>> prefixes(const Segment& segment) {
        std::vector<plan::Placed<net::Prefix>> list;
        for (net::Family family : net::both_families)
            if (const auto& prefix = segment.prefix[family])
                list.emplace_back(*prefix);
        return list;
    }

    void note(const plan::Place& place, std::string text) {
        if (!text.empty())
            notes_.push_back({place, std::move(text)});
    }

    void add_subnet(const Segment& segment) {
        plan::Subnet& subnet = plan_.subnets.emplace_back();
        subnet.name = segment.name;
        subnet.prefixes = prefixes(segment);
        subnet.gateway.kind = plan::SubnetGateway::Kind::none;
        subnet.gateway.written = true;
    }

    void add(const FoundMachine& found) {
        const bool is_router = forwards(found);
        plan::Machine& machine = plan_.machines.emplace_back();
        machine.kind = is_router ? plan::MachineKind::router : plan::MachineKind::guest;
        machine.name = found.name;
        const plan::Place place =
            plan::Place{}.key(is_router ? "routers" : "guests").name(found.name);
        note(place, std::string(words_on_forwarding(found)));
        for (const End& end : ends_)
            if (end.machine == &found && !segments_[end.segment].name.empty())
                add(end, machine, place.key("nics").index(machine.nics.size()));
        if (!is_router)
            machine.gateway = plan::MachineGateway{.kind = plan::MachineGateway::Kind::none};
        add_loopback(found, machine);
        for (const FoundRoute& route : found.routes)
            add(found, route, machine, place);
        if (found.rules)
            add_rules(*found.rules, machine, place);
    }

    void add(const FoundMachine& found, const FoundRoute& route, plan::Machine& machine,
             const plan::Place& place) {
        const auto via = next_hop(found, route);
        if (!via)
            return note(place, fmt::format("not taken over: {} via {}, which nobody has",
                                           net::to_string(route.to), net::to_string(route.via)));
        // A route to its own next hop says nothing, as that is near, and hides it from others.
        if (route.to == net::Prefix(*via, net::address_bits(via->family())))
            return;
        if (route.is_learned)
            note(place.key("routes").index(machine.routes.size()), "guessed: a protocol taught it");
        plan::Route& added = machine.routes.emplace_back();
        added.to = plan::Route::Target(route.to);
        added.via = plan::Route::NextHop(*via);
        added.metric = route.metric;
    }

    void add_rules(const reach::FoundRules& rules, plan::Machine& machine,
                   const plan::Place& place) {
        plan::Duties duties;
        if (!rules.machine.empty())
            duties.filter = filter_name(rules.machine, machine_ways);
        for (const reach::FoundRules::Translation& rule : rules.translations)
            duties.translations.push_back(reach::as_written(rule));
        if (!(duties == plan::Duties{}))
            machine.duties = std::move(duties);
        if (!rules.not_relaying.empty())
            note(place, fmt::format("not taken over: nothing is passed on between {}",
                                    fmt::join(rules.not_relaying, ", ")));
        for (const std::string& what : rules.unread)
            note(place, "not taken over: " + what);
    }

    // One filter for all that have the same rules.
    std::string filter_name(const std::vector<lab::FilterRule>& rules, int ways) {
        const bool drops_rest = std::ranges::count_if(rules, lab::drops_all) == ways;
        plan::Filter filter;
        filter.allows = !drops_rest;
        std::vector<std::size_t> guessed;
        for (const lab::FilterRule& rule : rules) {
            if (drops_rest && lab::drops_all(rule))
                continue;
            if (rule.requests_only)
                guessed.push_back(filter.rules.size());
            filter.rules.push_back(lab::as_written(rule));
        }
        for (std::size_t i = 0; i < plan_.filters.size(); ++i) {
            filter.name = plan_.filters[i].name;
            if (filter == plan_.filters[i] && guessed == guessed_[i])
                return filter.name;
        }
        filter.name = fmt::format("filter-{}", plan_.filters.size() + 1);
        for (std::size_t rule : guessed)
            note(plan::Place{}.key("filters").name(filter.name).key("rules").index(rule),
                 "guessed: found of echo requests, a plan has all ICMP");
        guessed_.push_back(std::move(guessed));
        return plan_.filters.emplace_back(std::move(filter)).name;
    }

    void add(const End& end, plan::Machine& machine, const plan::Place& place) {
        plan::Nic& nic = machine.nics.emplace_back();
        nic.subnet = segments_[end.segment].name;
        nic.name = end.nic->name;
        nic.address.kind = plan::NicAddress::Kind::given;
        for (const FoundNic::Address& address : end.nic->addresses)
            nic.address.given.emplace_back(plan::GivenAddress{address.address, address.length});
        nic.mac = end.nic->mac;
        nic.mtu_bytes = mtu(end.nic->mtu_bytes);
        if (has_filter(end))
            nic.options = plan::NicOptions{
                .filter = filter_name(end.machine->rules->nics.at(end.nic->name), nic_ways)};
        nic.up = end.nic->up && end.nic->has_carrier;
        if (end.nic->up && !nic.up)
            note(place, "guessed: it is up, and has no carrier");
        if (end.is_moved)
            note(place, "guessed: by whom it hears; its address is of another subnet");
        note(place, words_on_name(*end.machine, *end.nic));
    }

    static std::optional<std::uint16_t> mtu(std::uint16_t bytes) {
        constexpr std::uint16_t usual = 1500;
        return bytes == usual ? std::nullopt : std::optional(bytes);
    }

    static void add_loopback(const FoundMachine& found, plan::Machine& machine) {
        auto lo = std::ranges::find(found.nics, "lo", &FoundNic::name);
        if (lo == found.nics.end() || lo->addresses.empty())
            return;
        plan::Loopback loopback;
        std::set<net::Family> seen;
        for (const FoundNic::Address& address : lo->addresses)
            if (seen.insert(address.address.family()).second)
                loopback.given.emplace_back(address.address);
        machine.loopback = std::move(loopback);
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

    void add_links() {
        for (const Segment& segment : segments_) {
            if (!segment.name.empty())
                continue;
            const End* first = &ends_[segment.ends[0]];
            const End* second = &ends_[segment.ends[1]];
            if (!is_first(*first, segment))
                std::swap(first, second);
            const plan::Place place = plan::Place{}.key("links").index(plan_.links.size());
            plan::Link& link = plan_.links.emplace_back();
            link.first = first->machine->name;
            link.second = second->machine->name;
            link.nics = {first->nic->name, second->nic->name};
            link.prefixes = prefixes(segment);
            link.mtu_bytes = mtu(std::min(first->nic->mtu_bytes, second->nic->mtu_bytes));
            link.up = first->nic->has_carrier && second->nic->has_carrier;
            for (const End* end : {first, second})
                note(place, words_on_name(*end->machine, *end->nic));
        }
    }

    static constexpr int nic_ways = 2; // in and out
    static constexpr int machine_ways = 3;

    std::string name_;
    reach::Facts facts_; // with names of NICs as a plan has them
    std::map<std::pair<std::string, std::string>, std::string> called_; // NICs that are renamed
    std::vector<End> ends_;
    std::vector<Segment> segments_;
    plan::Plan plan_;
    std::vector<plan::Note> notes_;
    std::vector<std::vector<std::size_t>> guessed_; // by filter: which of its rules
};

} // namespace

std::string adopted_plan(const std::string& name, const reach::Facts& facts) {
    return Adoption(name, facts).run();
}

} // namespace jackal::exports
