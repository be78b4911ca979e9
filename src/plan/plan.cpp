#include "jackal/plan/plan.h"

#include <algorithm>

namespace jackal::plan {

namespace {

template <class Entries>
auto* entry_named(Entries& entries, std::string_view name) {
    auto found = std::find_if(entries.begin(), entries.end(),
                              [&](const auto& entry) { return entry.name == name; });
    return found == entries.end() ? nullptr : &*found;
}

} // namespace

const Machine* Plan::machine(std::string_view name) const {
    return entry_named(machines, name);
}
const Subnet* Plan::subnet(std::string_view name) const {
    return entry_named(subnets, name);
}
Machine* Plan::machine(std::string_view name) {
    return entry_named(machines, name);
}
Subnet* Plan::subnet(std::string_view name) {
    return entry_named(subnets, name);
}

bool is_name(std::string_view text) {
    auto inner = [](char c) {
        return (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') || c == '-';
    };
    return !text.empty() && text.size() <= 63 && text.front() != '-' && text.back() != '-'
           && std::all_of(text.begin(), text.end(), inner);
}

} // namespace jackal::plan
