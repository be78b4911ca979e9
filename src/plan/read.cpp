#include "jackal/plan/read.h"

#include "document.h"
#include "jackal/plan/name_index.h"
#include "jackal/plan/validate.h"

#include <algorithm>
#include <charconv>
#include <cmath>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <fstream>
#include <map>
#include <sstream>
#include <unordered_map>
#include <unordered_set>

namespace jackal::plan {

namespace {

using NodeId = Document::Id;

// The text of a value as a message shows it: short, and safe to print.
std::string shown(std::string_view text) {
    constexpr std::size_t longest = 60;
    std::string result = "\"";
    for (unsigned char c : text.substr(0, longest)) {
        if (c < 0x20 || c == 0x7f)
            result += fmt::format("\\x{:02x}", c);
        else
            result += static_cast<char>(c);
    }
    return result + (text.size() > longest ? "…\"" : "\"");
}

class Reader;

// One key of a mapping and what reads its value into a T.
template <class T>
struct Key {
    std::string_view name;
    void (*read)(Reader&, NodeId, T&);
};

class Reader {
  public:
    Reader(const Document& document, std::vector<Problem>& problems)
        : document_(document), problems_(problems) {}

    void problem(NodeId node, std::string message) { problem(document_.at(node), message); }
    void problem(Mark at, std::string message) {
        if (problems_.size() < Reading::most_problems)
            problems_.push_back({at, std::move(message)});
    }

    Mark at(NodeId node) const { return document_.at(node); }
    std::string_view text(NodeId node) const { return document_.text(node); }
    NodeKind kind(NodeId node) const { return document_.kind(node); }
    bool is_empty(NodeId node) const {
        return kind(node) == NodeKind::scalar && text(node).empty();
    }

    NodeId root() const { return document_.root(); }

    // Calls use(key, value) for each pair of a mapping, without looking for anything wrong.
    template <class Use>
    void each_pair_quietly(NodeId node, Use use) const {
        for (NodeId key = document_.first_child(node); key != Document::none;) {
            NodeId value = document_.next_sibling(key);
            use(key, value);
            key = document_.next_sibling(value);
        }
    }

    // Calls use(key, value) for each pair of a mapping; an empty value counts as an empty
    // mapping, and a key that comes twice is a problem.
    template <class Use>
    void each_pair(NodeId node, std::string_view what, Use use) {
        if (is_empty(node))
            return;
        if (kind(node) != NodeKind::mapping)
            return problem(node, fmt::format("{} must be a mapping of keys to values", what));
        Seen seen;
        NodeId key = document_.first_child(node);
        while (key != Document::none) {
            NodeId value = document_.next_sibling(key);
            if (kind(key) != NodeKind::scalar)
                problem(key, "a key must be a single word");
            else if (!seen.add(text(key)))
                problem(key, fmt::format("{} stands here a second time", shown(text(key))));
            else
                use(key, value);
            key = document_.next_sibling(value);
        }
    }

    std::size_t pair_count(NodeId node) const {
        std::size_t children = 0;
        if (kind(node) == NodeKind::mapping)
            for (NodeId i = document_.first_child(node); i != Document::none;
                 i = document_.next_sibling(i))
                ++children;
        return children / 2;
    }

    // Calls use(item) for each item of a sequence, or once for a value that stands alone.
    template <class Use>
    void each_item(NodeId node, Use use) {
        if (kind(node) != NodeKind::sequence)
            return use(node);
        for (NodeId i = document_.first_child(node); i != Document::none;
             i = document_.next_sibling(i))
            use(i);
    }

    template <class T, std::size_t n>
    void mapping(NodeId node, std::string_view what, const Key<T> (&keys)[n], T& into) {
        each_pair(node, what, [&](NodeId key, NodeId value) {
            auto found = std::ranges::find(keys, text(key), &Key<T>::name);
            if (found != std::end(keys))
                return found->read(*this, value, into);
            std::vector<std::string_view> names;
            for (const Key<T>& k : keys)
                names.push_back(k.name);
            problem(key, unknown(fmt::format("key of {}", what), text(key), names));
        });
    }

