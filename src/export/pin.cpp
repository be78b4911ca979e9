#include "jackal/export/pin.h"

#include "jackal/lab/build.h"
#include "jackal/lab/why.h"
#include "jackal/plan/rewrite.h"
#include "jackal/plan/write.h"

#include <algorithm>
#include <map>

namespace jackal::exports {

namespace {

using lab::Lab;
using lab::NicId;
using lab::Reason;

constexpr const char* pins_head =
    "pinned: # by `jackal addresses --pin`; what is taken out of here is chosen anew\n";

bool is_chosen(const Reason& reason) {
    return reason.kind != Reason::Kind::none && reason.kind != Reason::Kind::written;
}

class PinMaker {
  public:
    PinMaker(const plan::Complete& plan, const Lab& lab)
        : plan_(plan.entries()), lab_(lab), reasons_(lab::reasons(plan)) {}

    plan::Pins run() {
        for (const lab::Site& site : lab_.sites)
            if (site.space_chosen)
                for (const net::Prefix& space : site.space)
                    add(pins_.sites, site.name.empty() ? lab_.name : site.name, space);
        for (lab::SubnetId id : lab_.subnets.ids()) {
            if (lab_.subnets[id].outside)
                continue;
            add_prefixes(pins_.subnets, lab_.subnets[id].name, lab_.subnets[id].segment,
                         reasons_.subnets[id.row]);
            const auto& wish = plan_.subnets[id.row].dhcp;
            if (wish && wish->size && lab_.subnets[id].dhcp)
                pins_.dhcp.push_back({lab_.subnets[id].name, *lab_.subnets[id].dhcp});
        }
        const std::vector<std::string> names = plan::link_names(plan_.links);
        for (lab::LinkId id : lab_.links.ids())
            add_prefixes(pins_.links, names[id.row], lab_.links[id].segment,
                         reasons_.links[id.row]);
        for (lab::MachineId id : lab_.machines.ids())
            if (!lab_.machines[id].outside) {
                add_addresses(id);
                add_names(id, names);
            }
        return std::move(pins_);
    }

  private:
    static void add(std::vector<plan::Pins::Prefixes>& pins, const std::string& name,
                    const net::Prefix& prefix) {
        if (pins.empty() || pins.back().name != name) // they come one after the other
            pins.push_back({.name = name});
        pins.back().prefixes.emplace_back(prefix);
    }

    void add_prefixes(std::vector<plan::Pins::Prefixes>& pins, const std::string& name,
                      lab::SegmentId segment, const lab::PerFamily<Reason>& reasons) const {
        for (net::Family family : net::both_families)
            if (const auto& prefix = lab_.segments[segment].prefix[family];
                prefix && is_chosen(reasons[family]))
                add(pins, name, *prefix);
    }

    // The pin of the machine there, made if there is none; those of one machine come one after the
    // other.
    template <class Pin>
    static Pin& pin_of(std::vector<Pin>& pins, const std::string& machine, std::string Pin::*place,
                       const std::string& there) {
        for (std::size_t i = pins.size(); i > 0 && pins[i - 1].machine == machine; --i)
            if (pins[i - 1].*place == there)
                return pins[i - 1];
        Pin& made = pins.emplace_back();
        made.machine = machine;
        made.*place = there;
        return made;
    }

    void add_addresses(lab::MachineId id) {
        std::map<lab::SegmentId, std::vector<net::Address>> chosen;
        for (NicId nic : lab_.nics_of(id))
            for (lab::AddressId a : lab_.addresses_of(nic))
                add_address(lab_.addresses[a], chosen);
        for (const auto& [segment, addresses] : chosen)
            for (net::Address address : addresses)
                pin_of(pins_.machines, lab_.machines[id].name, &plan::Pins::Addresses::subnet,
                       lab_.segment_name(segment))
                    .chosen.emplace_back(address);
    }

    void add_address(const lab::InterfaceAddress& row,
                     std::map<lab::SegmentId, std::vector<net::Address>>& chosen) {
        using Origin = lab::AddressOrigin;
        const lab::Nic& nic = lab_.nics[row.nic];
        if (row.origin == Origin::loopback) {
            if (is_chosen(reasons_.loopbacks[nic.machine.row][row.address.family()]))
                pin_of(pins_.loopbacks, lab_.machines[nic.machine].name,
                       &plan::Pins::Addresses::subnet, "")
                    .chosen.emplace_back(row.address);
        } else if (row.origin != Origin::given && row.origin < Origin::link) {
            chosen[nic.segment].push_back(row.address);
        }
    }

