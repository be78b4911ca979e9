#include "jackal/reach/compare.h"

#include "jackal/limits.h"
#include "jackal/probe/question.h"
#include "jackal/reach/grid.h"
#include "reach/speaker.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>
#include <set>

namespace jackal::reach {

using lab::Lab;
using lab::MachineId;
using lab::NicId;

ReachSum sum_of(const std::vector<ReachChange>& changes) {
    ReachSum sum;
    for (const ReachChange& change : changes) {
        sum.gained += change.gained;
        sum.lost += change.lost;
    }
    return sum;
}

std::string_view to_string(Aspect aspect) {
    switch (aspect) {
    case Aspect::name: return "name";
    case Aspect::subnet: return "subnet";
    case Aspect::machine: return "machine";
    case Aspect::nic: return "nic";
    case Aspect::address: return "address";
    case Aspect::lease: return "lease";
    case Aspect::mac: return "mac";
    case Aspect::gateway: return "gateway";
    case Aspect::route: break;
    }
    return "route";
}

namespace {

// What something is called after the change, by what it was called before.
using NewNames = std::map<std::string, std::string>;

std::string now(const NewNames& names, const std::string& name) {
    auto found = names.find(name);
    return found == names.end() ? name : found->second;
}

// The same of machines in `quay-r1 -- lamp-r1`, `quay-r1/eth2--lamp-r1/eth0` and the like.
std::string now_within(const NewNames& machines, const std::string& text) {
    std::string out;
    for (std::size_t at = 0; at < text.size();) {
        std::size_t dashes = text.find("--", at);
        std::size_t end = std::min({text.find_first_of("/: ", at), dashes, text.size()});
        out += now(machines, text.substr(at, end - at));
        std::size_t next = end == dashes ? end + 2 : std::min(end + 1, text.size());
        out += text.substr(end, next - end);
        at = next;
    }
    return out;
}

std::string joined(std::vector<std::string> words) {
    std::string text;
    for (const std::string& word : words)
        text += (text.empty() ? "" : " ") + word;
    return text;
}

// Things with names, each with what makes it the same thing under another name.
using Named = std::map<std::string, std::set<std::string>>;

// Pairs those that are gone with those that are new, where what they have is the same, and only
// there.
NewNames renamed(const Named& before, const Named& after) {
    std::map<std::set<std::string>, std::vector<std::string>> gone;
    std::map<std::set<std::string>, std::vector<std::string>> come;
    for (const auto& [name, marks] : before)
        if (!after.contains(name) && !marks.empty())
            gone[marks].push_back(name);
    for (const auto& [name, marks] : after)
        if (!before.contains(name) && !marks.empty())
            come[marks].push_back(name);
    NewNames names;
    for (const auto& [marks, old] : gone)
        if (auto found = come.find(marks);
            found != come.end() && old.size() == 1 && found->second.size() == 1)
            names[old.front()] = found->second.front();
    return names;
}

Named subnets_of(const Lab& lab) {
    Named named;
    for (const lab::Subnet& subnet : lab.subnets)
        if (!subnet.outside)
            for (net::Family family : net::both_families)
                if (const auto& prefix = lab.segments[subnet.segment].prefix[family])
                    named[subnet.name].insert(net::to_string(*prefix));
    return named;
}

Named machines_of(const Lab& lab) {
    Named named;
    for (MachineId id : lab.machines.ids()) {
        if (lab.machines[id].outside)
            continue;
        auto& marks = named[lab.machines[id].name];
        for (NicId nic : lab.nics_of(id))
            for (lab::AddressId address : lab.addresses_of(nic))
                marks.insert(net::to_string(lab.addresses[address].address));
    }
    return named;
}

// All that may change of a lab, as texts by what they are about, in the names of after.
class LabTraits {
  public:
    using Key = std::pair<Aspect, std::string>;

    LabTraits(const routing::Settled& settled, const NewNames& subnets, const NewNames& machines)
        : settled_(settled), lab_(settled.lab()), subnets_(subnets), machines_(machines) {
        for (const lab::Subnet& subnet : lab_.subnets)
            if (!subnet.outside)
                add_subnet(subnet);
        for (MachineId id : lab_.machines.ids())
            if (!lab_.machines[id].outside)
                add_machine(id);
    }

    const std::map<Key, std::string>& all() const { return facts_; }

  private:
    void add(Aspect aspect, const std::string& what, std::string text) {
        if (!text.empty())
            facts_[{aspect, what}] = std::move(text);
    }

