#include "probe/names.h"

namespace jackal::probe {

bool needs_name(const lab::Lab& lab, const PingQuestion& question) {
    const Endpoint& to = question.to;
    return to.machine && !to.nic && !to.address && lab.machines[to.machine].outside
           && lab.machines[to.machine].kind != plan::MachineKind::router
           && !lab.machines[question.from.machine].outside;
}

std::vector<net::Address> name_servers(const lab::Lab& lab, lab::MachineId machine) {
    const lab::Duties* duties = lab.duties_of(machine);
    return duties == nullptr ? std::vector<net::Address>{} : duties->dns;
}

Exchange ask_server(const routing::Settled& settled, const Endpoint& from, net::Address server) {
    constexpr net::Service name_service{net::Protocol::udp, 53};
    return exchange(settled, {.from = from,
                              .to = *endpoint(settled.lab(), net::to_string(server)),
                              .service = name_service,
                              .count = 1});
}

} // namespace jackal::probe
