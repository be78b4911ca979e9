// Things of a lab as the text of its plan calls them.
#pragma once

#include "jackal/lab/lab.h"

namespace jackal::editor {

/// The machine of that name, or the first of those that an entry with `count` stands for.
inline std::optional<lab::MachineId> machine_of(const lab::Lab& lab, const std::string& entry) {
    auto id = lab.machine(entry);
    return id ? id : lab.machine(entry + "-1");
}

/// `10.40.8.0/26 fd40:7:0:8::/64`
inline std::string prefixes_text(const lab::Lab& lab, lab::SegmentId segment) {
    std::string text;
    for (const auto& prefix :
         {lab.segments[segment].prefix.ipv4, lab.segments[segment].prefix.ipv6})
        if (prefix)
            text += (text.empty() ? "" : " ") + net::to_string(*prefix);
    return text;
}

} // namespace jackal::editor
