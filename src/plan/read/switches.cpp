#include "jackal/sorted.h"
#include "reader.h"

namespace jackal::plan {

namespace {

void read_untagged(Reader& r, NodeId node, SwitchPort& port) {
    port.untagged = read_vlan(r, node).value_or(port.untagged);
}

const Key<SwitchPort> port_keys[] = {
    {"native", read_untagged},
    {"segment", [](Reader& r, NodeId n, SwitchPort& p) { read_word(r, n, p.segment); }},
    {"state", [](Reader& r, NodeId n, SwitchPort& p) { read_state(r, n, p.up); }},
    {"trunk",
     [](Reader& r, NodeId n, SwitchPort& p) {
         p.is_trunk = true;
         r.each_item(n, [&](NodeId item) {
             if (auto vlan = read_vlan(r, item))
                 p.tagged.push_back(*vlan);
         });
         sort_unique(p.tagged);
     }},
    {"vlan", read_untagged},
};

// A port is an access port with `vlan`, or a trunk with `trunk` and perhaps `native`.
void read_port(Reader& r, NodeId node, SwitchPort& port) {
    auto says = [&](std::string_view wanted) {
        NodeId found = Document::none;
        if (r.kind(node) == NodeKind::mapping)
            r.each_pair_quietly(node, [&](NodeId key, NodeId) {
                if (r.text(key) == wanted)
                    found = key;
            });
        return found;
    };
    bool is_trunk = says("trunk") != Document::none;
    if (is_trunk)
        port.untagged = 0;
    r.mapping(node, "a port", port_keys, port);
    if (NodeId vlan = says("vlan"); is_trunk && vlan != Document::none)
        r.problem(vlan, "a trunk has no `vlan`; its untagged frames belong to `native`");
    if (NodeId native = says("native"); !is_trunk && native != Document::none)
        r.problem(native, "only a trunk has `native`; write `vlan` for an access port");
    std::erase(port.tagged, port.untagged);
}

const Key<Switch> switch_keys[] = {
    {"about", [](Reader& r, NodeId n, Switch& s) { read_text(r, n, s.about); }},
    {"ports",
     [](Reader& r, NodeId n, Switch& s) {
         r.each_pair(n, "ports", [&](NodeId key, NodeId value) {
             SwitchPort port;
             port.name = r.text(key);
             port.at = r.at(key);
             read_port(r, value, port);
             s.ports.push_back(std::move(port));
         });
     }},
    {"state", [](Reader& r, NodeId n, Switch& s) { read_state(r, n, s.up); }},
};

} // namespace

void read_switches(Reader& r, NodeId node, Plan& plan) {
    read_entries(r, node, "switches", "a switch", switch_keys, plan.switches);
}

} // namespace jackal::plan
