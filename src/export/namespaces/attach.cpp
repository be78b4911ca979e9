// The lab attached to the computer that runs it: what stands outside in the plan is the computer
// itself and its network.
#include "export/namespaces/script.h"
#include "export/settings/settings.h"
#include "jackal/plan/outside.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::exports {

using lab::NicId;

namespace {

// A prefix of names that no two NICs of this computer share, as far as labs have names apart.
std::string near_name(const Script& s) {
    constexpr std::size_t room = 11; // of the 15 that a NIC's name may have
    return s.lab.name.substr(0, room);
}

const lab::Subnet* subnet_of(const Script& s, NicId nic) {
    const lab::Segment& segment = s.lab.segments[s.lab.nics[nic].segment];
    return segment.subnet ? &s.lab.subnets[segment.subnet] : nullptr;
}

class Attachment {
  public:
    explicit Attachment(const Script& s) : s_(s), bridges_(s) {}

    std::string run() {
        const lab::MachineId station = s_.station();
        if (station)
            for (NicId nic : s_.lab.nics_of(station))
                add_nic(nic);
        text_ += leases(station);
        return fmt::format("\nnear={}\nwants_bridge={}\nattach() {{\n    :\n{}}}\n", near_name(s_),
                           wants_bridge_ ? "yes" : "no", text_);
    }

  private:
    void add_nic(NicId id) {
        const lab::Nic& nic = s_.lab.nics[id];
        const std::string bridge = bridges_.of(id);
        if (nic.name == plan::outside::nic) { // on the physical network, where the computer is
            wants_bridge_ = subnet_of(s_, id)->uplink == plan::Uplink::bridge;
            if (wants_bridge_)
                text_ += fmt::format("    join {}\n", bridge);
            else
                stand_in(nic.segment, bridge);
            return;
        }
        const std::string name = add_own_nic(id, bridge);
        names_ += fmt::format(" --interface={}", name);
        const lab::Subnet* subnet = subnet_of(s_, id);
        const auto& prefix = s_.lab.segments[nic.segment].prefix[net::Family::ipv4];
        if (subnet != nullptr && subnet->uplink == plan::Uplink::nat && prefix)
            text_ += fmt::format("    translate {} {}\n", name, net::to_string(*prefix));
        else if (!s_.lab.machines[nic.machine].forwards_any())
            text_ += fmt::format("    apart {}\n", name);
    }

    // For the gateway of the physical network, towards those of NICs that have a way out of their
    // own.
    void stand_in(lab::SegmentId lan, const std::string& bridge) {
        const auto& nics = s_.lab.segments[lan].nics;
        const auto gateway = s_.lab.machine(plan::outside::lan_gateway);
        const auto& prefix = s_.lab.segments[lan].prefix[net::Family::ipv4];
        auto runs = [&](NicId nic) { return s_.runs(s_.lab.nics[nic].machine); };
        if (!prefix || !gateway || std::ranges::none_of(nics, runs))
            return;
        for (NicId nic : nics)
            if (s_.lab.nics[nic].machine == *gateway) {
                const std::string name = add_own_nic(nic, bridge);
                text_ += fmt::format("    translate {} {}\n", name, net::to_string(*prefix));
            }
    }

    // A NIC of this computer, by the name that it gets.
    std::string add_own_nic(NicId id, const std::string& bridge) {
        const lab::Nic& nic = s_.lab.nics[id];
        std::string name = fmt::format("{}-{}", near_name(s_), count_++);
        text_ += fmt::format("    own_nic {} {} {} {}", name, bridge, net::to_string(nic.mac),
                             nic.mtu_bytes);
        for (lab::AddressId row : s_.lab.addresses_of(id))
            if (s_.lab.addresses[row].origin != lab::AddressOrigin::link_local)
                text_ += fmt::format(" {}/{}", net::to_string(s_.lab.addresses[row].address),
                                     s_.lab.addresses[row].length);
        text_ += "\n";
        return name;
    }

    std::string leases(lab::MachineId station) const {
        if (!station || names_.empty())
            return "";
        std::string options;
        for (const std::string& option : dhcp_settings(s_.lab, station))
            options += " \\\n        --" + option;
        return options.empty() ? "" : fmt::format("    serve_leases{}{}\n", names_, options);
    }

    const Script& s_;
    Bridges bridges_;
    std::string text_;
    std::string names_;
    unsigned count_ = 0;
    bool wants_bridge_ = false;
};

} // namespace

std::string write_attachment(const Script& s) {
    if (!s.attached)
        return "\nattached=\nstation=\n";
    return Attachment(s).run() + std::string(script_attach);
}

} // namespace jackal::exports
