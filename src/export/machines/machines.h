// The texts of a script of virtual machines, beside those of export/namespaces/script.h.
#pragma once

#include <string_view>

namespace jackal::exports {

extern const std::string_view machines_head;   ///< of head.sh; {0}: the lab, {1}: as script_head
extern const std::string_view machines_places; ///< of places.sh
extern const std::string_view lab_commands;    ///< of lab-commands.sh, which runs on the machines

} // namespace jackal::exports
