#include "jackal/lab/finding.h"

#include <algorithm>
#include <tuple>

namespace jackal::lab {

std::string_view to_string(Severity severity) {
    return severity == Severity::error ? "error" : "warning";
}

std::vector<std::string> to_lines(const Remedy& remedy, const plan::Plan& plan) {
    std::vector<std::string> lines;
    for (const auto& edit : plan::changes_of(remedy.edits, plan))
        lines.push_back(plan::to_line(edit));
    if (lines.empty() && !remedy.advice.empty())
        lines.push_back(remedy.advice);
    return lines;
}

void sort_findings(std::vector<Finding>& findings) {
    auto key = [](const Finding& f) {
        return std::tie(f.at.line, f.at.column, f.cause, f.subject, f.message);
    };
    std::ranges::sort(findings, [&](const auto& a, const auto& b) { return key(a) < key(b); });
    auto repeated = std::ranges::unique(
        findings, [&](const auto& a, const auto& b) { return key(a) == key(b); });
    findings.erase(repeated.begin(), repeated.end());
}

namespace {

// Whether an edit changes what is not written in the plan.
struct ChangesOutside {
    const Lab& lab;

    bool is_machine(std::string_view name) const {
        auto machine = lab.machine(name);
        return machine && (lab.machines[*machine].outside || lab.machines[*machine].is_core);
    }
    // A core's own routes are those of its site.
    bool operator()(const plan::AddRoute& e) const {
        auto machine = lab.machine(e.machine);
        return machine && lab.machines[*machine].outside;
    }
    bool operator()(const plan::SetRouteVia& e) const { return is_implied(e.machine, e.route); }
    bool operator()(const plan::RemoveRoute& e) const { return is_implied(e.machine, e.route); }
    bool is_implied(std::string_view name, std::size_t route) const {
        auto machine = lab.machine(name);
        return machine
               && (lab.machines[*machine].outside
                   || std::ranges::any_of(lab.routes_of(*machine), [&](RouteId id) {
                          return lab.routes[id].plan_index == route
                                 && lab.routes[id].origin == RouteOrigin::peering;
                      }));
    }
    bool is_subnet(std::string_view name) const {
        auto subnet = lab.subnet(name);
        return subnet && lab.subnets[*subnet].outside;
    }
    bool is_outside_link(std::size_t number) const {
        const Link& link = lab.links[LinkId{static_cast<std::uint32_t>(number)}];
        return lab.machines[lab.nics[link.first].machine].outside;
    }
    bool operator()(const plan::AddUplink&) const { return false; }
    bool operator()(const plan::AddRouter& e) const {
        return std::ranges::any_of(e.subnets,
                                   [&](const std::string& name) { return is_subnet(name); });
    }
    template <class Edit>
    bool operator()(const Edit& e) const {
        bool outside = false;
        if constexpr (requires { e.machine; })
            outside = is_machine(e.machine);
        if constexpr (requires { e.subnet; })
            outside |= is_subnet(e.subnet);
        if constexpr (requires { e.link; })
            outside |= is_outside_link(e.link);
        return outside;
    }
};

} // namespace

Remedy within(const Lab& lab, Remedy remedy) {
    bool outside = false;
    for (const plan::Edit& edit : remedy.edits)
        edit.visit([&](const auto& change) { outside |= ChangesOutside{lab}(change); });
    if (!outside)
        return remedy;
    return {{},
            "what is outside cannot be changed: let the lab translate, or give a subnet an uplink"};
}

} // namespace jackal::lab
