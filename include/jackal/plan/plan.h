// What the builder wrote: a plan file as plain data, before any of it is interpreted.
//
// A Plan is read from YAML (see read.h) or filled in by a program. Names refer to each other as
// text; the lab (lab/build.h) is where they are looked up. Every value carries the line and
// column it was read from, so that whatever is said about it later can point there.
#pragma once

#include "jackal/api.h"
#include "jackal/net/flow.h"
#include "jackal/net/mac.h"
#include "jackal/net/prefix.h"
#include "jackal/net/range.h"
#include "jackal/plan/mark.h"
#include "jackal/plan/protocols.h"
#include "jackal/rare.h"

#include <array>
#include <chrono>
#include <optional>
#include <string>
#include <variant>
#include <vector>

namespace jackal::plan {

struct Route;

/// An island with address space of its own. If it is automatic, its core answers at the gateway
/// address of each of its subnets and carries traffic between them (see sites.h).
struct Site {
    std::string name;
    std::string about;
    std::string region;
    std::vector<Placed<net::Prefix>> space;
    bool automatic = false;
    std::vector<Route> routes;  ///< of its core
    Placed<std::string> filter; ///< for what its core forwards; empty: none
    Placed<std::string> relay;  ///< the machine that passes on what peers send each other, or empty
    WrittenAt at;

    friend bool operator==(const Site&, const Site&) = default;
};

/// What it takes to get somewhere: a time one way, and costs an hour in the builder's own currency.
struct Distance {
    std::optional<std::chrono::microseconds> delay;
    std::optional<double> peering_cost;
    std::optional<double> line_cost; ///< of a wire of one's own

    friend bool operator==(const Distance&, const Distance&) = default;
};

/// Where sites may be.
struct SiteRegion {
    std::string name;
    std::string about;
    Distance within;
    std::vector<std::pair<Placed<std::string>, Distance>> to; ///< other regions
    WrittenAt at;

    friend bool operator==(const SiteRegion&, const SiteRegion&) = default;
};

/// What one site says of a way outside that it shares with its peer.
enum class Exit : std::uint8_t { none, lend, borrow };

/// "none", "lend" or "borrow".
JACKAL_API std::string_view to_string(Exit exit);

/// What one of two sites consents to.
struct PeeringSide {
    bool declared = false;
    bool accepts = true;
    bool relayed = false; ///< takes what the peer only passes on
    Exit exit = Exit::none;
    Placed<std::string> border; ///< of a manual site: its router that the peering ends at
    WrittenAt at;

    friend bool operator==(const PeeringSide&, const PeeringSide&) = default;
};

/// Joins two sites, if both consent: their cores, or the border routers of manual sites.
struct Peering {
    Placed<std::string> first;
    Placed<std::string> second;
    std::array<PeeringSide, 2> sides; ///< of first and second
    std::string about;
    std::vector<Placed<net::Prefix>> prefixes;      ///< of the link that it makes
    Placed<std::string> pool;                       ///< as for a link
    std::optional<std::chrono::microseconds> delay; ///< unset: that of the regions
    std::optional<double> hourly_cost;              ///< unset: that of the regions
    std::optional<std::uint16_t> mtu_bytes;
    bool up = true;
    WrittenAt at;

    /// The side of that site, 0 or 1, or -1.
    int side_of(std::string_view site) const {
        return first.value == site ? 0 : second.value == site ? 1 : -1;
    }
    const std::string& site(int side) const { return (side == 0 ? first : second).value; }

    friend bool operator==(const Peering&, const Peering&) = default;
};

/// Address space set aside by name, for links and loopbacks.
struct Pool {
    std::string name;
    std::string about;
    std::vector<Placed<net::Prefix>> space;
    WrittenAt at;

    friend bool operator==(const Pool&, const Pool&) = default;
};

/// A stretch of a subnet counted from its first address, in every family that the subnet has: `+10`
/// is the tenth address after it.
struct Places {
    std::uint64_t first = 0;
    std::uint64_t last = 0;

