#include "plan/validate/validation.h"

#include "jackal/plan/cause.h"
#include "jackal/plan/sites.h"
#include "jackal/plan/validate.h"

#include <fmt/format.h>

namespace jackal::plan {

namespace {

void check_tunnel(Validation& v, const Link& link) {
    for (int end : {0, 1}) {
        const std::string& name = (end == 0 ? link.first : link.second).value;
        const auto& [nic, at] = link.tunnel->over[end];
        auto row = v.machines.row(name);
        if (row && !nic.empty() && !has_nic(v, v.plan.machines[*row], nic))
            v.problem(at, fmt::format("{} has no NIC \"{}\"", name, nic));
    }
}

} // namespace

void check_link(Validation& v, const Link& link) {
    for (const auto* end : {&link.first, &link.second})
        if (!end->value.empty() && !v.machines.has(end->value))
            v.problem(end->at, v.machines.unknown(end->value));
    if (!link.first.value.empty() && link.first.value == link.second.value)
        v.problem(link.second.at, fmt::format("a link from {} to itself", link.first.value));
    check_link_prefixes(v, link.prefixes, link.pool);
    for (const auto& name : link.nics)
        if (!name.value.empty())
            check_nic_name(v, name.value, name.at);
    if (link.tunnel)
        check_tunnel(v, link);
}

void check_link_prefixes(Validation& v, const std::vector<Placed<net::Prefix>>& prefixes,
                         const Placed<std::string>& pool) {
    check_pool(v, pool);
    if (!pool.value.empty() && !prefixes.empty())
        v.problem(pool.at, "a link with a `prefix` takes none from a pool");
    for (const auto& prefix : prefixes)
        if (prefix.value.usable() < 2)
            v.problem(prefix.at, fmt::format("{} has no two addresses for a link",
                                             net::to_string(prefix.value)));
}

} // namespace jackal::plan