    void add_subnet(const lab::Subnet& subnet) {
        std::vector<std::string> prefixes;
        std::vector<std::string> gateways;
        for (net::Family family : net::both_families) {
            if (const auto& prefix = lab_.segments[subnet.segment].prefix[family])
                prefixes.push_back(net::to_string(*prefix));
            if (subnet.gateway[family])
                gateways.push_back(net::to_string(*subnet.gateway[family]));
        }
        std::string name = now(subnets_, subnet.name);
        add(Aspect::subnet, name, prefixes.empty() ? "without prefix" : joined(prefixes));
        add(Aspect::gateway, name, joined(gateways));
    }

    void add_machine(MachineId id) {
        const lab::Machine& machine = lab_.machines[id];
        const std::string name = now(machines_, machine.name);
        bool is_router = machine.kind == plan::MachineKind::router;
        add(Aspect::machine, name,
            fmt::format("{}{}{}", is_router ? "router" : "guest",
                        machine.forwards_any() == is_router ? ""
                        : is_router                         ? " that does not forward"
                                                            : " that forwards",
                        machine.up ? "" : ", off"));
        for (NicId nic : lab_.nics_of(id))
            add_nic(nic, name + "/" + lab_.nics[nic].name);
        std::vector<std::string> gateways;
        for (lab::RouteId route : lab_.routes_of(id))
            if (lab_.routes[route].is_gateway())
                gateways.push_back(net::to_string(lab_.routes[route].via));
        add(Aspect::gateway, name, joined(gateways));
        add_routes(id, name);
    }

    void add_nic(NicId nic, const std::string& name) {
        const lab::Nic& row = lab_.nics[nic];
        std::string segment = lab_.segment_name(row.segment);
        segment = lab_.segments[row.segment].subnet ? now(subnets_, segment)
                                                    : now_within(machines_, segment);
        if (!row.is_loopback()) {
            add(Aspect::nic, name, fmt::format("on {}{}", segment, row.up ? "" : ", down"));
            add(Aspect::mac, name, net::to_string(row.mac));
        }
        std::vector<std::string> given;
        std::vector<std::string> leased;
        for (lab::AddressId id : lab_.addresses_of(nic)) {
            const lab::InterfaceAddress& address = lab_.addresses[id];
            (address.origin == lab::AddressOrigin::lease ? leased : given)
                .push_back(fmt::format("{}/{}", net::to_string(address.address), address.length));
        }
        add(Aspect::address, name, joined(given));
        add(Aspect::lease, name, joined(leased));
    }

    // But for what the addresses alone bring.
    void add_routes(MachineId id, const std::string& name) {
        std::map<std::string, std::vector<std::string>> ways;
        for (const routing::Route& route : settled_.routes(id)) {
            bool is_implied = route.kind == routing::RouteKind::connected
                              || route.kind == routing::RouteKind::local
                              || route.kind == routing::RouteKind::broadcast
                              || (route.written && lab_.routes[route.written].is_gateway());
            if (!is_implied)
                ways[net::to_string(route.to)].push_back(fmt::format(
                    "{}by {} ({})",
                    route.has_next_hop() ? "via " + net::to_string(route.via) + " " : "",
                    lab_.nics[route.out].name, routing::to_string(route.kind)));
        }
        for (auto& [to, some] : ways) {
            std::ranges::sort(some);
            add(Aspect::route, fmt::format("{} to {}", name, to), joined(some));
        }
    }

    const routing::Settled& settled_;
    const Lab& lab_;
    const NewNames& subnets_;
    const NewNames& machines_;
    std::map<Key, std::string> facts_;
};

class Comparer {
  public:
    Comparer(const routing::Settled& before, const routing::Settled& after)
        : before_(before), after_(after),
          subnets_(renamed(subnets_of(before.lab()), subnets_of(after.lab()))),
          machines_(renamed(machines_of(before.lab()), machines_of(after.lab()))) {}

    Comparison run(const std::function<void(std::size_t, std::size_t)>& progress) {
        constexpr std::size_t steps = 4;
        auto tell = [&](std::size_t step) {
            if (progress)
                progress(step, steps);
        };
        compare_facts();
        tell(1);
        compare_reach(std::nullopt);
        tell(2);
        Check before = check(before_);
        tell(3);
        Check after = check(after_);
        tell(4);
        compare_expectations(before, after);
        compare_findings(std::move(before.findings), std::move(after.findings));
        return std::move(comparison_);
    }

    std::vector<ReachChange> run_reach(net::Family family) {
        compare_reach(family);
        return std::move(comparison_.reach);
    }

