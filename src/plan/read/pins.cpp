#include "reader.h"

namespace jackal::plan {

namespace {

void read_pinned_prefixes(Reader& r, NodeId node, std::string_view section,
                          std::vector<Pins::Prefixes>& into) {
    r.each_pair(node, section, [&](NodeId key, NodeId value) {
        Pins::Prefixes pin{.name = std::string(r.text(key)), .prefixes = {}, .at = r.at(key)};
        read_prefix_per_family(r, value, pin.prefixes);
        into.push_back(std::move(pin));
    });
}

void read_pinned_addresses(Reader& r, NodeId node, Pins::Addresses pin,
                           std::vector<Pins::Addresses>& into) {
    pin.at = r.at(node);
    r.each_item(node, [&](NodeId item) {
        if (auto address = read_address(r, item))
            pin.chosen.emplace_back(*address, r.at(item));
    });
    into.push_back(std::move(pin));
}

const Key<Pins> pins_keys[] = {
    {"dhcp",
     [](Reader& r, NodeId n, Pins& p) {
         r.each_pair(n, "pinned dhcp", [&](NodeId subnet, NodeId value) {
             if (auto range =
                     r.value(value, "a range such as 10.40.8.10-10.40.8.19", net::parse_range))
                 p.dhcp.push_back({std::string(r.text(subnet)), {*range, r.at(value)}});
         });
     }},
    {"links",
     [](Reader& r, NodeId n, Pins& p) { read_pinned_prefixes(r, n, "pinned links", p.links); }},
    {"loopbacks",
     [](Reader& r, NodeId n, Pins& p) {
         r.each_pair(n, "pinned loopbacks", [&](NodeId machine, NodeId value) {
             read_pinned_addresses(r, value, {.machine = std::string(r.text(machine))},
                                   p.loopbacks);
         });
     }},
    {"machines",
     [](Reader& r, NodeId n, Pins& p) {
         r.each_pair(n, "pinned machines", [&](NodeId machine, NodeId subnets) {
             r.each_pair(subnets, "a pinned machine", [&](NodeId subnet, NodeId value) {
                 read_pinned_addresses(r, value,
                                       {.machine = std::string(r.text(machine)),
                                        .subnet = std::string(r.text(subnet))},
                                       p.machines);
             });
         });
     }},
    {"nics",
     [](Reader& r, NodeId n, Pins& p) {
         r.each_pair(n, "pinned nics", [&](NodeId machine, NodeId places) {
             r.each_pair(places, "a pinned machine", [&](NodeId on, NodeId value) {
                 Pins::Names pin{std::string(r.text(machine)), std::string(r.text(on)), {}};
                 r.each_item(value, [&](NodeId item) {
                     Placed<std::string> name;
                     read_word(r, item, name);
                     pin.names.push_back(std::move(name.value));
                 });
                 p.nics.push_back(std::move(pin));
             });
         });
     }},
    {"sites",
     [](Reader& r, NodeId n, Pins& p) { read_pinned_prefixes(r, n, "pinned sites", p.sites); }},
    {"subnets",
     [](Reader& r, NodeId n, Pins& p) { read_pinned_prefixes(r, n, "pinned subnets", p.subnets); }},
};

} // namespace

void read_pins(Reader& r, NodeId node, Pins& into) {
    r.mapping(node, "pinned", pins_keys, into);
}

} // namespace jackal::plan
