#include "export/namespaces/script.h"

#include <fmt/format.h>

namespace jackal::exports {

using lab::MachineId;

std::string write_services(const Script& s) {
    std::string text;
    for (MachineId id : s.lab.machines.ids()) {
        const lab::Duties* duties = s.lab.duties_of(id);
        if (duties == nullptr || !s.runs(id))
            continue;
        for (net::Service service : duties->listens)
            text += fmt::format("    offer {} {} {}\n", s.lab.machines[id].name,
                                net::to_string(service.protocol), service.port);
    }
    return fmt::format("\nhas_services={}\nservices() {{\n    :\n{}}}\n", text.empty() ? "" : "yes",
                       text);
}

} // namespace jackal::exports
