#include "jackal/limits.h"
#include "plan/edit/duties.h"
#include "plan/suggester.h"
#include "reader.h"

#include <map>

namespace jackal::plan {

namespace {

void read_nic_address(Reader& r, NodeId node, Nic& nic) {
    nic.address.at = r.at(node);
    if (r.kind(node) == NodeKind::scalar && r.text(node) == "auto")
        return;
    if (r.kind(node) == NodeKind::scalar && r.text(node) == "none") {
        nic.address.kind = NicAddress::Kind::none;
        return;
    }
    if (r.kind(node) == NodeKind::scalar && r.text(node) == "dhcp") {
        nic.address.kind = NicAddress::Kind::dhcp;
        return;
    }
    nic.address.kind = NicAddress::Kind::given;
    r.each_item(node, [&](NodeId item) {
        auto given = r.value(item, "auto, dhcp, none, an address or ADDRESS/LENGTH",
                             [](std::string_view text) -> std::optional<GivenAddress> {
                                 if (auto bare = net::parse_address(text))
                                     return GivenAddress{*bare, std::nullopt};
                                 if (auto both = net::parse_address_with_length(text))
                                     return GivenAddress{both->address, both->length};
                                 return std::nullopt;
                             });
        if (given)
            nic.address.given.emplace_back(*given, r.at(item));
    });
    refuse_empty_list(r, node, "address; write none for no address");
}

// A text that only readers of the file see.
template <class T>
void skip_text(Reader& r, NodeId node, T&) {
    r.scalar(node, "text");
}

NicOptions& options_of(Nic& nic) {
    if (!nic.options)
        nic.options = NicOptions{};
    return *nic.options;
}

// The range that a NIC's own way out has where the plan does not say.
constexpr const char* usual_way_out = "192.168.253.0/24";
constexpr int smallest_way_out = 30; // the NIC, and its gateway

void read_way_out(Reader& r, NodeId node, Nic& nic) {
    auto prefix =
        r.value(node, fmt::format("auto, or an IPv4 prefix of at most /{}", smallest_way_out),
                [](std::string_view text) -> std::optional<net::Prefix> {
                    auto parsed = net::parse_prefix(text == "auto" ? usual_way_out : text);
                    return parsed && parsed->family() == net::Family::ipv4
                                   && parsed->length() <= smallest_way_out
                               ? std::optional(*parsed)
                               : std::nullopt;
                });
    options_of(nic).way_out = {prefix.value_or(net::parse_prefix(usual_way_out).value()),
                               r.at(node)};
}

constexpr std::size_t most_bonded = limits::bond_members;

const Key<BondMember> member_keys[] = {
    {"name", [](Reader& r, NodeId n, BondMember& m) { read_name(r, n, m.name); }},
    {"port", [](Reader& r, NodeId n, BondMember& m) { read_word(r, n, m.port); }},
    {"state", [](Reader& r, NodeId n, BondMember& m) { read_state(r, n, m.up); }},
};

const Key<Nic> nic_keys[] = {
    {"about", skip_text<Nic>},
    {"address", read_nic_address},
    {"bond",
     [](Reader& r, NodeId n, Nic& nic) {
         read_list(r, n, "bond", [&](NodeId item) {
             BondMember member;
             member.at = r.at(item);
             r.mapping(item, "a member of a bond", member_keys, member);
             options_of(nic).bond.push_back(std::move(member));
         });
         if (nic.options && nic.options->bond.size() > most_bonded)
             r.problem(n, fmt::format("a bond has at most {} members", most_bonded));
     }},
    {"filter", [](Reader& r, NodeId n, Nic& nic) { read_word(r, n, options_of(nic).filter); }},
    {"mac",
     [](Reader& r, NodeId n, Nic& nic) {
         auto mac = r.value(n, "the MAC address of one NIC, such as 02:00:5e:10:00:07",
                            [](std::string_view text) {
                                auto parsed = net::parse_mac(text);
                                return parsed && parsed->is_multicast() ? std::nullopt : parsed;
                            });
         if (mac)
             nic.mac = *mac;
     }},
    {"metric",
     [](Reader& r, NodeId n, Nic& nic) {
         options_of(nic).metric = read_number<std::uint32_t>(r, n, 0, 4'294'967'295).value_or(0);
     }},
    {"mtu", [](Reader& r, NodeId n, Nic& nic) { nic.mtu_bytes = read_mtu(r, n); }},
    {"name",
     [](Reader& r, NodeId n, Nic& nic) {
         std::string name;
         read_name(r, n, name);
         nic.name = std::move(name);
     }},
    {"port", [](Reader& r, NodeId n, Nic& nic) { read_word(r, n, options_of(nic).port); }},
    {"state", [](Reader& r, NodeId n, Nic& nic) { read_state(r, n, nic.up); }},
    {"subnet", [](Reader& r, NodeId n, Nic& nic) { read_word(r, n, nic.subnet); }},
    {"vlan",
     [](Reader& r, NodeId n, Nic& nic) { options_of(nic).vlan = read_vlan(r, n).value_or(0); }},
    {"way-out", read_way_out},
};

const Key<Route> route_keys[] = {
    {"about", skip_text<Route>},
    {"metric",
     [](Reader& r, NodeId n, Route& route) {
         route.metric = read_number<unsigned>(r, n, 0, 4'294'967'295).value_or(0);
     }},
    {"nic",
     [](Reader& r, NodeId n, Route& route) {
         if (auto name = r.scalar(n, "the name of a NIC"))
             route.nic = Placed<std::string>(std::string(*name), r.at(n));
     }},
    {"to",
     [](Reader& r, NodeId n, Route& route) {
         auto text = r.scalar(n, "default, a prefix or the name of a subnet");
         if (!text)
             return;
         route.to.at = r.at(n);
         if (*text == "default")
             route.to.value = Route::Default{};
         else if (text->find('/') == text->npos)
             route.to.value = std::string(*text);
         else {
             std::vector<Placed<net::Prefix>> prefixes;
             read_prefixes(r, n, prefixes);
             if (!prefixes.empty())
                 route.to.value = prefixes.front().value;
         }
     }},
    {"via", [](Reader& r, NodeId n, Route& route) { read_address_or_name(r, n, route.via); }},
};

void read_machine_gateway(Reader& r, NodeId node, Machine& machine) {
    MachineGateway gateway;
    gateway.at = r.at(node);
    std::string_view word = r.kind(node) == NodeKind::scalar ? r.text(node) : "";
    if (word == "none") {
        gateway.kind = MachineGateway::Kind::none;
    } else if (word != "auto") {
        gateway.kind = MachineGateway::Kind::given;
        read_address_per_family(r, node, gateway.given);
        refuse_empty_list(r, node, "gateway; write none for no gateway");
    }
    machine.gateway = gateway;
}

void read_loopback(Reader& r, NodeId node, Machine& machine) {
    std::string_view word = r.kind(node) == NodeKind::scalar ? r.text(node) : "";
    if (word == "none")
        return machine.loopback.reset();
    Loopback loopback;
    loopback.at = r.at(node);
    if (is_name(word) && word != "auto")
        loopback.pool = {std::string(word), r.at(node)};
    else if (word != "auto")
        read_address_per_family(r, node, loopback.given);
    machine.loopback = std::move(loopback);
}

Login& login_of(Machine& machine) {
    if (!machine.login)
        machine.login = Login{};
    return *machine.login;
}

Image& image_of(Machine& machine) {
    if (!machine.image)
        machine.image = Image{};
    return *machine.image;
}

// `like`, `count` and `template` shape the entry as a whole; MachineReader reads them.
void skip_shape(Reader&, NodeId, Machine&) {}

const Key<Machine> machine_keys[] = {
    {"about", [](Reader& r, NodeId n, Machine& m) { read_text(r, n, m.about); }},
    {"bgp", [](Reader& r, NodeId n, Machine& m) { read_bgp(r, n, protocols_of(m)); }},
    {"boot", [](Reader& r, NodeId n, Machine& m) { read_boot(r, n, image_of(m)); }},
    {"count", skip_shape},
    {"cpus", [](Reader& r, NodeId n, Machine& m) { read_cpus(r, n, m.sizes.cpus); }},
    {"disk", [](Reader& r, NodeId n, Machine& m) { read_mebibytes(r, n, m.sizes.disk_mib); }},
    {"dns", [](Reader& r, NodeId n, Machine& m) { read_hosts(r, n, duties_of(m).dns); }},
    {"filter", [](Reader& r, NodeId n, Machine& m) { read_word(r, n, duties_of(m).filter); }},
    {"forwards",
     [](Reader& r, NodeId n, Machine& m) {
         bool forwards = false;
         if (read_flag(r, n, forwards))
             m.forwards = forwards;
     }},
    {"gateway", read_machine_gateway},
    {"image", [](Reader& r, NodeId n, Machine& m) { read_image(r, n, image_of(m)); }},
    {"keys", [](Reader& r, NodeId n, Machine& m) { read_keys(r, n, login_of(m)); }},
    {"like", skip_shape},
    {"listens", [](Reader& r, NodeId n, Machine& m) { read_services(r, n, duties_of(m).listens); }},
    {"loopback", read_loopback},
    {"memory", [](Reader& r, NodeId n, Machine& m) { read_mebibytes(r, n, m.sizes.memory_mib); }},
    {"nat", [](Reader& r, NodeId n, Machine& m) { read_translations(r, n, duties_of(m)); }},
    {"nics",
     [](Reader& r, NodeId n, Machine& m) {
         m.nics.clear(); // an entry's own list replaces that of the entry it is like
         read_list(r, n, "nics", [&](NodeId item) {
             Nic nic;
             nic.at = r.at(item);
             r.mapping(item, "a NIC", nic_keys, nic);
             if (nic.subnet.value.empty() && !nic.has_way_out())
                 r.problem(item, "a NIC needs `subnet: NAME`");
             if (nic.has_way_out()
                 && (!nic.subnet.value.empty() || !nic.options->port.value.empty()
                     || !nic.options->bond.empty()))
                 r.problem(item, "a NIC with a `way-out` of its own is on no subnet and no switch");
             m.nics.push_back(std::move(nic));
         });
         m.nics.shrink_to_fit();
     }},
    {"ospf", [](Reader& r, NodeId n, Machine& m) { read_ospf(r, n, protocols_of(m)); }},
    {"rip", [](Reader& r, NodeId n, Machine& m) { read_rip(r, n, protocols_of(m)); }},
    {"router-id",
     [](Reader& r, NodeId n, Machine& m) {
         if (auto id = read_ipv4_address(r, n))
             protocols_of(m).router_id = {*id, r.at(n)};
     }},
    {"routes", [](Reader& r, NodeId n, Machine& m) { read_routes(r, n, m.routes); }},
    {"runs-as", [](Reader& r, NodeId n, Machine& m) { read_runs_as(r, n, image_of(m)); }},
    {"starts-after",
     [](Reader& r, NodeId n, Machine& m) {
         duties_of(m).starts_after.clear();
         r.each_item(
             n, [&](NodeId item) { read_word(r, item, duties_of(m).starts_after.emplace_back()); });
     }},
    {"state", [](Reader& r, NodeId n, Machine& m) { read_state(r, n, m.up); }},
    {"template", skip_shape},
    {"user", [](Reader& r, NodeId n, Machine& m) { read_user(r, n, login_of(m)); }},
};

// Reads the guests and routers of a plan, those they are like first.
class MachineReader {
  public:
    explicit MachineReader(Reader& r) : r_(r) {}

    void read(NodeId section, MachineKind kind, std::vector<Machine>& into) {
        bool guest = kind == MachineKind::guest;
        into.reserve(into.size() + r_.pair_count(section));
        r_.each_pair(section, guest ? "guests" : "routers", [&](NodeId key, NodeId entry) {
            if (parts_ > most_parts)
                return; // said once
            Machine machine;
            machine.kind = kind;
            fill(machine, entry, guest ? "a guest" : "a router", 0);
            machine.name = r_.text(key);
            machine.at = r_.at(key);
            if (!is_template(entry))
                add(std::move(machine), count_of(entry), into);
        });
    }

  private:
    static constexpr int most_alike = limits::alike;
    static constexpr std::uint64_t most_clones = limits::clones;
    static constexpr std::uint64_t most_parts = limits::clone_parts;

    NodeId value(NodeId entry, std::string_view wanted) const {
        NodeId found = Document::none;
        r_.each_pair_quietly(entry, [&](NodeId key, NodeId v) {
            if (r_.text(key) == wanted)
                found = v;
        });
        return found;
    }

    void fill(Machine& machine, NodeId entry, std::string_view what, int depth) {
        if (NodeId like = value(entry, "like"); like != Document::none)
            if (auto name = r_.scalar(like, "the name of a guest or router"))
                fill_like(machine, like, *name, what, depth);
        r_.mapping(entry, what, machine_keys, machine);
    }

    // All entries that others may be like, collected when the first one asks.
    void collect_entries() {
        r_.each_pair_quietly(r_.root(), [&](NodeId key, NodeId section) {
            if (r_.text(key) == "guests" || r_.text(key) == "routers")
                r_.each_pair_quietly(section, [&](NodeId name, NodeId entry) {
                    entries_.emplace(r_.text(name), entry);
                });
        });
    }

    void fill_like(Machine& machine, NodeId at, std::string_view name, std::string_view what,
                   int depth) {
        if (entries_.empty())
            collect_entries();
        auto found = entries_.find(name);
        if (found == entries_.end()) {
            std::string near = suggester_.suggestion(name, entries_,
                                                     [](const auto& entry) { return entry.first; });
            return r_.problem(at,
                              fmt::format("there is no entry {} to be like{}", shown(name), near));
        }
        if (depth == most_alike)
            return r_.problem(at, fmt::format("more than {} entries are like each other in a row, "
                                              "perhaps in a circle",
                                              most_alike));
        fill(machine, found->second, what, depth + 1);
    }

    bool is_template(NodeId entry) const {
        NodeId node = value(entry, "template");
        return node != Document::none
               && r_.word(node, "answer", {"true", "false"}).value_or(0) == 0;
    }

    // How many machines the entry stands for; 0 if it does not say.
    std::uint64_t count_of(NodeId entry) const {
        NodeId node = value(entry, "count");
        return node == Document::none
                   ? 0
                   : read_number<std::uint64_t>(r_, node, 1, most_clones).value_or(1);
    }

    void add(Machine machine, std::uint64_t count, std::vector<Machine>& into) {
        parts_ +=
            std::max<std::uint64_t>(count, 1) * (1 + machine.nics.size() + machine.routes.size());
        if (parts_ > most_parts)
            return r_.problem(machine.at, fmt::format("the plan has more than {} machines, NICs "
                                                      "and routes in all",
                                                      most_parts));
        for (std::uint64_t i = 1; i <= count; ++i) {
            Machine clone = machine;
            clone.name += fmt::format("-{}", i);
            clone.clone_digits =
                static_cast<std::uint16_t>(clone.name.size() - machine.name.size());
            into.push_back(std::move(clone));
        }
        if (count == 0)
            into.push_back(std::move(machine));
    }

    Reader& r_;
    std::uint64_t parts_ = 0; // machines, NICs and routes so far
    Suggester suggester_;
    std::map<std::string_view, NodeId> entries_;
};

} // namespace

void read_machines(Reader& r, NodeId node, Plan& plan, MachineKind kind) {
    MachineReader(r).read(node, kind, plan.machines);
}

void read_routes(Reader& r, NodeId node, std::vector<Route>& into) {
    into.clear();
    read_list(r, node, "routes", [&](NodeId item) {
        Route route;
        route.at = r.at(item);
        r.mapping(item, "a route", route_keys, route);
        if (!route.to.at || !route.via.at)
            r.problem(item, "a route needs `to` and `via`");
        into.push_back(std::move(route));
    });
}

} // namespace jackal::plan
