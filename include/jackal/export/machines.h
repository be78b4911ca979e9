// A lab as virtual machines: a shell script that runs them in QEMU, and for each a seed (NoCloud)
// with the settings that it takes when it starts first.
//
//     for (const exports::File& file : exports::machines_files(settled, "/srv/labs"))
//         write(folder / file.path, file.text);
//
// Machines that the plan has `runs-as: namespace`, and all outside the lab, are network namespaces
// beside them. The script's verbs are those of export/namespaces.h. See docs/real-lab.md.
#pragma once

#include "jackal/api.h"
#include "jackal/export/settings.h"
#include "jackal/routing/settled.h"

#include <string>
#include <string_view>
#include <vector>

namespace jackal::exports {

/// True if the machine is to run as a virtual one.
JACKAL_API bool is_virtual(const lab::Lab& lab, lab::MachineId id);

/// Virtual machines of which the plan does not say from which image they start. While there are
/// any, the lab cannot be written as machines.
JACKAL_API std::vector<lab::MachineId> without_image(const lab::Lab& lab);

/// The files, by path: `lab.sh`, and `seeds/MACHINE/…`. Relative names of images are taken from
/// the folder `images`; `attached` is that of export/namespaces.h. What is cut in the condition of
/// `settled` is off or down when the script starts it; what the machines cannot show is listed in
/// its header.
JACKAL_API std::vector<File> machines_files(const routing::Settled& settled,
                                            std::string_view images, bool attached = false);

} // namespace jackal::exports