    friend bool operator==(const Places&, const Places&) = default;
};

/// Part of a subnet.
using Region = std::variant<net::Range, Places>;

/// An address, or the name of a machine that has one.
using Host = std::variant<net::Address, std::string>;

/// An address that a DHCP server keeps for one client.
struct Reservation {
    std::variant<net::Mac, std::string> client; ///< the MAC of a NIC, or the name of a machine
    Placed<Region> address;                     ///< one
    WrittenAt at;

    friend bool operator==(const Reservation&, const Reservation&) = default;
};

/// What the DHCP server of a subnet gives out (RFC 2131): a part of its IPv4 prefix, and options.
struct DhcpRange {
    std::optional<Placed<Region>> range;
    std::optional<Placed<std::uint64_t>> size; ///< addresses, at the upper end of the prefix
    bool gives_router = true;                  ///< option 3 (RFC 2132)
    Placed<std::string> server;                ///< empty: the machine that has the gateway address
    Placed<std::string> relay; ///< the machine that passes requests on to the server, or empty
    std::vector<Placed<Region>> exclude;
    std::vector<Reservation> reservations;
    std::chrono::seconds lease = std::chrono::hours(12);
    std::optional<Placed<net::Address>> router; ///< unset: the gateway of the subnet
    std::vector<Placed<Host>> dns;              ///< option 6; empty: none, or that of the uplink
    WrittenAt at;

    friend bool operator==(const DhcpRange&, const DhcpRange&) = default;
};

/// What the segment of a subnet has to do with the world outside the lab.
enum class Uplink : std::uint8_t {
    none,
    host,   ///< the workstation is on it, and nothing beyond
    nat,    ///< the workstation is its gateway, translates, serves DHCP and DNS
    bridge, ///< it is the physical network, whose gateway does all that
    own     ///< of one NIC alone, whose gateway translates; no plan writes it, see NicOptions
};

/// "none", "host", "nat", "bridge" or "own".
JACKAL_API std::string_view to_string(Uplink uplink);

/// Where the gateway address of a subnet lies.
struct SubnetGateway {
    enum class Kind : std::uint8_t { first, last, given, none };
    Kind kind = Kind::first;
    bool written = false; ///< true if the plan says so, false for the default
    std::vector<Placed<net::Address>> given;
    WrittenAt at;

    friend bool operator==(const SubnetGateway&, const SubnetGateway&) = default;
};

/// One segment with the prefixes used on it. At most one of prefixes, hosts and size is set.
struct Subnet {
    std::string name;
    Rare<std::string> about;
    std::optional<Placed<std::string>> site;
    std::vector<Placed<net::Prefix>> prefixes;  ///< at most one of each family
    std::optional<Placed<std::uint64_t>> hosts; ///< usable addresses wanted, besides the gateway
    std::optional<Placed<unsigned>> size;       ///< IPv4 prefix length wanted
    SubnetGateway gateway;
    std::vector<Placed<Region>> reserve; ///< never given out
    Rare<DhcpRange> dhcp;
    Placed<std::string> filter; ///< stands on the NIC of every guest; empty: none
    std::uint16_t vlan = 0;   ///< the VLAN that it is on the switches; 0: that of most of its NICs
    bool static_only = false; ///< no DHCP server is wanted
    bool joined = true;       ///< to the core of its site, if that has one
    Uplink uplink = Uplink::none;
    std::uint8_t ipv6_size = 64;      ///< IPv6 prefix length wanted (RFC 4291 section 2.5.4)
    std::uint16_t growth_percent = 0; ///< on top of hosts
    WrittenAt uplink_at;
    WrittenAt at;

    friend bool operator==(const Subnet&, const Subnet&) = default;
};

/// A port of a switch (IEEE 802.1Q). What carries no tag belongs to its untagged VLAN.
struct SwitchPort {
    std::string name;
    bool is_trunk = false;
    std::uint16_t untagged = 1; ///< of a trunk the native VLAN; 0: untagged frames are dropped
    std::vector<std::uint16_t> tagged; ///< ascending; allowed on a trunk besides the native VLAN
    Placed<std::string> segment;       ///< the subnet whose own segment it is wired to, or empty
    bool up = true;
    WrittenAt at;

