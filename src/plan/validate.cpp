#include "jackal/plan/validate.h"

#include "jackal/plan/cause.h"

#include <algorithm>
#include <fmt/format.h>
#include <unordered_map>

namespace jackal::plan {

namespace {

// Names of one sort of entry, for looking up and for suggesting.
class Names {
  public:
    explicit Names(std::string what) : what_(std::move(what)) {}

    bool add(std::string_view name) { return where_.emplace(name, where_.size()).second; }
    bool has(std::string_view name) const { return where_.contains(name); }

    std::string unknown(std::string_view name) {
        std::vector<std::string_view> known;
        if (suggestions_++ < most_suggestions)
            for (const auto& [word, _] : where_)
                known.push_back(word);
        std::ranges::sort(known);
        std::string_view near = nearest_word(name, known);
        if (!near.empty())
            return fmt::format("there is no {} \"{}\"; did you mean {}?", what_, name, near);
        return fmt::format("there is no {} \"{}\"", what_, name);
    }

  private:
    static constexpr int most_suggestions = 50; // searching among many names takes its time

    std::string what_;
    std::unordered_map<std::string_view, std::size_t> where_;
    int suggestions_ = 0;
};

class Validator {
  public:
    explicit Validator(const Plan& plan) : plan_(plan) {}

    std::vector<Problem> run() {
        check_lab_name();
        collect_names();
        for (const Subnet& subnet : plan_.subnets)
            check_subnet(subnet);
        count_link_nics();
        for (const Machine& machine : plan_.machines)
            check_machine(machine);
        for (const Link& link : plan_.links)
            check_link(link);
        for (const Expectation& expectation : plan_.expectations)
            check_expectation(expectation);
        return std::move(problems_);
    }

  private:
    void problem(Mark at, std::string message) { problems_.push_back({at, std::move(message)}); }

    void check_lab_name() {
        if (plan_.lab.empty())
            problem({1, 1}, "a plan needs `lab: NAME`");
        else
            check_name(plan_.lab, {1, 1});
    }

    void check_name(std::string_view name, Mark at) {
        if (!is_name(name))
            problem(at, fmt::format("the name \"{}\" is not a host-name label: a-z, 0-9 and inner "
                                    "hyphens, at most 63 of them",
                                    name.substr(0, 80)));
    }

    template <class Entries>
    void collect(const Entries& entries, Names& names) {
        for (const auto& entry : entries) {
            check_name(entry.name, entry.at);
            if (!names.add(entry.name))
                problem(entry.at, fmt::format("the name \"{}\" is taken already", entry.name));
        }
    }

    void collect_names() {
        collect(plan_.sites, sites_);
        collect(plan_.subnets, subnets_);
        collect(plan_.machines, machines_);
        for (const Machine& machine : plan_.machines)
            machine_of_.emplace(machine.name, &machine);
    }

    void count_link_nics() {
        for (const Link& link : plan_.links) {
            ++link_nics_[link.first.value];
            ++link_nics_[link.second.value];
        }
    }

    void check_subnet(const Subnet& subnet) {
        if (subnet.site && !sites_.has(subnet.site->value))
            problem(subnet.site->at, sites_.unknown(subnet.site->value));
        if (!subnet.site && plan_.sites.size() > 1)
            problem(subnet.at,
                    fmt::format("subnet {} needs `site`, as there are several sites", subnet.name));
        int ways =
            (subnet.prefixes.empty() ? 0 : 1) + (subnet.hosts ? 1 : 0) + (subnet.size ? 1 : 0);
        if (ways > 1)
            problem(subnet.at, fmt::format("subnet {} has more than one of prefix, hosts and size",
                                           subnet.name));
    }

    void check_machine(const Machine& machine) {
        Names nics(fmt::format("NIC of {}", machine.name));
        std::size_t count = machine.nics.size();
        if (auto more = link_nics_.find(machine.name); more != link_nics_.end())
            count += more->second;
        std::vector<std::string> names; // owns what `nics` refers to
        names.reserve(count);
        for (std::size_t i = 0; i < count; ++i) {
            std::string& name = names.emplace_back(nic_name(machine, i));
            Mark at = i < machine.nics.size() ? machine.nics[i].at : machine.at;
            check_name(name, at);
            if (name.size() > 15)
                problem(at, fmt::format("the NIC name \"{}\" is longer than 15 letters", name));
            if (!nics.add(name))
                problem(at, fmt::format("{} has two NICs named \"{}\"", machine.name, name));
        }
        for (const Nic& nic : machine.nics)
            if (!nic.subnet.value.empty() && !subnets_.has(nic.subnet.value))
                problem(nic.subnet.at, subnets_.unknown(nic.subnet.value));
        for (const Route& route : machine.routes)
            check_route(route, nics);
    }

