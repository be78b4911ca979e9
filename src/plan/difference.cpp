#include "jackal/plan/difference.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>

namespace jackal::plan {

namespace {

class Differences {
  public:
    std::vector<std::string> take() { return std::move(entries_); }

    template <class T>
    void value(const char* key, const T& before, const T& after) {
        if (!(before == after))
            entries_.emplace_back(key);
    }

    // Entries that have names, each in the section that `section_of` puts it in.
    template <class T, class SectionOf>
    void named(const std::vector<T>& before, const std::vector<T>& after, SectionOf section_of) {
        if (before == after)
            return;
        const std::size_t known = entries_.size();
        std::map<std::string, const T*> left;
        for (const T& entry : after)
            left.emplace(path(section_of(entry), entry), &entry);
        for (const T& entry : before) {
            const std::string own = path(section_of(entry), entry);
            auto same = left.find(own);
            if (same == left.end() || !(*same->second == entry))
                entries_.push_back(own);
            if (same != left.end())
                left.erase(same);
        }
        for (const auto& [own, entry] : left)
            entries_.push_back(own);
        if (entries_.size() == known)
            entries_.emplace_back(section_of(before.front()));
    }
    template <class T>
    void named(const char* section, const std::vector<T>& before, const std::vector<T>& after) {
        named(before, after, [&](const T&) { return section; });
    }

    template <class T>
    void listed(const char* section, const std::vector<T>& before, const std::vector<T>& after) {
        for (std::size_t i = 0; i < std::max(before.size(), after.size()); ++i)
            if (i >= before.size() || i >= after.size() || !(before[i] == after[i]))
                entries_.push_back(fmt::format("{}[{}]", section, i));
    }

    // Those between two ends, by these.
    template <class T>
    void joined(const char* section, const std::vector<T>& before, const std::vector<T>& after) {
        for (const auto& [some, others] : {std::pair(&before, &after), std::pair(&after, &before)})
            for (const T& entry : *some) {
                std::string own =
                    fmt::format("{}: {} -- {}", section, entry.first.value, entry.second.value);
                if (std::ranges::find(*others, entry) == others->end()
                    && std::ranges::find(entries_, own) == entries_.end())
                    entries_.push_back(std::move(own));
            }
        if (entries_.empty() && !(before == after))
            entries_.emplace_back(section);
    }

  private:
    template <class T>
    static std::string path(const char* section, const T& entry) {
        return fmt::format("{}.{}", section, entry.name);
    }

    std::vector<std::string> entries_;
};

// Links and tunnels, each counted in its own section.
std::vector<Link> of_kind(const std::vector<Link>& links, bool are_tunnels) {
    std::vector<Link> some;
    std::ranges::copy_if(links, std::back_inserter(some),
                         [&](const Link& link) { return bool(link.tunnel) == are_tunnels; });
    return some;
}

} // namespace

std::vector<std::string> differing_entries(const Plan& before, const Plan& after) {
    Differences found;
    found.value("lab", before.lab, after.lab);
    found.value("about", before.about, after.about);
    found.named("sites", before.sites, after.sites);
    found.named("pools", before.pools, after.pools);
    found.named("regions", before.regions, after.regions);
    found.named("subnets", before.subnets, after.subnets);
    found.named(before.machines, after.machines, [](const Machine& machine) {
        return machine.kind == MachineKind::guest ? "guests" : "routers";
    });
    found.named("switches", before.switches, after.switches);
    for (bool tunnels : {false, true})
        found.listed(tunnels ? "tunnels" : "links", of_kind(before.links, tunnels),
                     of_kind(after.links, tunnels));
    found.joined("links", before.cables, after.cables);
    found.listed("peerings", before.peerings, after.peerings);
    found.named("filters", before.filters, after.filters);
    found.named("policies", before.policies, after.policies);
    found.value("outside", before.outside, after.outside);
    found.value("limits", before.limits, after.limits);
    found.value("user", before.login.user, after.login.user);
    found.value("keys", before.login.keys, after.login.keys);
    found.value("image", before.image, after.image);
    found.listed("expect", before.expectations, after.expectations);
    found.value("pinned", before.pins, after.pins);
    return found.take();
}

} // namespace jackal::plan