    bool carries(std::uint16_t vlan) const;

    friend bool operator==(const SwitchPort&, const SwitchPort&) = default;
};

/// Joins what is plugged into its ports, VLAN by VLAN.
struct Switch {
    std::string name;
    std::string about;
    std::vector<SwitchPort> ports;
    bool up = true;
    WrittenAt at;

    friend bool operator==(const Switch&, const Switch&) = default;
};

/// A wire between two switch ports.
struct Cable {
    Placed<std::string> first; ///< `SWITCH/PORT`
    Placed<std::string> second;
    std::string about;
    bool up = true;
    WrittenAt at;

    friend bool operator==(const Cable&, const Cable&) = default;
};

/// The way of a packet past a filter. On a machine: meant for it, sent by it, forwarded. On a NIC:
/// arriving by it, leaving by it.
enum class Way : std::uint8_t { in, out, through };

/// "in", "out" or "through".
JACKAL_API std::string_view to_string(Way way);

/// Whom a rule means: a prefix, or all addresses of the machine or subnet of a name.
using Ends = std::variant<net::Prefix, std::string>;

/// `10.40.0.0/16`, `lamp-r1`; a prefix that is one address without its length.
JACKAL_API std::string to_string(const Ends& ends);

/// Lets packets pass, or drops them in silence. What is not set means any.
struct FilterRule {
    bool allows = false;
    std::optional<Way> way;
    net::Protocol protocol = net::Protocol::any;
    std::vector<Placed<Ends>> from;
    std::vector<Placed<Ends>> to;
    std::vector<net::Ports> ports; ///< of the destination
    WrittenAt at;

    friend bool operator==(const FilterRule&, const FilterRule&) = default;
};

/// Rules in their order, the first that matches decides. What answers an allowed packet passes.
struct Filter {
    std::string name;
    std::string about;
    bool allows = false;  ///< what no rule names
    WrittenAt default_at; ///< unset if the plan does not say
    std::vector<FilterRule> rules;
    WrittenAt at;

    friend bool operator==(const Filter&, const Filter&) = default;
};

/// An address written at a NIC: with a length, or with that of its subnet.
struct GivenAddress {
    net::Address address;
    std::optional<int> length;

    friend bool operator==(const GivenAddress&, const GivenAddress&) = default;
};

/// How a NIC gets its addresses.
struct NicAddress {
    enum class Kind : std::uint8_t { automatic, dhcp, none, given };
    Kind kind = Kind::automatic;
    std::vector<Placed<GivenAddress>> given;
    WrittenAt at;

    friend bool operator==(const NicAddress&, const NicAddress&) = default;
};

/// One of the wires that a NIC consists of.
struct BondMember {
    std::string name;
    Placed<std::string> port; ///< `SWITCH/PORT`, or empty: directly on the segment
    bool up = true;
    WrittenAt at;

    friend bool operator==(const BondMember&, const BondMember&) = default;
};

/// What few NICs have.
struct NicOptions {
    std::string about;
    Placed<std::string> filter;   ///< for what arrives and leaves by this NIC; empty: none
    Placed<std::string> port;     ///< `SWITCH/PORT`; empty: directly on the subnet's segment
    std::uint16_t vlan = 0;       ///< that the NIC tags its frames with; 0: untagged
    std::uint32_t metric = 0;     ///< of the default route that comes with a lease
    std::vector<BondMember> bond; ///< active-backup: the first that works carries all
    /// The prefix of a segment that is the NIC's alone, with a gateway of its own that translates.
    std::optional<Placed<net::Prefix>> way_out;

    friend bool operator==(const NicOptions&, const NicOptions&) = default;
};

struct Nic {
    Rare<std::string> name;     ///< unset: eth0, eth1, … by position
    Placed<std::string> subnet; ///< empty if it has a way out of its own
    NicAddress address;
    Rare<net::Mac> mac;
    bool up = true;
    std::optional<std::uint16_t> mtu_bytes;
    Rare<NicOptions> options;
    WrittenAt at;

