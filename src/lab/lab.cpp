#include "jackal/lab/lab.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::lab {

Lab::Lab() = default;
Lab::Lab(const Lab&) = default;
Lab::Lab(Lab&&) noexcept = default;
Lab& Lab::operator=(const Lab&) = default;
Lab& Lab::operator=(Lab&&) noexcept = default;
Lab::~Lab() = default;

std::optional<MachineId> Lab::machine(std::string_view wanted) const {
    auto row = plan.machine(wanted);
    return row ? std::optional(MachineId{*row}) : std::nullopt;
}

std::optional<SubnetId> Lab::subnet(std::string_view wanted) const {
    auto row = plan.subnet(wanted);
    return row ? std::optional(SubnetId{*row}) : std::nullopt;
}

std::optional<SiteId> Lab::site(std::string_view wanted) const {
    auto row = plan.site(wanted);
    return row ? std::optional(SiteId{*row}) : std::nullopt;
}

std::optional<NicId> Lab::nic(MachineId machine, std::string_view wanted) const {
    for (NicId id : nics_of(machine))
        if (nics[id].name == wanted)
            return id;
    return std::nullopt;
}

SiteId Lab::site_of(MachineId id) const {
    for (NicId nic : nics_of(id))
        if (SubnetId subnet = segments[nics[nic].segment].subnet)
            return subnets[subnet].site;
    return {};
}

std::vector<net::Prefix> Lab::prefixes() const {
    std::vector<net::Prefix> all;
    for (const Segment& segment : segments)
        for (net::Family family : net::both_families)
            if (const auto& prefix = segment.prefix[family])
                all.push_back(*prefix);
    std::ranges::sort(all);
    return all;
}

std::span<const Owner> Lab::owners_of(net::Address address) const {
    auto found = std::ranges::equal_range(owners, address, {}, &Owner::address);
    if (found.empty())
        found = std::ranges::equal_range(link_locals, address, {}, &Owner::address);
    return {found.begin(), found.end()};
}

const InterfaceAddress* Lab::first_address(NicId nic, net::Family family) const {
    for (AddressId id : addresses_of(nic))
        if (addresses[id].address.family() == family)
            return &addresses[id];
    return nullptr;
}

bool Lab::listens(MachineId id, net::Service service) const {
    const Duties* own = duties_of(id);
    return own != nullptr && std::ranges::find(own->listens, service) != own->listens.end();
}

std::vector<net::Prefix> Lab::taken() const {
    std::vector<net::Prefix> all = prefixes();
    for (const Pool& pool : pools)
        all.insert(all.end(), pool.space.begin(), pool.space.end());
    all.insert(all.end(), outside_lan.begin(), outside_lan.end());
    std::ranges::sort(all);
    return all;
}

const net::Range* Subnet::set_aside(net::Address address) const {
    auto after = std::ranges::upper_bound(reserved, address, {}, &net::Range::first);
    if (after != reserved.begin() && std::prev(after)->contains(address))
        return &*std::prev(after);
    return dhcp && dhcp->contains(address) ? &*dhcp : nullptr;
}

const Speaker* Lab::speaker(MachineId id) const {
    auto found = std::ranges::lower_bound(speakers, id, {}, &Speaker::machine);
    return found != speakers.end() && found->machine == id ? &*found : nullptr;
}

namespace {

template <class T>
const T& own_or(MachineId id, const std::vector<std::pair<MachineId, T>>& own, const T& usual) {
    auto found = std::ranges::lower_bound(own, id, {}, &std::pair<MachineId, T>::first);
    return found != own.end() && found->first == id ? found->second : usual;
}

} // namespace

const plan::Login& Lab::login_of(MachineId id) const {
    return own_or(id, logins, login);
}

const plan::Image& Lab::image_of(MachineId id) const {
    return own_or(id, images, image);
}

const Lease* Lab::lease_of(NicId nic) const {
    auto found = std::ranges::lower_bound(leases, nic, {}, &Lease::nic);
    return found != leases.end() && found->nic == nic ? &*found : nullptr;
}

std::span<const Plug> Lab::plugs_of(NicId nic) const {
    auto [first, last] = std::ranges::equal_range(plugs, nic, {}, &Plug::nic);
    return {first, last};
}

std::string Lab::port_name(PortId port) const {
    return fmt::format("{}/{}", switches[ports[port].owner].name, ports[port].name);
}

bool Port::carries(std::uint16_t vlan) const {
    return vlan == untagged || std::ranges::binary_search(tagged, vlan);
}

std::string Lab::segment_name(SegmentId id) const {
    const Segment& segment = segments[id];
    if (segment.subnet)
        return subnets[segment.subnet].name;
    if (segment.loopback)
        return machines[segment.loopback].name + "/lo";
    const Link& link = links[segment.link];
    return fmt::format("{}{} -- {}", link.is_tunnel ? "tunnel " : "", machine_name(link.first),
                       machine_name(link.second));
}

std::string Lab::nic_name(NicId nic) const {
    return fmt::format("{}/{}", machine_name(nic), nics[nic].name);
}

} // namespace jackal::lab