  private:
    void compare_facts() {
        for (const auto& [aspect, names] :
             {std::pair("subnet ", &subnets_), std::pair("machine ", &machines_)})
            for (const auto& [old, name] : *names)
                comparison_.changes.push_back({Aspect::name, aspect + name, old, name});
        const LabTraits one(before_, subnets_, machines_);
        const LabTraits other(after_, {}, {});
        auto add = [&](const LabTraits::Key& key, std::string before, std::string after) {
            comparison_.changes.push_back(
                {key.first, key.second, std::move(before), std::move(after)});
        };
        for (const auto& [key, text] : one.all()) {
            auto found = other.all().find(key);
            if (found == other.all().end())
                add(key, text, "");
            else if (found->second != text)
                add(key, text, found->second);
        }
        for (const auto& [key, text] : other.all())
            if (!one.all().contains(key))
                add(key, "", text);
        // Of what is gone or new, its parts need no words.
        std::set<std::string> whole;
        for (const Change& change : comparison_.changes)
            if ((change.aspect == Aspect::machine || change.aspect == Aspect::nic
                 || change.aspect == Aspect::subnet)
                && (change.before.empty() || change.after.empty()))
                whole.insert(change.what);
        std::erase_if(comparison_.changes, [&](const Change& change) {
            std::string owner = change.what.substr(0, change.what.find_first_of("/ "));
            bool is_part = change.aspect != Aspect::machine && change.aspect != Aspect::subnet
                           && change.aspect != Aspect::name;
            return is_part
                   && (whole.contains(owner)
                       || (change.aspect != Aspect::nic && whole.contains(change.what)));
        });
        std::ranges::stable_sort(comparison_.changes, {}, &Change::aspect);
    }

    // --- reach ---------------------------------------------------------------------------------

    static std::string subnet_of(const Lab& lab, const std::string& machine) {
        NicId nic = lab.machines[*lab.machine(machine)].first_nic;
        return lab.segment_name(lab.nics[nic].segment);
    }

    using ReachChanges = std::map<std::pair<std::string, std::string>, ReachChange>;

    // Of very many machines some ask at a time.
    void compare_reach(std::optional<net::Family> family) {
        GridQuestion question{.by = By::machine, .family = family};
        ReachChanges changes;
        std::set<std::string> asked;
        const Lab& lab = before_.lab();
        const std::size_t most_rows = std::max<std::size_t>(
            1, limits::grid_cells
                   / std::max<std::size_t>({1, lab.machines.size(), after_.lab().machines.size()}));
        std::vector<std::string> senders;
        for (const lab::Machine& machine : lab.machines)
            if (machine.kind == plan::MachineKind::guest && !machine.outside)
                senders.push_back(machine.name);
        if (senders.size() <= most_rows) // whatever they are called
            compare_cells(question, question, asked, changes);
        for (std::size_t i = 0; senders.size() > most_rows && i < senders.size(); i += most_rows) {
            GridQuestion after = question;
            question.from.clear();
            after.from.clear();
            for (std::size_t k = i; k < std::min(i + most_rows, senders.size()); ++k)
                if (const std::string& name = now(machines_, senders[k]);
                    after_.lab().machine(name)) {
                    question.from.push_back(senders[k]);
                    after.from.push_back(name);
                }
            if (!after.from.empty())
                compare_cells(question, after, asked, changes);
        }
        for (auto& [key, change] : changes) {
            add_cause(change, family);
            comparison_.reach.push_back(std::move(change));
        }
    }

    void compare_cells(const GridQuestion& before, const GridQuestion& after,
                       std::set<std::string>& asked, ReachChanges& changes) const {
        const Grid one = grid(before_, before);
        const Grid other = grid(after_, after);
        std::map<std::string, std::size_t> rows;
        std::map<std::string, std::size_t> columns;
        for (std::size_t i = 0; i < other.rows.size(); ++i)
            rows[other.rows[i]] = i;
        for (std::size_t i = 0; i < other.columns.size(); ++i)
            columns[other.columns[i]] = i;
        for (std::size_t r = 0; r < one.rows.size(); ++r) {
            const auto row = rows.find(now(machines_, one.rows[r]));
            if (row == rows.end() || !asked.insert(one.rows[r]).second)
                continue;
            for (std::size_t c = 0; c < one.columns.size(); ++c) {
                const auto column = columns.find(now(machines_, one.columns[c]));
                if (column == columns.end())
                    continue;
                const std::uint64_t replied = one.cell(r, c).replies;
                const std::uint64_t replies = other.cell(row->second, column->second).replies;
                if (replied != replies)
                    add_reach(row->first, column->first, replied, replies, changes);
            }
        }
    }

    void add_reach(const std::string& from, const std::string& to, std::uint64_t replied,
                   std::uint64_t replies, ReachChanges& changes) const {
        std::string ends[2] = {subnet_of(after_.lab(), from), subnet_of(after_.lab(), to)};
        ReachChange& change = changes[{ends[0], ends[1]}];
        change.from = ends[0];
        change.to = ends[1];
        bool is_lost = replies < replied;
        if ((is_lost && change.lost == 0) || (change.lost == 0 && change.gained == 0)) {
            change.first[0] = from;
            change.first[1] = to;
        }
        (is_lost ? change.lost : change.gained) += is_lost ? replied - replies : replies - replied;
    }