    static std::string unknown(std::string_view what, std::string_view word,
                               const std::vector<std::string_view>& known) {
        std::string_view near = nearest_word(word, known);
        if (!near.empty())
            return fmt::format("{} is no {}; did you mean {}?", shown(word), what, near);
        return fmt::format("{} is no {}; there are {}", shown(word), what, fmt::join(known, ", "));
    }

    // The text of a scalar, or nothing and a problem.
    std::optional<std::string_view> scalar(NodeId node, std::string_view wanted) {
        if (kind(node) == NodeKind::scalar && !text(node).empty())
            return text(node);
        problem(node, fmt::format("expected {}, not {}", wanted,
                                  kind(node) == NodeKind::scalar     ? "nothing"
                                  : kind(node) == NodeKind::sequence ? "a list"
                                                                     : "a mapping"));
        return std::nullopt;
    }

    // Parses a scalar with `parse`, which gives an optional; a failure is a problem.
    template <class Parse>
    auto value(NodeId node, std::string_view wanted, Parse parse) -> decltype(parse(text(node))) {
        auto words = scalar(node, wanted);
        if (!words)
            return std::nullopt;
        auto result = parse(*words);
        if (!result)
            problem(node, fmt::format("{} is not {}", shown(*words), wanted));
        return result;
    }

    // One of a few words; the position in `words`, or nothing and a problem.
    std::optional<std::size_t> word(NodeId node, std::string_view what,
                                    const std::vector<std::string_view>& words) {
        auto said = scalar(node, fmt::format("{}", fmt::join(words, " or ")));
        if (!said)
            return std::nullopt;
        auto found = std::ranges::find(words, *said);
        if (found != words.end())
            return static_cast<std::size_t>(found - words.begin());
        std::string_view near = nearest_word(*said, words);
        problem(node, fmt::format("{} is no {}; {}", shown(*said), what,
                                  near.empty() ? fmt::format("write {}", fmt::join(words, " or "))
                                               : fmt::format("did you mean {}?", near)));
        return std::nullopt;
    }

  private:
    // The keys of one mapping so far. Most mappings have a handful, for which a search is quicker
    // than an index is made.
    class Seen {
      public:
        bool add(std::string_view key) {
            if (keys_.size() <= few) {
                if (std::ranges::find(keys_, key) != keys_.end())
                    return false;
                keys_.push_back(key);
                return true;
            }
            if (indexed_ == 0)
                while (indexed_ < keys_.size())
                    enter(indexed_);
            keys_.push_back(key);
            if (enter(indexed_))
                return true;
            keys_.pop_back();
            --indexed_;
            return false;
        }

      private:
        static constexpr std::size_t few = 8;

        bool enter(std::uint32_t row) {
            ++indexed_;
            return index_.add(row, keys_[row], [this](std::uint32_t r) { return keys_[r]; });
        }

        std::vector<std::string_view> keys_;
        NameIndex index_;
        std::uint32_t indexed_ = 0; // how many of keys_ are in index_
    };

    const Document& document_;
    std::vector<Problem>& problems_;
};

// --- scalars -------------------------------------------------------------------------------

std::optional<std::uint64_t> parse_count(std::string_view text) {
    std::uint64_t n = 0;
    auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), n);
    if (error != std::errc{} || end != text.data() + text.size())
        return std::nullopt;
    return n;
}

// A decimal number followed by one of the units; the number times the unit's factor.
std::optional<double>
parse_with_unit(std::string_view text,
                std::initializer_list<std::pair<std::string_view, double>> units) {
    double number = 0;
    auto [end, error] =
        std::from_chars(text.data(), text.data() + text.size(), number, std::chars_format::fixed);
    if (error != std::errc{} || !std::isfinite(number) || number < 0)
        return std::nullopt;
    std::string_view unit(end, static_cast<std::size_t>(text.data() + text.size() - end));
    for (auto [name, factor] : units)
        if (unit == name)
            return number * factor;
    return std::nullopt;
}

std::optional<std::chrono::microseconds> parse_delay(std::string_view text) {
    auto us = parse_with_unit(text, {{"us", 1}, {"ms", 1e3}, {"s", 1e6}});
    if (!us || *us > 3600e6)
        return std::nullopt;
    return std::chrono::microseconds(std::llround(*us));
}

std::optional<double> parse_percent(std::string_view text) {
    return parse_with_unit(text, {{"%", 1}});
}