    bool has_way_out() const { return options && options->way_out; }

    friend bool operator==(const Nic&, const Nic&) = default;
};

/// Where a machine sends what no other route covers.
struct MachineGateway {
    enum class Kind : std::uint8_t { automatic, none, given };
    Kind kind = Kind::automatic;
    std::vector<Placed<net::Address>> given; ///< at most one of each family
    WrittenAt at;

    friend bool operator==(const MachineGateway&, const MachineGateway&) = default;
};

/// A static route.
struct Route {
    struct Default {
        friend bool operator==(const Default&, const Default&) = default;
    };
    /// A prefix, the name of a subnet (all its prefixes) or of a site (its space and the prefixes
    /// of its subnets outside of that), or both families' default. A subnet's name goes first.
    using Target = std::variant<net::Prefix, std::string, Default>;
    /// An address, or the name of a machine on a segment shared with the route's owner.
    using NextHop = std::variant<net::Address, std::string>;

    Placed<Target> to;
    Placed<NextHop> via;
    std::optional<Placed<std::string>> nic; ///< only for a machine's name: the NIC to reach it by
    std::uint32_t metric = 0;
    Rare<std::string> about;
    WrittenAt at;

    friend bool operator==(const Route&, const Route&) = default;
};

/// An address of the machine itself, on no segment.
struct Loopback {
    std::vector<Placed<net::Address>> given; ///< at most one of each family; empty: the next free
    Placed<std::string> pool;                ///< where those are free; empty: the site's space
    WrittenAt at;

    friend bool operator==(const Loopback&, const Loopback&) = default;
};

/// A change of IPv4 addresses in passing (RFC 3022). Answers are turned back by the flow's record.
struct Translation {
    enum class Kind : std::uint8_t {
        source,      ///< to the address of the NIC that the packet leaves by
        destination, ///< of what comes in for the NIC's own address, to `to`
    };
    Kind kind = Kind::source;
    Placed<std::string> nic;
    std::vector<Placed<Ends>> from;                     ///< source: only these; empty: all
    net::Protocol protocol = net::Protocol::any;        ///< destination: only this one
    std::uint16_t port = 0;                             ///< destination: only this one, 0 for any
    Placed<std::variant<net::Address, std::string>> to; ///< destination: an address or a machine
    std::uint16_t to_port = 0;                          ///< destination: 0 for the same
    WrittenAt at;

    friend bool operator==(const Translation&, const Translation&) = default;
};

/// What a machine does and is told besides forwarding.
struct Duties {
    Placed<std::string> filter; ///< for what it takes, sends and forwards; empty: none
    std::vector<Translation> translations;
    std::vector<Placed<net::Service>> listens;
    std::vector<Placed<Host>> dns; ///< name servers that it asks, besides those of its leases
    std::vector<Placed<std::string>> starts_after; ///< machines
    Rare<Protocols> protocols;

    friend bool operator==(const Duties&, const Duties&) = default;
};

/// Who logs in to a machine, and by which keys.
struct Login {
    Placed<std::string> user;              ///< empty if the plan does not say
    std::vector<Placed<std::string>> keys; ///< public ones, as in authorized_keys of sshd(8)

    friend bool operator==(const Login&, const Login&) = default;
};

/// What a virtual machine starts from: files, named from the plan's folder on; empty where the plan
/// does not say.
struct Image {
    Placed<std::string> disk;   ///< that its own disk lies over, and which stays as it is
    Placed<std::string> kernel; ///< that starts in the place of the disk's own loader
    Placed<std::string> initrd;
    Placed<std::string> arguments;    ///< of the kernel
    std::optional<bool> is_namespace; ///< it runs as a network namespace, and needs no image

    friend bool operator==(const Image&, const Image&) = default;
};

/// What a machine takes from the computer that runs it; 0 if the plan does not say.
struct Sizes {
    std::uint32_t cpus = 0;
    std::uint32_t memory_mib = 0;
    std::uint32_t disk_mib = 0;

