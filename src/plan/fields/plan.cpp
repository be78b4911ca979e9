// The whole file.
#include "plan/fields/images.h"

namespace jackal::plan {

namespace {

// A section of entries of one kind, with what is wrong with it told at its place.
template <auto entry>
struct Section : One<entry> {
    template <class M>
    static void read(Reader& r, NodeId node, std::string_view, M& into) {
        into.at = r.at(node);
        read_entry(r, node, entry(), into);
    }
};

struct Parameters {
    static Shape shape() {
        return {.map = {label_shape(), Shape{.is_text = true}}, .entries = NameKind::parameter};
    }
};

struct LabName : Name<> {};

constexpr Field<Plan> plan_fields[] = {
    field<LabName, &Plan::lab>("lab", "the lab's name"),
    field<Text, &Plan::about>("about", "a sentence about it", "none"),
    unread<Plan, Parameters>("params", "named values with their defaults, used as $name or ${name}",
                             "none"),
    user_field<&Plan::login>("nobody"),
    keys_field<&Plan::login>("none"),
    image_field<&Plan::image>("none"),
    boot_field<&Plan::image>("none"),
    runs_as_field<&Plan::image>("machine"),
    field<Named<site_entry, NameKind::site>, &Plan::sites>(
        "sites", "islands with address space of their own, by name", "one without a name"),
    field<Named<pool_entry, NameKind::pool>, &Plan::pools>(
        "pools", "address space for links and loopbacks, by name", "none"),
    field<Named<region_entry, NameKind::region>, &Plan::regions>(
        "regions", "where sites may be, and how far apart, by name", "none"),
    field<Named<subnet_entry, NameKind::subnet>, &Plan::subnets>(
        "subnets", "segments with their prefixes, by name", "none"),
    field<Named<filter_entry, NameKind::filter>, &Plan::filters>(
        "filters", "rules that let packets pass or drop them, by name", "none"),
    field<Named<policy_entry, NameKind::policy>, &Plan::policies>(
        "policies", "rules for what routing protocols take, give and redistribute, by name",
        "none"),
    field<Named<switch_entry, NameKind::device>, &Plan::switches>(
        "switches", "switches with their ports, by name", "none"),
    whole<Machines<MachineKind::guest>, &Plan::machines>(
        "guests", "machines that do not forward, by name", "none"),
    whole<Machines<MachineKind::router>, &Plan::machines>("routers", "machines that do, by name",
                                                          "none"),
    whole<Links<false>, &Plan::links, &Plan::cables>(
        "links", "wires between two machines or two switch ports, a list", "none"),
    whole<Links<true>, &Plan::links>("tunnels", "links whose packets travel inside others, a list",
                                     "none"),
    field<ListOf<peering_entry>, &Plan::peerings>(
        "peerings", "what joins two sites, if both consent, a list", "none"),
    field<Section<outside_entry>, &Plan::outside>("outside", "what lies beyond the lab", "nothing"),
    field<Section<limits_entry>, &Plan::limits>("limits", "what all machines together may take",
                                                "none"),
    field<ListOf<expectation_entry>, &Plan::expectations>(
        "expect", "pings and connections whose outcome the builder states beforehand, a list",
        "none"),
    field<Section<pins_entry>, &Plan::pins>(
        "pinned", "what an earlier planning chose; jackal addresses --pin writes it", "nothing"),
};
static_assert(covers<Plan>(plan_fields, {tag<&Plan::source>}));

} // namespace

const Entry<Plan>& plan_entry() {
    static const Entry<Plan> entry{"plan", "a plan", plan_fields, {{Rule::Kind::needs, {"lab"}}}};
    return entry;
}

const Sort& sort_of_plans() {
    return sort_of<plan_entry>();
}

} // namespace jackal::plan