    // What NICs without a written name are called: MACs are made from that, too.
    void add_names(lab::MachineId id, const std::vector<std::string>& link_names) {
        for (NicId nic : lab_.nics_of(id)) {
            if (lab_.nics[nic].is_loopback() || is_named(nic))
                continue;
            const lab::Segment& segment = lab_.segments[lab_.nics[nic].segment];
            const std::string& on =
                segment.link ? link_names[segment.link.row] : lab_.subnets[segment.subnet].name;
            pin_of(pins_.nics, lab_.machines[id].name, &plan::Pins::Names::on, on)
                .names.push_back(lab_.nics[nic].name);
        }
    }

    bool is_named(NicId id) const {
        const lab::Nic& nic = lab_.nics[id];
        if (lab::LinkId link = lab_.segments[nic.segment].link)
            return !lab_.links[link].peering
                   && !plan_.links[link.row]
                           .nics[lab_.links[link].first == id ? 0 : 1]
                           .value.empty();
        return bool(plan_.machines[nic.machine.row].nics[nic.plan_index].name);
    }

    const plan::Plan& plan_;
    const Lab& lab_;
    lab::Reasons reasons_;
    plan::Pins pins_;
};

// The section `pinned`; empty if nothing is.
std::string section_of(const plan::Pins& pins) {
    plan::Plan plan;
    plan.pins = pins;
    const std::string text = plan::text_of(plan);
    return text.empty() ? "" : pins_head + text.substr(text.find('\n') + 1);
}

std::size_t count_pins(const plan::Pins& pins) {
    std::size_t count = pins.dhcp.size();
    for (const auto* rows : {&pins.sites, &pins.subnets, &pins.links})
        for (const auto& pin : *rows)
            count += pin.prefixes.size();
    for (const auto* rows : {&pins.machines, &pins.loopbacks})
        for (const auto& pin : *rows)
            count += pin.chosen.size();
    for (const auto& pin : pins.nics)
        count += pin.names.size();
    return count;
}

// What a lab's addresses and NICs are, without how they came about.
bool same_addresses(const Lab& a, const Lab& b) {
    auto same_segment = [](const lab::Segment& x, const lab::Segment& y) {
        return x.prefix.ipv4 == y.prefix.ipv4 && x.prefix.ipv6 == y.prefix.ipv6;
    };
    auto same_address = [](const lab::InterfaceAddress& x, const lab::InterfaceAddress& y) {
        return x.address == y.address && x.length == y.length && x.nic == y.nic;
    };
    auto same_nic = [](const lab::Nic& x, const lab::Nic& y) {
        return x.name == y.name && x.mac == y.mac;
    };
    auto same_subnet = [](const lab::Subnet& x, const lab::Subnet& y) {
        return x.dhcp == y.dhcp && x.gateway.ipv4 == y.gateway.ipv4
               && x.gateway.ipv6 == y.gateway.ipv6;
    };
    auto same_site = [](const lab::Site& x, const lab::Site& y) { return x.space == y.space; };
    return std::ranges::equal(a.segments, b.segments, same_segment)
           && std::ranges::equal(a.nics, b.nics, same_nic)
           && std::ranges::equal(a.addresses, b.addresses, same_address)
           && std::ranges::equal(a.subnets, b.subnets, same_subnet)
           && std::ranges::equal(a.sites, b.sites, same_site);
}

} // namespace

Pinning pin(std::string_view text, const std::string& source, const plan::Settings& settings) {
    Pinning result;
    plan::Reading reading = plan::read(text, source, settings);
    result.problems = std::move(reading.problems);
    if (!reading.plan)
        return result;
    const Lab lab = lab::build(*reading.plan);
    const plan::Pins pins = PinMaker(*reading.plan, lab).run();
    plan::Rewriting rewriting = plan::replace_section(text, "pinned", section_of(pins));
    result.problems = std::move(rewriting.problems);
    if (!rewriting.text)
        return result;
    plan::Reading again = plan::read(*rewriting.text, source, settings);
    if (!again.plan || !same_addresses(lab, lab::build(*again.plan))) {
        result.problems.push_back(
            {{}, "`pinned` cannot be written here so that the plan means the same afterwards"});
        return result;
    }
    std::size_t before = count_pins(reading.plan->entries().pins);
    const std::size_t count = count_pins(pins);
    result.kept = std::min(before, count);
    result.added = count - result.kept;
    result.text = std::move(rewriting.text);
    return result;
}

} // namespace jackal::exports
