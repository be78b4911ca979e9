// The topology as a network of RFC 8345, with what RFC 8346 says of nodes and termination points on
// layer 3. A subnet is a node of its own, to which NICs are linked; links lead one way each.
#include "export/settings/settings.h"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

namespace jackal::exports {

using lab::Lab;
using lab::MachineId;
using nlohmann::ordered_json;

namespace {

class Topology {
  public:
    explicit Topology(const Lab& lab) : lab_(lab) {}

    std::string run() {
        for (MachineId id : lab_.machines.ids())
            add_machine(id);
        for (lab::SegmentId id : lab_.segments.ids())
            add_segment(id);
        ordered_json network = {
            {"network-id", lab_.name},
            {"network-types",
             {{"ietf-l3-unicast-topology:l3-unicast-topology", ordered_json::object()}}},
            {"node", std::move(nodes_)},
            {"ietf-network-topology:link", std::move(links_)}};
        return ordered_json({{"ietf-network:networks", {{"network", {std::move(network)}}}}})
                   .dump(1, ' ', false, ordered_json::error_handler_t::replace)
               + "\n";
    }

  private:
    void add_machine(MachineId id) {
        const lab::Machine& machine = lab_.machines[id];
        ordered_json points = ordered_json::array();
        for (lab::NicId nic : lab_.nics_of(id)) {
            ordered_json point = {{"tp-id", lab_.nics[nic].name}};
            ordered_json addresses = ordered_json::array();
            for (lab::AddressId row : lab_.addresses_of(nic))
                addresses.push_back(net::to_string(lab_.addresses[row].address));
            ordered_json attributes = ordered_json::object();
            if (!addresses.empty())
                attributes["ip-address"] = std::move(addresses);
            else
                attributes["interface-name"] = lab_.nics[nic].name;
            point["ietf-l3-unicast-topology:l3-termination-point-attributes"] =
                std::move(attributes);
            points.push_back(std::move(point));
        }
        ordered_json attributes = {{"name", machine.name}};
        if (const lab::Speaker* speaker = lab_.speaker(id);
            speaker != nullptr && speaker->router_id)
            attributes["router-id"] = {net::to_string(*speaker->router_id)};
        add_node(machine.name, std::move(attributes), std::move(points));
    }

    void add_node(const std::string& name, ordered_json attributes, ordered_json points) {
        ordered_json node = {{"node-id", name}};
        node["ietf-l3-unicast-topology:l3-node-attributes"] = std::move(attributes);
        if (!points.empty())
            node["ietf-network-topology:termination-point"] = std::move(points);
        nodes_.push_back(std::move(node));
    }

    void add_segment(lab::SegmentId id) {
        const lab::Segment& segment = lab_.segments[id];
        if (segment.link) {
            const lab::Link& link = lab_.links[segment.link];
            return join(end_of(link.first), end_of(link.second));
        }
        if (!segment.subnet)
            return;
        const std::string name = "subnet:" + lab_.subnets[segment.subnet].name;
        ordered_json prefixes = ordered_json::array();
        for (net::Family family : net::both_families)
            if (segment.prefix[family])
                prefixes.push_back({{"prefix", net::to_string(*segment.prefix[family])}});
        ordered_json attributes = {{"name", lab_.subnets[segment.subnet].name}};
        if (!prefixes.empty())
            attributes["prefix"] = std::move(prefixes);
        ordered_json points = ordered_json::array();
        for (lab::NicId nic : segment.nics)
            points.push_back({{"tp-id", lab_.nic_name(nic)}});
        add_node(name, std::move(attributes), std::move(points));
        for (lab::NicId nic : segment.nics)
            join(end_of(nic), {name, lab_.nic_name(nic)});
    }

    struct End {
        std::string node;
        std::string point;
    };
    End end_of(lab::NicId nic) const { return {lab_.machine_name(nic), lab_.nics[nic].name}; }

    // Both ways.
    void join(const End& one, const End& other) {
        for (const auto& [from, to] : {std::pair(one, other), std::pair(other, one)})
            links_.push_back(
                {{"link-id", fmt::format("{}/{} {}/{}", from.node, from.point, to.node, to.point)},
                 {"source", {{"source-node", from.node}, {"source-tp", from.point}}},
                 {"destination", {{"dest-node", to.node}, {"dest-tp", to.point}}}});
    }

    const Lab& lab_;
    ordered_json nodes_ = ordered_json::array();
    ordered_json links_ = ordered_json::array();
};

} // namespace

std::string topology_json(const Lab& lab) {
    return Topology(lab).run();
}

} // namespace jackal::exports