void read_text(Reader& r, NodeId node, std::string& into) {
    if (auto text = r.scalar(node, "text"))
        into = *text;
}

void read_word(Reader& r, NodeId node, Placed<std::string>& into) {
    if (auto text = r.scalar(node, "a name"))
        into = {std::string(*text), r.at(node)};
}

template <class Number>
std::optional<Number> read_number(Reader& r, NodeId node, std::uint64_t least, std::uint64_t most) {
    auto n =
        r.value(node, fmt::format("a whole number from {} to {}", least, most),
                [&](std::string_view text) -> std::optional<std::uint64_t> {
                    auto parsed = parse_count(text);
                    return parsed && *parsed >= least && *parsed <= most ? parsed : std::nullopt;
                });
    if (!n)
        return std::nullopt;
    return static_cast<Number>(*n);
}

void read_state(Reader& r, NodeId node, bool& up) {
    if (auto i = r.word(node, "state", {"up", "down"}))
        up = *i == 0;
}

std::optional<unsigned> read_mtu(Reader& r, NodeId node) {
    return read_number<unsigned>(r, node, 68, 65535); // RFC 791: every host takes 68 bytes
}

std::optional<std::chrono::microseconds> read_delay(Reader& r, NodeId node) {
    return r.value(node, "a time such as 250us, 4ms or 1.5s, at most an hour", parse_delay);
}

std::optional<net::Address> read_address(Reader& r, NodeId node) {
    return r.value(node, "an IPv4 or IPv6 address", net::parse_address);
}

// One prefix for each family at most.
void read_prefixes(Reader& r, NodeId node, std::vector<Placed<net::Prefix>>& into) {
    r.each_item(node, [&](NodeId item) {
        auto given = r.value(item, "a prefix such as 10.40.8.0/24 or fd40:7::/64",
                             net::parse_address_with_length);
        if (!given)
            return;
        net::Prefix prefix = given->prefix();
        if (prefix.first() != given->address)
            return r.problem(item, fmt::format("{} has bits beyond its length; did you mean {}?",
                                               shown(r.text(item)), net::to_string(prefix)));
        into.emplace_back(prefix, r.at(item));
    });
}

void read_prefix_per_family(Reader& r, NodeId node, std::vector<Placed<net::Prefix>>& into) {
    read_prefixes(r, node, into);
    if (into.size() > 2 || (into.size() == 2 && into[0].value.family() == into[1].value.family()))
        r.problem(node, "one prefix for each address family at most");
}

void read_address_per_family(Reader& r, NodeId node, std::vector<Placed<net::Address>>& into) {
    r.each_item(node, [&](NodeId item) {
        if (auto address = read_address(r, item))
            into.emplace_back(*address, r.at(item));
    });
    if (into.size() > 2 || (into.size() == 2 && into[0].value.family() == into[1].value.family()))
        r.problem(node, "one address for each address family at most");
}

// A sequence, or nothing and a problem.
template <class Use>
void read_list(Reader& r, NodeId node, std::string_view what, Use use) {
    if (r.is_empty(node))
        return;
    if (r.kind(node) != NodeKind::sequence)
        return r.problem(node, fmt::format("{} must be a list: [ … ]", what));
    r.each_item(node, use);
}

void read_name(Reader& r, NodeId node, std::string& into) {
    if (auto name = r.scalar(node, "a name"))
        into = *name;
}

// NAME: {…} entries of a section, appended to `into`.
template <class T, std::size_t n>
void read_entries(Reader& r, NodeId node, std::string_view section, std::string_view what,
                  const Key<T> (&keys)[n], std::vector<T>& into, const T& blank = {}) {
    into.reserve(into.size() + r.pair_count(node));
    r.each_pair(node, section, [&](NodeId key, NodeId value) {
        T entry = blank;
        entry.name = r.text(key);
        entry.at = r.at(key);
        r.mapping(value, what, keys, entry);
        into.push_back(std::move(entry));
    });
}

template <class T>
void read_pair(Reader& r, NodeId node, std::string_view what, T& first, T& second) {
    std::vector<NodeId> items;
    if (r.kind(node) == NodeKind::sequence)
        r.each_item(node, [&](NodeId item) { items.push_back(item); });
    if (items.size() != 2)
        return r.problem(node, fmt::format("{} takes two names: [ONE, OTHER]", what));
    read_word(r, items[0], first);
    read_word(r, items[1], second);
}