    void add_cause(ReachChange& change, std::optional<net::Family> family) const {
        const routing::Settled& settled = change.lost != 0 ? after_ : before_;
        std::string names[2];
        for (int i : {0, 1}) {
            names[i] = change.first[i];
            if (change.lost == 0)
                for (const auto& [old, name] : machines_)
                    if (name == change.first[i])
                        names[i] = old;
        }
        if (auto question = probe::question(settled.lab(), names[0], names[1], {.family = family}))
            change.cause = probe::ping(settled, *question).diagnosis;
    }

    // --- expectations and findings -------------------------------------------------------------

    static std::string text_of(const plan::Expectation& wanted) {
        std::string ends = wanted.from.value + ", " + wanted.to.value;
        if (wanted.service)
            ends += ", " + net::to_string(*wanted.service);
        std::string text = fmt::format("{} [{}]",
                                       wanted.apart     ? "apart"
                                       : wanted.service ? "connect"
                                                        : "ping",
                                       ends);
        if (!wanted.apart)
            text += " gets " + wanted.gets.value;
        if (wanted.family)
            text += fmt::format(", family {}", static_cast<int>(*wanted.family));
        for (const auto& cut : wanted.cuts)
            text += ", cut " + cut.value;
        if (wanted.any_cuts != 0)
            text += wanted.any_cuts == 1 ? ", cut any" : ", cut any-two";
        return text;
    }

    // By the text in the names of after.
    std::map<std::string, const Verdict*> verdicts(const Lab& lab, const Check& check,
                                                   bool is_before) const {
        std::map<std::string, const Verdict*> found;
        for (const Verdict& verdict : check.verdicts) {
            plan::Expectation wanted = lab.expectations[verdict.expectation];
            if (is_before) {
                for (auto* end : {&wanted.from.value, &wanted.to.value})
                    *end = now(subnets_, now_within(machines_, *end));
                for (plan::Placed<std::string>& cut : wanted.cuts)
                    cut.value = now_within(machines_, cut.value);
            }
            found.emplace(text_of(wanted), &verdict);
        }
        return found;
    }

    void compare_expectations(const Check& before, const Check& after) {
        const auto one = verdicts(before_.lab(), before, true);
        const auto other = verdicts(after_.lab(), after, false);
        for (const auto& [text, verdict] : one) {
            auto found = other.find(text);
            if (found == other.end())
                comparison_.expectations.push_back({text, verdict->passed, std::nullopt, ""});
            else if (found->second->passed != verdict->passed)
                comparison_.expectations.push_back(
                    {text, verdict->passed, found->second->passed, found->second->explanation});
        }
        for (const auto& [text, verdict] : other)
            if (!one.contains(text))
                comparison_.expectations.push_back(
                    {text, std::nullopt, verdict->passed, verdict->explanation});
    }

    void compare_findings(std::vector<lab::Finding> one, std::vector<lab::Finding> other) {
        auto key = [](const lab::Finding& finding, const NewNames* names) {
            std::string subject = finding.subject.substr(0, finding.subject.find('/'));
            std::string rest = finding.subject.substr(subject.size());
            return std::pair(finding.cause,
                             (names != nullptr ? now(*names, subject) : subject) + rest);
        };
        NewNames all = machines_;
        all.insert(subnets_.begin(), subnets_.end());
        std::multiset<std::pair<plan::Cause, std::string>> known[2];
        for (const lab::Finding& finding : one)
            known[0].insert(key(finding, &all));
        for (const lab::Finding& finding : other)
            known[1].insert(key(finding, nullptr));
        for (lab::Finding& finding : one)
            if (!known[1].contains(key(finding, &all)))
                comparison_.gone.push_back(std::move(finding));
        for (lab::Finding& finding : other)
            if (!known[0].contains(key(finding, nullptr)))
                comparison_.come.push_back(std::move(finding));
    }

    const routing::Settled& before_;
    const routing::Settled& after_;
    const NewNames subnets_;
    const NewNames machines_;
    Comparison comparison_;
};

} // namespace

Comparison compare(const routing::Settled& before, const routing::Settled& after,
                   const std::function<void(std::size_t, std::size_t)>& progress) {
    return Comparer(before, after).run(progress);
}

std::vector<ReachChange> reach_changes(const routing::Settled& before,
                                       const routing::Settled& after, net::Family family) {
    return Comparer(before, after).run_reach(family);
}

} // namespace jackal::reach
