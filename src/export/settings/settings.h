// The settings of real machines: what their parts share. Each format stands in a file of its own.
#pragma once

#include "jackal/export/settings.h"
#include "jackal/lab/lab.h"
#include "jackal/reach/drift.h"

#include <map>
#include <nlohmann/json_fwd.hpp>
#include <optional>
#include <string>
#include <vector>

namespace jackal::exports {

/// A network device of a machine's system: a NIC of the plan, or what one is made of.
struct Device {
    enum class Kind : std::uint8_t { ethernet, bond, vlan, tunnel, loopback };
    Kind kind = Kind::ethernet;
    std::string name;
    net::Mac mac;
    std::uint16_t mtu_bytes = 1500;
    bool up = true;
    lab::NicId nic;         ///< whose addresses it has; none for what others are made of
    std::string on;         ///< of a VLAN: the device that it is on; of a bond's member: the bond
    std::uint16_t vlan = 0; ///< that it tags its frames with (IEEE 802.1Q)
    lab::LinkId tunnel;
    bool takes_lease = false; ///< of IPv4
    std::uint32_t lease_metric = 0;
    std::vector<lab::AddressId> addresses; ///< that are set
    std::vector<routing::Route> routes;    ///< static ones that go out here, but those of leases
};

/// What the machine's NICs are on its system, each after what it is made of: NICs that share a
/// switch port are VLANs of one device, those of bonds are made of their members.
std::vector<Device> devices(const routing::Settled& settled, lab::MachineId machine);
/// The same where each NIC is a wire of its own, on a bridge that stands for its switches.
std::vector<Device> devices_on_bridges(const routing::Settled& settled, lab::MachineId machine);

/// Between which addresses a tunnel's packets travel, seen from the device's machine; nothing if
/// the two ends have none of one family.
struct TunnelEnds {
    net::Address own;
    net::Address peer;
};
std::optional<TunnelEnds> tunnel_ends(const lab::Lab& lab, const Device& device);

/// The name that a machine has in the lab's own domain, `MACHINE.LAB.internal` (".internal" is
/// reserved for private use).
std::string domain_of(const lab::Lab& lab);
/// The plan's file without folders, and the line: `skerry.yaml:85`.
std::string place_of(const lab::Lab& lab, plan::Mark at);
/// `# helm of the lab skerry-station (skerry.yaml:85): WHAT`, and an empty line.
std::string heading(const lab::Lab& lab, lab::MachineId machine, std::string_view what);
/// False of an address that others do not know a machine by: a link-local one, or one on a way out
/// of its own.
bool is_known(const lab::Lab& lab, const lab::InterfaceAddress& row);
/// The address by which anybody knows a machine: that of probe::address_for, IPv4 before IPv6; or
/// nothing.
std::optional<net::Address> known_address(const lab::Lab& lab, lab::MachineId machine);

// --- one machine -----------------------------------------------------------------------------

extern const std::string_view host_sysctl; ///< the text of host.sysctl; {0}: 1 if it forwards
extern const std::string_view gather_text; ///< that of gather.sh; {0}: the lab, {1}: its machines
std::string sysctl_settings(std::string_view forwards);
/// `table inet jackal`, or nothing if the machine has neither filters nor translations. The order
/// of the chains is that of docs/design.md: what stands on a NIC sees a packet as it is on the
/// wire.
std::string nftables_rules(const lab::Lab& lab, lab::MachineId id);
std::string translation_chains(const lab::Lab& lab, lab::MachineId id);
std::optional<std::string> end_match(bool any, const std::vector<net::Prefix>& prefixes,
                                     net::Family family, std::string_view field);
/// What the rules of a machine do whose NICs are known, from the entries that `nft -j list ruleset`
/// prints; also which tables there are besides that one.
void read_rules(const nlohmann::json& entries, reach::FoundMachine& machine);
/// Lines of a dnsmasq.conf: the server or relay that a machine is; nothing if it is none.
std::vector<std::string> dhcp_settings(const lab::Lab& lab, lab::MachineId id);
/// Name servers that the machine asks; `resolv.conf` of them.
std::string resolver_settings(const lab::Lab& lab, lab::MachineId id);
std::string hosts_table(const lab::Lab& lab, lab::MachineId own);

/// By file name: units of systemd-networkd.
std::map<std::string, std::string> networkd_units(const lab::Lab& lab, lab::MachineId id,
                                                  const std::vector<Device>& devices);
std::string interfaces_file(const lab::Lab& lab, lab::MachineId id,
                            const std::vector<Device>& devices);
/// Version 2 of cloud-init's network configuration, which netplan reads too.
std::string network_config(const lab::Lab& lab, lab::MachineId id,
                           const std::vector<Device>& devices);
std::string meta_data(const lab::Lab& lab, lab::MachineId id);
/// What the machine does besides, once it has its files.
struct FirstStart {
    bool installs = true; ///< the programs that its files are for, from its system's packages
    std::vector<std::string> steps = {}; ///< commands of programs and plain words
};
/// `files` are those of the machine's system, by their paths there.
std::string user_data(const lab::Lab& lab, lab::MachineId id,
                      const std::map<std::string, std::string>& files,
                      const FirstStart& first = {});
/// What every system has, by paths: names, filters and the settings of programs.
std::map<std::string, std::string> system_files(const routing::Settled& settled, lab::MachineId id);

// --- the whole lab ---------------------------------------------------------------------------

/// Zone files (RFC 1035 section 5) by the names of their zones.
std::map<std::string, std::string> zones(const lab::Lab& lab);
std::string ssh_settings(const lab::Lab& lab);
/// The topology as RFC 8345, with the attributes of RFC 8346.
std::string topology_json(const lab::Lab& lab);

} // namespace jackal::exports
