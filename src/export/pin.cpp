#include "jackal/export/pin.h"

#include "jackal/lab/build.h"
#include "jackal/lab/why.h"
#include "jackal/plan/rewrite.h"

#include <algorithm>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <map>

namespace jackal::exports {

namespace {

using lab::Lab;
using lab::NicId;
using lab::Reason;

constexpr const char* pins_head =
    "pinned: # by `jackal addresses --pin`; what is taken out of here is chosen anew\n";

// The lines of a section: `  KEY:` and below it `    NAME: VALUES`.
class Lines {
  public:
    explicit Lines(const char* key) : key_(key) {}

    template <class Value>
    void add(const std::string& name, const Value& value) {
        std::string text = net::to_string(value);
        values_[order(name)].values.push_back(
            text.find(':') == text.npos ? text : fmt::format("\"{}\"", text));
        ++count_;
    }

    std::size_t count() const { return count_; }

    std::string text() const {
        if (values_.empty())
            return "";
        std::string result = fmt::format("  {}:\n", key_);
        for (const Entry& entry : values_)
            result += fmt::format("    {}: {}\n", entry.name, list(entry.values));
        return result;
    }

    static std::string list(const std::vector<std::string>& values) {
        return values.size() == 1 ? values.front() : fmt::format("[{}]", fmt::join(values, ", "));
    }

  private:
    struct Entry {
        std::string name;
        std::vector<std::string> values;
    };

    std::size_t order(const std::string& name) {
        if (values_.empty() || values_.back().name != name) // they come one after the other
            values_.push_back({name, {}});
        return values_.size() - 1;
    }

    const char* key_;
    std::vector<Entry> values_;
    std::size_t count_ = 0;
};

bool is_chosen(const Reason& reason) {
    return reason.kind != Reason::Kind::none && reason.kind != Reason::Kind::written;
}

class PinWriter {
  public:
    PinWriter(const plan::Complete& plan, const Lab& lab)
        : plan_(plan.entries()), lab_(lab), reasons_(lab::reasons(plan)) {}

    std::string run() {
        Lines sites("sites");
        for (const lab::Site& site : lab_.sites)
            if (site.space_chosen)
                for (const net::Prefix& space : site.space)
                    sites.add(site.name.empty() ? lab_.name : site.name, space);
        Lines subnets("subnets");
        Lines dhcp("dhcp");
        for (lab::SubnetId id : lab_.subnets.ids()) {
            if (lab_.subnets[id].outside)
                continue;
            add_prefixes(subnets, lab_.subnets[id].name, lab_.subnets[id].segment,
                         reasons_.subnets[id.row]);
            const auto& wish = plan_.subnets[id.row].dhcp;
            if (wish && wish->size && lab_.subnets[id].dhcp)
                dhcp.add(lab_.subnets[id].name, *lab_.subnets[id].dhcp);
        }
        Lines links("links");
        const std::vector<std::string> names = plan::link_names(plan_.links);
        for (lab::LinkId id : lab_.links.ids())
            add_prefixes(links, names[id.row], lab_.links[id].segment, reasons_.links[id.row]);
        Lines loopbacks("loopbacks");
        std::string machines = write_machines(loopbacks);
        std::string nics = write_nics(names);
        std::string body = sites.text() + subnets.text() + dhcp.text() + links.text() + machines
                           + loopbacks.text() + nics;
        count_ +=
            sites.count() + subnets.count() + dhcp.count() + links.count() + loopbacks.count();
        return body.empty() ? "" : pins_head + body;
    }

    std::size_t count() const { return count_; }

  private:
    void add_prefixes(Lines& lines, const std::string& name, lab::SegmentId segment,
                      const lab::PerFamily<Reason>& reasons) const {
        for (net::Family family : net::both_families)
            if (const auto& prefix = lab_.segments[segment].prefix[family];
                prefix && is_chosen(reasons[family]))
                lines.add(name, *prefix);
    }

    // What stands at one machine, by the subnet or link that it is on.
    using Entries = std::vector<std::pair<std::string, std::vector<std::string>>>;

    // The lines of a section: `  KEY:` and below it `    MACHINE: {ON: VALUES, …}`.
    template <class Collect>
    std::string by_machine(const char* key, Collect collect) const {
        std::string text;
        for (lab::MachineId id : lab_.machines.ids()) {
            if (lab_.machines[id].outside)
                continue;
            std::vector<std::string> entries;
            for (const auto& [on, values] : collect(id))
                entries.push_back(fmt::format("{}: {}", on, Lines::list(values)));
            if (!entries.empty())
                text += fmt::format("    {}: {{{}}}\n", lab_.machines[id].name,
                                    fmt::join(entries, ", "));
        }
        return text.empty() ? "" : fmt::format("  {}:\n{}", key, text);
    }

    std::string write_machines(Lines& loopbacks) {
        return by_machine("machines", [&](lab::MachineId id) {
            std::map<lab::SegmentId, std::vector<std::string>> chosen; // by subnet
            for (NicId nic : lab_.nics_of(id))
                for (lab::AddressId a : lab_.addresses_of(nic))
                    add_address(lab_.addresses[a], chosen, loopbacks);
            Entries entries;
            for (auto& [segment, addresses] : chosen)
                entries.emplace_back(lab_.segment_name(segment), std::move(addresses));
            return entries;
        });
    }

    // What NICs without a written name are called: MACs are made from that, too.
    std::string write_nics(const std::vector<std::string>& link_names) {
        return by_machine("nics", [&](lab::MachineId id) {
            Entries entries;
            for (NicId nic : lab_.nics_of(id)) {
                if (lab_.nics[nic].is_loopback() || is_named(nic))
                    continue;
                const lab::Segment& segment = lab_.segments[lab_.nics[nic].segment];
                const std::string& on =
                    segment.link ? link_names[segment.link.row] : lab_.subnets[segment.subnet].name;
                auto known = std::ranges::find(entries, on, &Entries::value_type::first);
                if (known == entries.end())
                    known = entries.insert(entries.end(), {on, {}});
                known->second.push_back(lab_.nics[nic].name);
                ++count_;
            }
            return entries;
        });
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

    void add_address(const lab::InterfaceAddress& row,
                     std::map<lab::SegmentId, std::vector<std::string>>& chosen, Lines& loopbacks) {
        using Origin = lab::AddressOrigin;
        const lab::Nic& nic = lab_.nics[row.nic];
        const std::string& machine = lab_.machines[nic.machine].name;
        if (row.origin == Origin::loopback) {
            if (is_chosen(reasons_.loopbacks[nic.machine.row][row.address.family()]))
                loopbacks.add(machine, row.address);
        } else if (row.origin != Origin::given && row.origin < Origin::link) {
            std::string text = net::to_string(row.address);
            chosen[nic.segment].push_back(
                row.address.family() == net::Family::ipv6 ? fmt::format("\"{}\"", text) : text);
            ++count_;
        }
    }

    const plan::Plan& plan_;
    const Lab& lab_;
    lab::Reasons reasons_;
    std::size_t count_ = 0;
};

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
    PinWriter writer(*reading.plan, lab);
    plan::Rewriting rewriting = plan::replace_section(text, "pinned", writer.run());
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
    result.kept = std::min(before, writer.count());
    result.added = writer.count() - result.kept;
    result.text = std::move(rewriting.text);
    return result;
}

} // namespace jackal::exports
