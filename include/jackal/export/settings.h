// The settings of real machines: for each a folder with files in the formats of its operating
// system, ready to be copied, and one for the lab as a whole.
//
//     for (const exports::File& file : exports::settings_files(settled))
//         write(folder / file.path, file.text);
//
// Alternatives stand beside each other: a machine's network is set by systemd-networkd, by
// ifupdown, or by cloud-init, never by two of them. See docs/settings.md.
#pragma once

#include "jackal/api.h"
#include "jackal/routing/settled.h"

#include <string>
#include <vector>

namespace jackal::exports {

struct File {
    std::string path; ///< relative, with slashes
    std::string text;
};

/// All files, by path. Machines that the plan does not write (outside the lab) have none. The same
/// lab gives the same bytes.
JACKAL_API std::vector<File> settings_files(const routing::Settled& settled);

} // namespace jackal::exports