    friend bool operator==(const Sizes&, const Sizes&) = default;
};

enum class MachineKind : std::uint8_t { guest, router };

struct Machine {
    MachineKind kind = MachineKind::guest;
    std::string name;
    Rare<std::string> about;
    std::vector<Nic> nics;
    Rare<MachineGateway> gateway; ///< unset: automatic for guests, none for routers
    std::vector<Route> routes;
    std::optional<bool> forwards; ///< unset: routers do, guests do not
    Rare<Loopback> loopback;
    Rare<Duties> duties;
    Rare<Login> login; ///< what differs from that of the plan
    Rare<Image> image; ///< likewise
    Sizes sizes;
    bool up = true;
    std::uint16_t clone_digits = 0; ///< letters of the name that `count` added: `-1`, `-2`, …
    WrittenAt at;

    /// The entry of the plan that the machine comes from: `desk` for `desk-2` of `count: 3`.
    std::string_view entry_name() const {
        return std::string_view(name).substr(0, name.size() - clone_digits);
    }
    bool does_forward() const { return forwards.value_or(kind == MachineKind::router); }

    friend bool operator==(const Machine&, const Machine&) = default;
};

/// What a tunnel costs an hour where the plan does not say: a gateway on each side.
constexpr double tunnel_cost = 0.1;

/// A link that is no wire: its packets travel inside others (VXLAN, RFC 7348), from one address of
/// the one machine to one of the other.
struct Tunnel {
    std::array<Placed<std::string>, 2>
        over; ///< the NICs whose addresses those are; empty: the first with one
    double hourly_cost = tunnel_cost; ///< in the builder's own currency

    friend bool operator==(const Tunnel&, const Tunnel&) = default;
};

/// A wire between two machines; it gives each of them one more NIC.
struct Link {
    Placed<std::string> first;
    Placed<std::string> second;
    std::array<Placed<std::string>, 2>
        nics; ///< what their NICs are called; empty: by their position
    std::string about;
    std::vector<Placed<net::Prefix>> prefixes; ///< empty: the next free /31 and /127
    Placed<std::string> pool;                  ///< where those are free; empty: the site's space
    std::chrono::microseconds delay{0};        ///< one way
    std::chrono::microseconds jitter{0};       ///< at most this much is added, one way
    double loss = 0;                           ///< share of packets lost, one way, 0 to 1
    Rare<Tunnel> tunnel;                       ///< unset: a wire
    std::optional<std::uint16_t> mtu_bytes;
    std::uint16_t cost = 0; ///< to OSPF, of both its NICs; 0 if the plan does not say
    bool up = true;
    WrittenAt at;

    friend bool operator==(const Link&, const Link&) = default;
};

/// A ping, or a connection to a service, whose outcome the builder states beforehand; or that
/// nothing gets through at all.
struct Expectation {
    Placed<std::string> from;            ///< a machine, MACHINE/NIC, a subnet or a site
    Placed<std::string> to;              ///< the same, or an address
    std::optional<net::Service> service; ///< unset: a ping
    bool apart = false; ///< no packet of either may reach the other; else a ping, or a service
    /// Of a ping "reply" or "no-reply", of a connection "open" or "closed", or the slug of the
    /// cause that must be in the way.
    Placed<std::string> gets = std::string("reply");
    std::optional<net::Family> family;
    std::optional<std::chrono::microseconds> within; ///< longest mean round-trip time allowed
    std::vector<Placed<std::string>> cuts;           ///< under which it must hold, all at once
    std::uint8_t any_cuts = 0; ///< it must hold whichever link is cut, or with 2 whichever two are
    std::string about;
    WrittenAt at;

    friend bool operator==(const Expectation&, const Expectation&) = default;
};

/// A stand-in for a host far away.
struct OutsideHost {
    std::string name;
    std::string about;
    std::vector<Placed<net::Address>> addresses; ///< at most one of each family
    std::vector<Placed<net::Service>> listens;
    WrittenAt at;

    friend bool operator==(const OutsideHost&, const OutsideHost&) = default;
};

/// What lies beyond the lab.
struct Outside {
    std::vector<Placed<net::Prefix>> lan; ///< the physical network around the lab
    std::vector<OutsideHost> hosts;
    std::chrono::microseconds delay{0}; ///< one way, from that network to any host
    WrittenAt at;

