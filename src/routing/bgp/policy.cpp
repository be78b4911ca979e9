#include "routing/bgp/policy.h"

#include <algorithm>

namespace jackal::routing {

bool has(const std::vector<plan::Community>& communities, plan::Community wanted) {
    return std::ranges::find(communities, wanted) != communities.end();
}

bool apply(const lab::Lab& lab, lab::PolicyId policy, const net::Prefix& to, Path& path,
           std::uint32_t own_as) {
    if (!policy)
        return true;
    const plan::Policy& rules = lab.policies[policy.row];
    for (const plan::PolicyRule& rule : rules.rules) {
        bool in_prefixes =
            rule.prefixes.empty() || std::ranges::any_of(rule.prefixes, [&](const auto& p) {
                return rule.longer ? p.value.contains(to) : p.value == to;
            });
        bool in_communities =
            rule.communities.empty() || std::ranges::any_of(rule.communities, [&](auto community) {
                return has(path.communities, community);
            });
        bool passed = !rule.passed_as
                      || std::ranges::find(path.as_path, *rule.passed_as) != path.as_path.end();
        if (!in_prefixes || !in_communities || !passed)
            continue;
        if (!rule.accepts)
            return false;
        path.local_preference = rule.preference.value_or(path.local_preference);
        path.med = rule.med.value_or(path.med);
        path.as_path.insert(path.as_path.begin(), rule.prepend, own_as);
        for (plan::Community community : rule.add_communities)
            if (!has(path.communities, community))
                path.communities.push_back(community);
        std::ranges::sort(path.communities);
        return true;
    }
    return rules.accepts;
}

} // namespace jackal::routing