    void check_route(const Route& route, Names& nics) {
        if (const auto* to = std::get_if<std::string>(&route.to.value);
            to != nullptr && !to->empty() && !subnets_.has(*to))
            problem(route.to.at, subnets_.unknown(*to));
        if (const auto* via = std::get_if<std::string>(&route.via.value);
            via != nullptr && !via->empty() && !machines_.has(*via))
            problem(route.via.at, machines_.unknown(*via));
        if (route.nic && !nics.has(route.nic->value))
            problem(route.nic->at, nics.unknown(route.nic->value));
        const auto* to = std::get_if<net::Prefix>(&route.to.value);
        const auto* via = std::get_if<net::Address>(&route.via.value);
        if (to != nullptr && via != nullptr && to->family() != via->family())
            problem(route.via.at,
                    fmt::format("an {} prefix cannot go via an {} address",
                                net::to_string(to->family()), net::to_string(via->family())));
    }

    void check_link(const Link& link) {
        for (const auto* end : {&link.first, &link.second})
            if (!end->value.empty() && !machines_.has(end->value))
                problem(end->at, machines_.unknown(end->value));
        if (!link.first.value.empty() && link.first.value == link.second.value)
            problem(link.second.at, fmt::format("a link from {} to itself", link.first.value));
        for (const auto& prefix : link.prefixes)
            if (prefix.value.usable() < 2)
                problem(prefix.at, fmt::format("{} has no two addresses for a link",
                                               net::to_string(prefix.value)));
    }

    void check_expectation(const Expectation& expectation) {
        check_endpoint(expectation.from, false);
        check_endpoint(expectation.to, true);
        const std::string& gets = expectation.gets.value;
        if (gets == "reply" || gets == "no-reply" || cause_from_slug(gets))
            return;
        std::vector<std::string_view> known = {"reply", "no-reply"};
        for (const CauseText& text : all_causes())
            known.push_back(text.slug);
        std::string_view near = nearest_word(gets, known);
        problem(expectation.gets.at,
                fmt::format("\"{}\" is no outcome; {}", gets,
                            near.empty() ? "write reply, no-reply or the slug of a cause"
                                         : fmt::format("did you mean {}?", near)));
    }

    void check_endpoint(const Placed<std::string>& end, bool address_allowed) {
        auto [name, nic] = split_endpoint(end.value);
        if (name.empty() || (address_allowed && net::parse_address(end.value)))
            return;
        if (!nic.empty()) {
            check_nic_endpoint(end.at, name, nic);
        } else if (!machines_.has(name) && !subnets_.has(name) && !sites_.has(name)) {
            problem(end.at,
                    fmt::format("{}, nor a subnet or site of that name", machines_.unknown(name)));
        }
    }

    void check_nic_endpoint(Mark at, std::string_view name, std::string_view nic) {
        auto found = machine_of_.find(name);
        if (found == machine_of_.end())
            return problem(at, machines_.unknown(name));
        const Machine& machine = *found->second;
        auto more = link_nics_.find(machine.name);
        std::size_t count = machine.nics.size() + (more == link_nics_.end() ? 0 : more->second);
        for (std::size_t i = 0; i < count; ++i)
            if (nic_name(machine, i) == nic)
                return;
        problem(at, fmt::format("{} has no NIC \"{}\"", name, nic));
    }

    const Plan& plan_;
    std::vector<Problem> problems_;
    Names sites_{"site"};
    Names subnets_{"subnet"};
    Names machines_{"machine"};
    std::unordered_map<std::string_view, const Machine*> machine_of_;
    std::unordered_map<std::string_view, std::size_t> link_nics_;
};

} // namespace

std::vector<Problem> problems(const Plan& plan) {
    return Validator(plan).run();
}

std::pair<std::string_view, std::string_view> split_endpoint(std::string_view text) {
    std::size_t slash = text.find('/');
    if (slash == text.npos)
        return {text, {}};
    return {text.substr(0, slash), text.substr(slash + 1)};
}

std::string nic_name(const Machine& machine, std::size_t position) {
    if (position < machine.nics.size() && !machine.nics[position].name.empty())
        return machine.nics[position].name;
    return fmt::format("eth{}", position);
}

} // namespace jackal::plan