    friend bool operator==(const Outside&, const Outside&) = default;
};

/// What all machines together may take; 0 for no limit.
struct Limits {
    Sizes sizes;
    WrittenAt at;

    friend bool operator==(const Limits&, const Limits&) = default;
};

/// Choices of an earlier planning that are to stay (see exports::pin). What the plan writes itself
/// goes before them, and pins of entries that are not there mean nothing.
struct Pins {
    struct Prefixes {
        std::string name; ///< a site, a subnet, or `ONE -- OTHER` for a link
        std::vector<Placed<net::Prefix>> prefixes;
        WrittenAt at;

        friend bool operator==(const Prefixes&, const Prefixes&) = default;
    };
    struct Addresses {
        std::string machine;
        std::string subnet;                       ///< empty for the loopback
        std::vector<Placed<net::Address>> chosen; ///< of the automatic NICs there, in their order
        WrittenAt at;

        friend bool operator==(const Addresses&, const Addresses&) = default;
    };
    struct DhcpRange {
        std::string subnet;
        Placed<net::Range> range;

        friend bool operator==(const DhcpRange&, const DhcpRange&) = default;
    };
    struct Names {
        std::string machine;
        std::string on;                 ///< a subnet, or a link as in Prefixes
        std::vector<std::string> names; ///< of the NICs there that have no written name, in order

        friend bool operator==(const Names&, const Names&) = default;
    };
    std::vector<Prefixes> sites;
    std::vector<Prefixes> subnets;
    std::vector<DhcpRange> dhcp;
    std::vector<Prefixes> links;
    std::vector<Addresses> machines;
    std::vector<Addresses> loopbacks;
    std::vector<Names> nics;
    WrittenAt at; ///< of the section, if there is one

    friend bool operator==(const Pins&, const Pins&) = default;
};

struct JACKAL_API Plan {
    std::string source = "plan"; ///< the file's name, for messages
    std::string lab;
    std::string about;
    std::vector<Site> sites;
    std::vector<Pool> pools;
    std::vector<Subnet> subnets;
    std::vector<Machine> machines; ///< guests and routers, in the order they are written
    std::vector<Link> links;       ///< and tunnels
    std::vector<Peering> peerings;
    std::vector<SiteRegion> regions;
    std::vector<Switch> switches;
    std::vector<Cable> cables;
    std::vector<Filter> filters;
    std::vector<Policy> policies;
    Outside outside;
    Limits limits;
    Login login; ///< of all machines that say nothing else
    Image image; ///< likewise
    std::vector<Expectation> expectations;
    Pins pins;

    /// The entry of that name, or null.
    const Machine* machine(std::string_view name) const;
    const Subnet* subnet(std::string_view name) const;
    Machine* machine(std::string_view name);
    Subnet* subnet(std::string_view name);
    Filter* filter(std::string_view name);
    /// The port that `SWITCH/PORT` names, or null.
    SwitchPort* port(std::string_view name);
    const SwitchPort* port(std::string_view name) const;

    friend bool operator==(const Plan&, const Plan&) = default;
};

/// The names by which links are pinned, parallel to `links`: `quay-r1 -- lamp-r1`, and for further
/// links between the same two `quay-r1 -- lamp-r1 -- 2` and so on.
JACKAL_API std::vector<std::string> link_names(const std::vector<Link>& links);

/// `512M`, `4G`, `1.5T` for a number of mebibytes.
JACKAL_API std::string size_text(std::uint64_t mib);

/// `250us`, `4ms` or `1.5s`, to the nearest microsecond; nothing for any other text, or for more
/// than 10^12 microseconds.
JACKAL_API std::optional<std::chrono::microseconds> parse_time(std::string_view text);

/// True for a host-name label: a-z, 0-9 and inner hyphens, at most 63 (RFC 1123 section 2.1).
JACKAL_API bool is_name(std::string_view text);

} // namespace jackal::plan