// --- entries -------------------------------------------------------------------------------

const Key<Site> site_keys[] = {
    {"about", [](Reader& r, NodeId n, Site& s) { read_text(r, n, s.about); }},
    {"region", [](Reader& r, NodeId n, Site& s) { read_name(r, n, s.region); }},
    {"routing", [](Reader& r, NodeId n, Site&) { r.word(n, "way of routing", {"manual"}); }},
    {"space", [](Reader& r, NodeId n, Site& s) { read_prefixes(r, n, s.space); }},
};

void read_subnet_gateway(Reader& r, NodeId node, Subnet& subnet) {
    SubnetGateway& gateway = subnet.gateway;
    gateway.written = true;
    gateway.at = r.at(node);
    if (r.kind(node) == NodeKind::scalar) {
        using Kind = SubnetGateway::Kind;
        for (auto [word, kind] : {std::pair{"first", Kind::first}, std::pair{"last", Kind::last},
                                  std::pair{"none", Kind::none}}) {
            if (r.text(node) != word)
                continue;
            gateway.kind = kind;
            return;
        }
        if (!net::parse_address(r.text(node))) {
            return r.problem(node,
                             fmt::format("{} is no gateway; write first, last, none or an address",
                                         shown(r.text(node))));
        }
    }
    gateway.kind = SubnetGateway::Kind::given;
    read_address_per_family(r, node, gateway.given);
}

const Key<Subnet> subnet_keys[] = {
    {"about", [](Reader& r, NodeId n, Subnet& s) { read_text(r, n, s.about); }},
    {"gateway", read_subnet_gateway},
    {"growth",
     [](Reader& r, NodeId n, Subnet& s) {
         auto percent = r.value(n, "a percentage from 0% to 1000%", parse_percent);
         if (percent && *percent > 1000)
             r.problem(n, "growth is at most 1000%");
         else if (percent)
             s.growth_percent = static_cast<unsigned>(std::lround(*percent));
     }},
    {"hosts",
     [](Reader& r, NodeId n, Subnet& s) {
         if (auto hosts = read_number<std::uint64_t>(r, n, 1, 16'000'000))
             s.hosts = {*hosts, r.at(n)};
     }},
    {"prefix", [](Reader& r, NodeId n, Subnet& s) { read_prefix_per_family(r, n, s.prefixes); }},
    {"site",
     [](Reader& r, NodeId n, Subnet& s) {
         if (auto name = r.scalar(n, "the name of a site"))
             s.site = Placed<std::string>(std::string(*name), r.at(n));
     }},
    {"size",
     [](Reader& r, NodeId n, Subnet& s) {
         auto length = r.value(n, "an IPv4 prefix length from /8 to /32",
                               [](std::string_view text) -> std::optional<std::uint64_t> {
                                   if (!text.starts_with('/'))
                                       return std::nullopt;
                                   auto bits = parse_count(text.substr(1));
                                   return bits && *bits >= 8 && *bits <= 32 ? bits : std::nullopt;
                               });
         if (length)
             s.size = {static_cast<unsigned>(*length), r.at(n)};
     }},
};

