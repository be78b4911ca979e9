// Switches and their ports.
#include "jackal/sorted.h"
#include "plan/fields/codecs.h"

namespace jackal::plan {

namespace {

struct Untagged {
    static Shape shape() { return Vlan::shape(); }
    static void read(Reader& r, NodeId node, std::string_view, SwitchPort& port) {
        port.untagged = static_cast<std::uint16_t>(Vlan::parse(r, node).value_or(port.untagged));
    }
};

// Of an access port.
struct VlanOfPort : Untagged {
    static Value write(const SwitchPort& of) {
        return of.is_trunk || of.untagged == SwitchPort{}.untagged
                   ? Value{}
                   : Value::scalar(Vlan::text(of.untagged));
    }
};

// Of a trunk.
struct Native : Untagged {
    static Value write(const SwitchPort& of) {
        return of.is_trunk && of.untagged != 0 ? Value::scalar(Vlan::text(of.untagged)) : Value{};
    }
};

struct Trunk {
    static Shape shape() { return OneOrMore<Vlan>::shape(); }
    static void read(Reader& r, NodeId node, std::string_view key, SwitchPort& port) {
        port.is_trunk = true;
        OneOrMore<Vlan>::read(r, node, key, port.tagged);
        sort_unique(port.tagged);
    }
    static Value write(const SwitchPort& of) {
        return of.is_trunk ? OneOrMore<Vlan>::write(of.tagged) : Value{};
    }
};

constexpr Field<SwitchPort> port_fields[] = {
    whole<VlanOfPort, &SwitchPort::untagged>(
        "vlan", "of an access port: the VLAN of all that comes in", "1"),
    whole<Trunk, &SwitchPort::is_trunk, &SwitchPort::tagged>(
        "trunk", "the VLANs that pass with a tag, a list; makes the port a trunk", "none"),
    whole<Native, &SwitchPort::untagged>(
        "native", "of a trunk: the VLAN of what comes in without a tag", "none: dropped"),
    field<Name<NameKind::subnet>, &SwitchPort::segment>(
        "segment", "the subnet whose own segment the port is wired to", "none"),
    state_field<&SwitchPort::up>(),
};
static_assert(covers<SwitchPort>(port_fields, {tag<&SwitchPort::name>, tag<&SwitchPort::at>}));

// A port is an access port with `vlan`, or a trunk with `trunk` and perhaps `native`.
const Entry<SwitchPort>& port_entry() {
    static const Entry<SwitchPort> entry{
        .name = "plug",
        .what = "a port",
        .fields = port_fields,
        .rules = {{Rule::Kind::not_both, {"trunk", "vlan"}},
                  {Rule::Kind::with, {"native", "trunk"}}},
        .begin =
            [](Reader& r, NodeId node, SwitchPort& port) {
                if (r.has_key(node, "trunk"))
                    port.untagged = 0;
            },
        .check =
            [](Reader& r, NodeId node, SwitchPort& port) {
                if (NodeId vlan = r.find(node, "vlan").first;
                    port.is_trunk && vlan != Document::none)
                    r.problem(vlan,
                              "a trunk has no `vlan`; its untagged frames belong to `native`");
                if (NodeId native = r.find(node, "native").first;
                    !port.is_trunk && native != Document::none)
                    r.problem(native, "only a trunk has `native`; write `vlan` for an access port");
                std::erase(port.tagged, port.untagged);
            },
        .is_one = true};
    return entry;
}

constexpr Field<Switch> switch_fields[] = {
    field<Named<port_entry, NameKind::port>, &Switch::ports>("ports", "its ports, by name", "none"),
    state_field<&Switch::up>(),
    about_field<&Switch::about>(),
};
static_assert(covers<Switch>(switch_fields, {tag<&Switch::name>, tag<&Switch::at>}));

} // namespace

const Entry<Switch>& switch_entry() {
    static const Entry<Switch> entry{"switch", "a switch", switch_fields};
    return entry;
}

} // namespace jackal::plan
