#include "jackal/export/capture.h"

#include <nlohmann/json.hpp>

namespace jackal::exports {

using nlohmann::json;

namespace {

json json_of(const net::Flow& flow) {
    json row{{"source", net::to_string(flow.source)},
             {"destination", net::to_string(flow.destination)},
             {"protocol", net::to_string(flow.protocol)}};
    if (net::has_ports(flow.protocol)) {
        row["source_port"] = flow.source_port;
        row["destination_port"] = flow.destination_port;
    }
    return row;
}

json nic_name(const lab::Lab& lab, lab::NicId nic) {
    return nic ? json(lab.nics[nic].name) : json();
}

} // namespace

std::string frames_json(const lab::Lab& lab, const std::vector<probe::Sighting>& sightings) {
    json rows = json::array();
    for (const probe::Sighting& sighting : sightings) {
        const probe::Frame& frame = sighting.frame;
        json row{{"at_us", sighting.at.count()},
                 {"place", probe::name_of(lab, {sighting.nic, sighting.port})},
                 {"leaves", sighting.leaves},
                 {"from", net::to_string(frame.from)},
                 {"to", net::to_string(frame.to)},
                 {"vlan", frame.vlan == 0 ? json() : json(frame.vlan)},
                 {"text", frame_text(lab, frame)},
                 {"ttl", frame.ttl},
                 {"bytes", frame.size_bytes}};
        row.update(json_of(frame.flow));
        rows.push_back(std::move(row));
    }
    return json{{"lab", lab.name}, {"frames", std::move(rows)}}.dump(2) + "\n";
}

std::string flows_json(const lab::Lab& lab, lab::MachineId machine,
                       const std::vector<probe::SeenFlow>& flows) {
    json rows = json::array();
    for (const probe::SeenFlow& flow : flows)
        rows.push_back({{"in", nic_name(lab, flow.in)},
                        {"out", nic_name(lab, flow.out)},
                        {"came", json_of(flow.came)},
                        {"left", json_of(flow.left)},
                        {"dropped", flow.is_dropped},
                        {"packets", flow.packets},
                        {"bytes", flow.bytes},
                        {"first_us", flow.first.count()},
                        {"last_us", flow.last.count()}});
    return json{{"lab", lab.name},
                {"machine", lab.machines[machine].name},
                {"flows", std::move(rows)}}
               .dump(2)
           + "\n";
}

} // namespace jackal::exports