void read_nic_address(Reader& r, NodeId node, Nic& nic) {
    nic.address.at = r.at(node);
    if (r.kind(node) == NodeKind::scalar && r.text(node) == "auto")
        return;
    if (r.kind(node) == NodeKind::scalar && r.text(node) == "none") {
        nic.address.kind = NicAddress::Kind::none;
        return;
    }
    nic.address.kind = NicAddress::Kind::given;
    r.each_item(node, [&](NodeId item) {
        auto given = r.value(item, "auto, none, an address or ADDRESS/LENGTH",
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
}

// A text that only readers of the file see.
template <class T>
void skip_text(Reader& r, NodeId node, T&) {
    r.scalar(node, "text");
}

const Key<Nic> nic_keys[] = {
    {"about", skip_text<Nic>},
    {"address", read_nic_address},
    {"mac",
     [](Reader& r, NodeId n, Nic& nic) {
         nic.mac = r.value(n, "a MAC address such as 02:00:5e:10:00:07", net::parse_mac);
     }},
    {"mtu", [](Reader& r, NodeId n, Nic& nic) { nic.mtu_bytes = read_mtu(r, n); }},
    {"name", [](Reader& r, NodeId n, Nic& nic) { read_name(r, n, nic.name); }},
    {"state", [](Reader& r, NodeId n, Nic& nic) { read_state(r, n, nic.up); }},
    {"subnet", [](Reader& r, NodeId n, Nic& nic) { read_word(r, n, nic.subnet); }},
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
    {"via",
     [](Reader& r, NodeId n, Route& route) {
         auto text = r.scalar(n, "an address or the name of a machine");
         if (!text)
             return;
         route.via.at = r.at(n);
         if (auto address = net::parse_address(*text))
             route.via.value = *address;
         else
             route.via.value = std::string(*text);
     }},
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
    }
    machine.gateway = gateway;
}

// `like`, `count` and `template` shape the entry as a whole; MachineReader reads them.
void skip_shape(Reader&, NodeId, Machine&) {}

const Key<Machine> machine_keys[] = {
    {"about", [](Reader& r, NodeId n, Machine& m) { read_text(r, n, m.about); }},
    {"count", skip_shape},
    {"forwards",
     [](Reader& r, NodeId n, Machine& m) {
         if (auto i = r.word(n, "answer", {"true", "false"}))
             m.forwards = *i == 0;
     }},
    {"gateway", read_machine_gateway},
    {"like", skip_shape},
    {"nics",
     [](Reader& r, NodeId n, Machine& m) {
         m.nics.clear(); // an entry's own list replaces that of the entry it is like
         read_list(r, n, "nics", [&](NodeId item) {
             Nic nic;
             nic.at = r.at(item);
             r.mapping(item, "a NIC", nic_keys, nic);
             if (nic.subnet.value.empty())
                 r.problem(item, "a NIC needs `subnet: NAME`");
             m.nics.push_back(std::move(nic));
         });
         m.nics.shrink_to_fit();
     }},
    {"routes",
     [](Reader& r, NodeId n, Machine& m) {
         m.routes.clear();
         read_list(r, n, "routes", [&](NodeId item) {
             Route route;
             route.at = r.at(item);
             r.mapping(item, "a route", route_keys, route);
             if (!route.to.at || !route.via.at)
                 r.problem(item, "a route needs `to` and `via`");
             m.routes.push_back(std::move(route));
         });
     }},
    {"state", [](Reader& r, NodeId n, Machine& m) { read_state(r, n, m.up); }},
    {"template", skip_shape},
};

const Key<Link> link_keys[] = {
    {"about", [](Reader& r, NodeId n, Link& l) { read_text(r, n, l.about); }},
    {"between",
     [](Reader& r, NodeId n, Link& l) { read_pair(r, n, "between", l.first, l.second); }},
    {"delay", [](Reader& r, NodeId n, Link& l) { l.delay = read_delay(r, n).value_or(l.delay); }},
    {"jitter",
     [](Reader& r, NodeId n, Link& l) { l.jitter = read_delay(r, n).value_or(l.jitter); }},
    {"loss",
     [](Reader& r, NodeId n, Link& l) {
         auto percent = r.value(n, "a percentage from 0% to 100%", parse_percent);
         if (percent && *percent > 100)
             r.problem(n, "loss is at most 100%");
         else if (percent)
             l.loss = *percent / 100;
     }},
    {"mtu", [](Reader& r, NodeId n, Link& l) { l.mtu_bytes = read_mtu(r, n); }},
    {"prefix", [](Reader& r, NodeId n, Link& l) { read_prefix_per_family(r, n, l.prefixes); }},
    {"state", [](Reader& r, NodeId n, Link& l) { read_state(r, n, l.up); }},
};

const Key<Expectation> expectation_keys[] = {
    {"about", [](Reader& r, NodeId n, Expectation& e) { read_text(r, n, e.about); }},
    {"family",
     [](Reader& r, NodeId n, Expectation& e) {
         if (auto i = r.word(n, "address family", {"4", "6"}))
             e.family = *i == 0 ? net::Family::ipv4 : net::Family::ipv6;
     }},
    {"gets", [](Reader& r, NodeId n, Expectation& e) { read_word(r, n, e.gets); }},
    {"ping", [](Reader& r, NodeId n, Expectation& e) { read_pair(r, n, "ping", e.from, e.to); }},
    {"within", [](Reader& r, NodeId n, Expectation& e) { e.within = read_delay(r, n); }},
};

// Reads the guests and routers of a plan, those they are like first.
class MachineReader {
  public:
    explicit MachineReader(Reader& r) : r_(r) {}

    void read(NodeId section, MachineKind kind, std::vector<Machine>& into) {
        bool guest = kind == MachineKind::guest;
        into.reserve(into.size() + r_.pair_count(section));
        r_.each_pair(section, guest ? "guests" : "routers", [&](NodeId key, NodeId entry) {
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
    static constexpr int most_alike = 16;
    static constexpr std::uint64_t most_clones = 10'000;
    static constexpr std::uint64_t most_parts = 2'000'000;

    NodeId value(NodeId entry, std::string_view wanted) const {
        NodeId found = Document::none;
        if (r_.kind(entry) == NodeKind::mapping)
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
            bool machines = r_.text(key) == "guests" || r_.text(key) == "routers";
            if (machines && r_.kind(section) == NodeKind::mapping)
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
            std::vector<std::string_view> known;
            for (const auto& [word, _] : entries_)
                known.push_back(word);
            std::ranges::sort(known);
            std::string_view near = nearest_word(name, known);
            return r_.problem(
                at, fmt::format("there is no entry {} to be like{}", shown(name),
                                near.empty() ? "" : fmt::format("; did you mean {}?", near)));
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
    std::unordered_map<std::string_view, NodeId> entries_;
};

void read_machines(Reader& r, NodeId node, Plan& plan, MachineKind kind) {
    MachineReader(r).read(node, kind, plan.machines);
}

// --- parameters ----------------------------------------------------------------------------

// Puts the values of `params` in the place of `$name` and `${name}` in all other values.
class Parameters {
  public:
    Parameters(Document& document, Reader& r) : document_(document), r_(r) {}

    void run(const Settings& settings) {
        read_defaults();
        for (const auto& [name, value] : settings) {
            auto found = values_.find(name);
            if (found == values_.end())
                r_.problem(Mark{}, unknown(name));
            else
                found->second = value;
        }
        for (NodeId id = 0; id < document_.size(); ++id)
            if (document_.text(id).find('$') != std::string_view::npos && !own_.contains(id))
                substitute(id);
    }

  private:
    void read_defaults() {
        if (document_.kind(document_.root()) != NodeKind::mapping)
            return;
        r_.each_pair_quietly(document_.root(), [&](NodeId key, NodeId value) {
            if (r_.text(key) != "params")
                return;
            r_.each_pair(value, "params", [&](NodeId name, NodeId given) {
                own_.insert(given);
                if (!is_name(r_.text(name)))
                    r_.problem(name, fmt::format("the name {} is not a host-name label: a-z, 0-9 "
                                                 "and inner hyphens",
                                                 shown(r_.text(name))));
                if (auto text = r_.scalar(given, "a single value"))
                    values_[std::string(r_.text(name))] = *text;
            });
        });
    }

    std::string unknown(std::string_view name) const {
        std::vector<std::string_view> known;
        for (const auto& [word, _] : values_)
            known.push_back(word);
        std::string_view near = nearest_word(name, known);
        return fmt::format("there is no parameter {}{}", shown(name),
                           near.empty() ? "" : fmt::format("; did you mean {}?", near));
    }

    // `$name` as the whole value, or `${name}` anywhere in it; any other `$` is just a letter.
    void substitute(NodeId id) {
        std::string text(document_.text(id));
        std::string result;
        if (text.front() == '$' && is_name(std::string_view(text).substr(1))) {
            if (!append(result, id, text.substr(1)))
                return;
        } else {
            std::size_t at = 0;
            for (;;) {
                std::size_t open = text.find("${", at);
                std::size_t close = open == text.npos ? text.npos : text.find('}', open);
                if (close == text.npos)
                    break;
                result += text.substr(at, open - at);
                if (!append(result, id, text.substr(open + 2, close - open - 2)))
                    return;
                at = close + 1;
            }
            result += text.substr(at);
        }
        added_ += result.size();
        if (added_ > most_added)
            return r_.problem(id, "the parameters make the plan too long");
        document_.set_text(id, result);
    }

    bool append(std::string& result, NodeId id, const std::string& name) {
        auto found = values_.find(name);
        if (found != values_.end())
            result += found->second;
        else
            r_.problem(id, unknown(name));
        return found != values_.end();
    }

    static constexpr std::size_t most_added = 100'000'000;

    Document& document_;
    Reader& r_;
    std::map<std::string, std::string, std::less<>> values_;
    std::unordered_set<NodeId> own_; // the values in `params` themselves
    std::size_t added_ = 0;
};

const Key<Plan> plan_keys[] = {
    {"about", [](Reader& r, NodeId n, Plan& p) { read_text(r, n, p.about); }},
    {"expect",
     [](Reader& r, NodeId n, Plan& p) {
         read_list(r, n, "expect", [&](NodeId item) {
             Expectation e;
             e.at = r.at(item);
             r.mapping(item, "an expectation", expectation_keys, e);
             if (e.from.value.empty() || e.to.value.empty())
                 r.problem(item, "an expectation needs `ping: [FROM, TO]`");
             p.expectations.push_back(std::move(e));
         });
     }},
    {"guests", [](Reader& r, NodeId n, Plan& p) { read_machines(r, n, p, MachineKind::guest); }},
    {"lab", [](Reader& r, NodeId n, Plan& p) { read_name(r, n, p.lab); }},
    {"links",
     [](Reader& r, NodeId n, Plan& p) {
         read_list(r, n, "links", [&](NodeId item) {
             Link link;
             link.at = r.at(item);
             r.mapping(item, "a link", link_keys, link);
             if (link.first.value.empty() || link.second.value.empty())
                 r.problem(item, "a link needs `between: [ONE, OTHER]`");
             p.links.push_back(std::move(link));
         });
     }},
    {"params", [](Reader&, NodeId, Plan&) {}}, // see Parameters
    {"routers", [](Reader& r, NodeId n, Plan& p) { read_machines(r, n, p, MachineKind::router); }},
    {"sites", [](Reader& r, NodeId n,
                 Plan& p) { read_entries(r, n, "sites", "a site", site_keys, p.sites); }},
    {"subnets", [](Reader& r, NodeId n,
                   Plan& p) { read_entries(r, n, "subnets", "a subnet", subnet_keys, p.subnets); }},
};

} // namespace

Reading read(std::string_view text, std::string source, const Settings& settings) {
    Reading reading;
    reading.source = source;
    if (auto document = Document::read(text, reading.problems)) {
        Plan plan;
        plan.source = std::move(source);
        Reader reader(*document, reading.problems);
        Parameters(*document, reader).run(settings);
        if (document->kind(document->root()) == NodeKind::mapping)
            reader.mapping(document->root(), "a plan", plan_keys, plan);
        else
            reader.problem(document->root(), "a plan is a mapping that starts with `lab: NAME`");
        for (Problem& found : problems(plan))
            reader.problem(found.at, std::move(found.message));
        if (reading.problems.empty()) {
            plan.machines.shrink_to_fit();
            plan.subnets.shrink_to_fit();
            reading.plan = std::move(plan);
        }
    }
    std::stable_sort(
        reading.problems.begin(), reading.problems.end(), [](const Problem& a, const Problem& b) {
            return std::pair(a.at.line, a.at.column) < std::pair(b.at.line, b.at.column);
        });
    auto same = [](const Problem& a, const Problem& b) {
        return a.at == b.at && a.message == b.message; // of an entry that others are like
    };
    auto repeated = std::ranges::unique(reading.problems, same);
    reading.problems.erase(repeated.begin(), repeated.end());
    return reading;
}

Reading read_file(const std::string& path, const Settings& settings) {
    std::ifstream file(path, std::ios::binary);
    std::ostringstream text;
    if (!file || !(text << file.rdbuf())) {
        Reading reading;
        reading.source = path;
        reading.problems.push_back({{}, "cannot be opened, or is empty"});
        return reading;
    }
    return read(text.view(), path, settings);
}

} // namespace jackal::plan
