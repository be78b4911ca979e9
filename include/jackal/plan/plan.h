// What the builder wrote: a plan file as plain data, before any of it is interpreted.
//
// A Plan is read from YAML (see read.h) or filled in by a program. Names refer to each other as
// text; the lab (lab/build.h) is where they are looked up. Every value carries the line and
// column it was read from, so that whatever is said about it later can point there.
#pragma once

#include "jackal/api.h"
#include "jackal/net/mac.h"
#include "jackal/net/prefix.h"
#include "jackal/plan/mark.h"

#include <chrono>
#include <optional>
#include <string>
#include <variant>
#include <vector>

namespace jackal::plan {

/// An island with address space of its own.
struct Site {
    std::string name;
    std::string about;
    std::string region;
    std::vector<Placed<net::Prefix>> space;
    Mark at;
};

/// Where the gateway address of a subnet lies.
struct SubnetGateway {
    enum class Kind : std::uint8_t { first, last, given, none };
    Kind kind = Kind::first;
    bool written = false; ///< true if the plan says so, false for the default
    std::vector<Placed<net::Address>> given;
    Mark at;
};

/// One segment with the prefixes used on it. Exactly one of prefixes, hosts and size is set.
struct Subnet {
    std::string name;
    std::string about;
    std::optional<Placed<std::string>> site;
    std::vector<Placed<net::Prefix>> prefixes;  ///< at most one of each family
    std::optional<Placed<std::uint64_t>> hosts; ///< usable addresses wanted, besides the gateway
    unsigned growth_percent = 0;                ///< on top of hosts
    std::optional<Placed<unsigned>> size;       ///< IPv4 prefix length wanted
    SubnetGateway gateway;
    Mark at;
};

/// An address written at a NIC: with a length, or with that of its subnet.
struct GivenAddress {
    net::Address address;
    std::optional<int> length;
};

/// How a NIC gets its addresses.
struct NicAddress {
    enum class Kind : std::uint8_t { automatic, none, given };
    Kind kind = Kind::automatic;
    std::vector<Placed<GivenAddress>> given;
    Mark at;
};

struct Nic {
    std::string name; ///< empty: eth0, eth1, … by position
    Placed<std::string> subnet;
    NicAddress address;
    std::optional<net::Mac> mac;
    bool up = true;
    std::optional<unsigned> mtu_bytes;
    Mark at;
};

/// Where a machine sends what no other route covers.
struct MachineGateway {
    enum class Kind : std::uint8_t { automatic, none, given };
    Kind kind = Kind::automatic;
    std::vector<Placed<net::Address>> given; ///< at most one of each family
    Mark at;
};

/// A static route.
struct Route {
    struct Default {};
    /// A prefix, the name of a subnet (all its prefixes), or both families' default.
    using Target = std::variant<net::Prefix, std::string, Default>;
    /// An address, or the name of a machine on a segment shared with the route's owner.
    using NextHop = std::variant<net::Address, std::string>;

    Placed<Target> to;
    Placed<NextHop> via;
    std::optional<Placed<std::string>> nic; ///< only for a machine's name: the NIC to reach it by
    unsigned metric = 0;
    Mark at;
};

enum class MachineKind : std::uint8_t { guest, router };

struct Machine {
    MachineKind kind = MachineKind::guest;
    std::string name;
    std::string about;
    std::vector<Nic> nics;
    std::optional<MachineGateway> gateway; ///< unset: automatic for guests, none for routers
    std::vector<Route> routes;
    std::optional<bool> forwards; ///< unset: routers do, guests do not
    bool up = true;
    std::uint16_t clone_digits = 0; ///< letters of the name that `count` added: `-1`, `-2`, …
    Mark at;

    /// The entry of the plan that the machine comes from: `desk` for `desk-2` of `count: 3`.
    std::string_view entry_name() const {
        return std::string_view(name).substr(0, name.size() - clone_digits);
    }
    bool does_forward() const { return forwards.value_or(kind == MachineKind::router); }
};

/// A wire between two machines; it gives each of them one more NIC.
struct Link {
    Placed<std::string> first;
    Placed<std::string> second;
    std::string about;
    std::vector<Placed<net::Prefix>> prefixes; ///< empty: the next free /31 and /127 of the site
    std::chrono::microseconds delay{0};        ///< one way
    std::chrono::microseconds jitter{0};       ///< at most this much is added, one way
    double loss = 0;                           ///< share of packets lost, one way, 0 to 1
    std::optional<unsigned> mtu_bytes;
    bool up = true;
    Mark at;
};

/// A ping whose outcome the builder states beforehand.
struct Expectation {
    Placed<std::string> from; ///< a machine, MACHINE/NIC, a subnet or a site
    Placed<std::string> to;   ///< the same, or an address
    /// "reply", "no-reply", or the slug of the cause that must keep the reply away.
    Placed<std::string> gets = std::string("reply");
    std::optional<net::Family> family;
    std::optional<std::chrono::microseconds> within; ///< longest mean round-trip time allowed
    std::string about;
    Mark at;
};

struct JACKAL_API Plan {
    std::string source = "plan"; ///< the file's name, for messages
    std::string lab;
    std::string about;
    std::vector<Site> sites;
    std::vector<Subnet> subnets;
    std::vector<Machine> machines; ///< guests and routers, in the order they are written
    std::vector<Link> links;
    std::vector<Expectation> expectations;

    /// The entry of that name, or null.
    const Machine* machine(std::string_view name) const;
    const Subnet* subnet(std::string_view name) const;
    Machine* machine(std::string_view name);
    Subnet* subnet(std::string_view name);
};

/// True for a host-name label: a-z, 0-9 and inner hyphens, at most 63 (RFC 1123 section 2.1).
JACKAL_API bool is_name(std::string_view text);

} // namespace jackal::plan
