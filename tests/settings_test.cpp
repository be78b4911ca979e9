// The settings of real machines, held against the programs that read them.
#include "files.h"
#include "jackal/jackal.h"
#include "kernel.h"
#include "lab_of.h"
#include "program.h"
#include "scratch.h"

#include <doctest/doctest.h>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <map>
#include <nlohmann/json.hpp>
#include <set>

using namespace jackal;
using nlohmann::json;
namespace fs = std::filesystem;

namespace {

const std::string tool = TOOL " ";
const std::string skerry = SOURCE_DIR "/demo/skerry.yaml";

// Two guests, one behind a filter, and two routers that speak OSPF.
constexpr const char* mill = R"(lab: mill
user: miller
keys: ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIB1xqwAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA miller@mill
subnets:
  wheel: {prefix: [10.60.1.0/24, "fd60:0:0:1::/64"]}
  stone: {prefix: [10.60.2.0/24, "fd60:0:0:2::/64"], dhcp: {size: 8, reservations: {sack: 10.60.2.250}}}
filters:
  shut: {default: deny, rules: [{do: allow, way: in, proto: icmp, from: wheel}, {do: allow, way: out}]}
guests:
  paddle: {nics: [{subnet: wheel}]}
  sieve: {nics: [{subnet: stone, filter: shut}]}
  sack: {nics: [{subnet: stone, address: dhcp}], user: baker}
routers:
  weir: {nics: [{subnet: wheel}], ospf: {areas: {0: all}, hello: {eth0: 1s, eth1: 1s}}}
  race: {nics: [{subnet: stone}], ospf: {areas: {0: all}, hello: {eth0: 1s, eth1: 1s}}}
links:
  - {between: [weir, race]}
)";

void exported(const fs::path& plan, const fs::path& into) {
    const Printed printed = run(
        fmt::format("{} export {} --as settings -o {} 2>&1", tool, plan.string(), into.string()));
    CAPTURE(printed.text);
    REQUIRE(printed.status == 0);
}

// The program takes the file.
void takes(const std::string& command) {
    const Printed printed = run(command + " 2>&1");
    CAPTURE(command);
    CAPTURE(printed.text);
    CHECK(printed.status == 0);
}

// A network namespace that plays a machine of the lab, with its NICs, each at the end of a wire.
class Space {
  public:
    Space(const lab::Lab& lab, lab::MachineId machine, const fs::path& settings)
        : name_(fmt::format("set{}-{}", getpid(), lab.machines[machine].name)),
          own_(settings / "machines" / lab.machines[machine].name) {
        run(fmt::format("ip netns add {0} && ip -n {0} link set dev lo up", name_)); // as init does
        for (lab::NicId nic : lab.nics_of(machine))
            if (!lab.nics[nic].is_loopback() && !lab.tunnel(nic)) {
                run(fmt::format("ip -n {0} link add name {1} address {2} type veth peer name "
                                "wire-{1} && ip -n {0} link set dev wire-{1} up",
                                name_, lab.nics[nic].name, net::to_string(lab.nics[nic].mac)));
            }
    }
    Space(const Space&) = delete;
    Space& operator=(const Space&) = delete;
    ~Space() { run("ip netns pids " + name_ + " | xargs -r kill -9; ip netns del " + name_); }

    const std::string& name() const { return name_; }

    // With a /run of its own.
    std::string enter(const std::string& command) const {
        return fmt::format(
            "ip netns exec {} unshare --mount sh -c 'mount -t tmpfs none /run && {}'", name_,
            command);
    }
    std::string ifup() const {
        return enter(fmt::format("mkdir /run/network && ifup -a -i {}",
                                 (own_ / "ifupdown/etc/network/interfaces").string()));
    }
    // Networkd asks udev about NICs unless /sys cannot be written, as in a container.
    std::string networkd() const {
        return enter(fmt::format("mkdir -p /run/systemd/network && cp {}/* /run/systemd/network && "
                                 "mount --bind -o ro /sys /sys && timeout 4 "
                                 "/lib/systemd/systemd-networkd 2>/dev/null",
                                 (own_ / "networkd/etc/systemd/network").string()));
    }
    fs::path system(const std::string& file) const { return own_ / "system/etc" / file; }

    json ask(const std::string& what) const {
        return json::parse(run(fmt::format("ip -n {} -json {}", name_, what)).text);
    }

  private:
    std::string name_;
    fs::path own_;
};

// `eth0 10.60.1.2/24`, and `eth0 10.60.2.0/24 via 10.60.1.1 metric 0`.
std::set<std::string> found_in(const Space& space) {
    std::set<std::string> found;
    for (const json& nic : space.ask("address"))
        for (const json& row : nic["addr_info"])
            if (row["scope"] == "global")
                found.insert(fmt::format("{} {}/{}", nic["ifname"].get<std::string>(),
                                         row["local"].get<std::string>(),
                                         row["prefixlen"].get<int>()));
    for (const char* family : {"-4", "-6"})
        for (const json& row : space.ask(std::string(family) + " route"))
            if (row.contains("gateway"))
                found.insert(fmt::format("{} {} via {} metric {}", row["dev"].get<std::string>(),
                                         row["dst"].get<std::string>(),
                                         row["gateway"].get<std::string>(),
                                         row.value("metric", 0)));
    return found;
}

std::set<std::string> planned_for(const routing::Settled& settled, lab::MachineId machine) {
    const lab::Lab& lab = settled.lab();
    std::set<std::string> planned;
    for (lab::NicId nic : lab.nics_of(machine))
        for (lab::AddressId id : lab.addresses_of(nic))
            if (const lab::InterfaceAddress& row = lab.addresses[id];
                row.address.family() == net::Family::ipv6
                || row.origin != lab::AddressOrigin::lease)
                planned.insert(fmt::format("{} {}/{}", lab.nics[nic].name,
                                           net::to_string(row.address), row.length));
    for (const routing::Route& route : settled.routes(machine)) {
        if (route.kind != routing::RouteKind::static_route
            || (lab.routes[route.written].origin == lab::RouteOrigin::gateway_lease
                && route.to.family() == net::Family::ipv4))
            continue;
        planned.insert(fmt::format("{} {} via {} metric {}", lab.nics[route.out].name,
                                   route.to.length() == 0 ? "default" : net::to_string(route.to),
                                   net::to_string(route.via), route.metric));
    }
    return planned;
}

} // namespace

TEST_CASE("the programs that read settings take those of the demo plan and of a small lab") {
    Scratch folder;
    exported(skerry, folder / "skerry");
    exported(folder.file("mill.yaml", mill), folder / "mill");
    std::map<std::string, std::string> readers{
        {"nftables.conf", "unshare --net nft -c -f "},
        {"bird.conf", "bird -p -c "},
        {"lab.conf", "dnsmasq --test -C "},
        {"user-data", "cloud-init schema --config-file "},
    };
    if (!has_kernel())
        readers.erase("nftables.conf");
    std::map<std::string, int> asked;
    for (const char* lab : {"skerry", "mill"})
        for (const auto& entry : fs::recursive_directory_iterator(folder / lab)) {
            const std::string name = entry.path().filename();
            const std::string path = entry.path();
            // One of each sort for those that take their time.
            const bool is_slow = name == "user-data" || name == "network-config";
            if (is_slow && lab == std::string("skerry") && !has(path, "-r1/")
                && !has(path, "mess-pad") && !has(path, "echo-sounder"))
                continue;
            if (auto reader = readers.find(name); reader != readers.end())
                takes(reader->second + path);
            else if (entry.path().extension() == ".zone")
                takes(fmt::format("named-checkzone {} {}", entry.path().stem().string(), path));
            else if (name == "network-config") // netplan reads the same below a key of its own
                takes(
                    fmt::format("mkdir -p {0}/etc/netplan && (echo network: && sed 's/^/  /' {1}) "
                                ">{0}/etc/netplan/lab.yaml && netplan generate --root-dir {0}",
                                (folder / "netplan").string(), path));
            else
                continue;
            ++asked[name];
        }
    CHECK(asked["nftables.conf"] >= (readers.contains("nftables.conf") ? 4 : 0));
    CHECK(asked["bird.conf"] >= 8);
    CHECK(asked["lab.conf"] >= 4);
    CHECK(asked["user-data"] == asked["network-config"]);
}

TEST_CASE("ifupdown and systemd-networkd set what the plan says") {
    if (!has_kernel())
        return;
    Scratch folder;
    exported(skerry, folder / "skerry");
    const lab::Lab lab = lab_of(text_of(skerry));
    const routing::Settled settled = routing::settle(lab);
    std::size_t asked = 0;
    for (bool by_networkd : {false, true}) {
        std::map<lab::MachineId, std::unique_ptr<Space>> spaces;
        std::string all;
        for (lab::MachineId id : lab.machines.ids()) {
            bool is_plain = !lab.machines[id].outside;
            for (lab::NicId nic : lab.nics_of(id)) // 802.1Q, bonds and servers are not here
                is_plain = is_plain && (by_networkd || lab.lease_of(nic) == nullptr)
                           && (lab.plugs_of(nic).empty()
                               || (lab.plugs_of(nic).front().vlan == 0
                                   && lab.plugs_of(nic).front().member.empty()));
            if (!is_plain)
                continue;
            auto& space = *spaces.emplace(id, std::make_unique<Space>(lab, id, folder / "skerry"))
                               .first->second;
            all += (by_networkd ? space.networkd() + " & " : space.ifup() + " && ");
        }
        CHECK(run(all + (by_networkd ? "wait" : "true") + " 2>&1").status == 0);
        for (const auto& [id, space] : spaces) {
            CAPTURE(by_networkd);
            CAPTURE(lab.machines[id].name);
            CHECK(found_in(*space) == planned_for(settled, id));
            ++asked;
        }
    }
    CHECK(asked > 40);
}

TEST_CASE("machines that get nothing but their settings answer each other as foretold") {
    if (!has_kernel())
        return;
    Scratch folder;
    exported(folder.file("mill.yaml", mill), folder / "mill");
    const lab::Lab lab = lab_of(mill);
    const routing::Settled settled = routing::settle(lab);
    std::map<std::string, std::unique_ptr<Space>> spaces;
    for (const char* name : {"paddle", "sieve", "weir", "race"})
        spaces.emplace(name, std::make_unique<Space>(lab, *lab.machine(name), folder / "mill"));
    // The other ends of the wires meet.
    const std::string bridges = fmt::format("set{}-wires", getpid());
    run("ip netns add " + bridges);
    int wire = 0;
    for (lab::SegmentId id : lab.segments.ids()) {
        run(fmt::format(
            "ip -n {0} link add name s{1} type bridge && ip -n {0} link set dev s{1} up", bridges,
            id.row));
        for (lab::NicId nic : lab.segments[id].nics)
            if (auto own = spaces.find(lab.machine_name(nic)); own != spaces.end())
                run(fmt::format("ip -n {0} link set dev wire-{1} netns {2} name w{3} && ip -n {2} "
                                "link set dev w{3} master s{4} up",
                                own->second->name(), lab.nics[nic].name, bridges, ++wire, id.row));
    }
    std::string all;
    for (const auto& [name, space] : spaces)
        all += (name == "paddle" ? space->ifup() : space->networkd()) + " & ";
    CHECK(run(all + "wait").status == 0);
    for (const auto& [name, space] : spaces) {
        const std::string in = "ip netns exec " + space->name() + " ";
        takes(in + "sysctl -q -p " + space->system("sysctl.d/60-lab.conf").string());
        if (fs::exists(space->system("nftables.conf")))
            for (int i = 0; i < 2; ++i) // the second time in place of the first
                takes(in + "nft -f " + space->system("nftables.conf").string());
        if (fs::exists(space->system("bird/bird.conf")))
            takes(in
                  + fmt::format("bird -c {} -s {}.ctl", space->system("bird/bird.conf").string(),
                                (folder / name).string()));
    }
    auto knows = [&](const char* machine, const char* family, const char* prefix) {
        return has(run(fmt::format("ip -n {} {} route", spaces.at(machine)->name(), family)).text,
                   prefix);
    };
    for (int i = 0;
         i < 60
         && !(knows("weir", "-4", "10.60.2.0/24") && knows("race", "-4", "10.60.1.0/24")
              && knows("weir", "-6", "fd60:0:0:2::") && knows("race", "-6", "fd60:0:0:1::"));
         ++i)
        run("sleep 0.5");
    for (const auto& [from, space] : spaces)
        for (const auto& [to, _] : spaces)
            for (net::Family family : net::both_families) {
                const std::string address = net::to_string(
                    lab.first_address(lab.machines[*lab.machine(to)].first_nic, family)->address);
                CAPTURE(from);
                CAPTURE(address);
                const Printed real = run(
                    fmt::format("ip netns exec {} ping -n -c 1 -W 1 {}", space->name(), address));
                CHECK((real.status == 0) == (outcome(settled, from, address) == "reply"));
            }
    run("ip netns del " + bridges);
}

TEST_CASE("the topology is one of RFC 8345, and both ends of its links are there") {
    const lab::Lab lab = lab_of(text_of(skerry));
    json topology;
    for (const exports::File& file : exports::settings_files(routing::settle(lab)))
        if (file.path == "lab/topology.json")
            topology = json::parse(file.text);
    const json& network = topology.at("ietf-network:networks").at("network").at(0);
    CHECK(network.at("network-id") == lab.name);
    std::set<std::pair<std::string, std::string>> points;
    std::set<std::string> nodes;
    for (const json& node : network.at("node")) {
        CHECK(nodes.insert(node.at("node-id")).second);
        for (const json& point :
             node.value("ietf-network-topology:termination-point", json::array()))
            CHECK(points.emplace(node.at("node-id"), point.at("tp-id")).second);
    }
    std::set<std::array<std::string, 4>> links;
    std::set<std::string> ids;
    for (const json& link : network.at("ietf-network-topology:link")) {
        const json& from = link.at("source");
        const json& to = link.at("destination");
        CHECK(ids.insert(link.at("link-id")).second);
        CHECK(points.contains({from.at("source-node"), from.at("source-tp")}));
        CHECK(points.contains({to.at("dest-node"), to.at("dest-tp")}));
        links.insert({from["source-node"].get<std::string>(), from["source-tp"].get<std::string>(),
                      to["dest-node"].get<std::string>(), to["dest-tp"].get<std::string>()});
    }
    for (const auto& link : links) // RFC 8345 section 4.4.5: they lead one way each
        CHECK(links.contains({link[2], link[3], link[0], link[1]}));
    CHECK(links.size() >= 2 * lab.links.size());
}

TEST_CASE("settings are written whole or not at all, the same each time, with who logs in") {
    Scratch folder;
    const fs::path plan = folder.file("mill.yaml", mill);
    exported(plan, folder / "one");
    exported(plan, folder / "two");
    const std::string one = (folder / "one").string();
    CHECK(run(fmt::format("diff -r {} {}", one, (folder / "two").string())).text.empty());
    auto again = [&](const std::string& options) {
        return run(fmt::format("{} export {} --as settings {} 2>&1", tool, plan.string(), options));
    };
    CHECK(has(again("-o " + one).text, "it exists already; --replace takes its place"));
    CHECK(again("-o " + one + " --replace").status == 0);
    folder.file("one/machines/mine", "mine");
    CHECK(has(again("-o " + one + " --replace").text,
              "machines/mine is in it, which an export has not written"));
    fs::create_directory(folder / "other");
    CHECK(has(again("-o " + (folder / "other").string() + " --replace").text,
              "it is no folder that an export has written"));
    CHECK(has(again("-o /proc/nowhere").text, "cannot be written"));
    CHECK(has(again("").text, "name it with -o FOLDER"));
    CHECK(text_of(folder / "one/machines/mine") == "mine");
    CHECK(run("ls -A " + (folder / "").string() + " | wc -l").text == "4\n"); // nothing is left

    const std::string machines = one + "/machines/";
    CHECK(has(text_of(machines + "weir/cloud-init/user-data"), "- name: miller\n"));
    CHECK(has(text_of(machines + "sack/cloud-init/user-data"), "- name: baker\n"));
    CHECK(has(text_of(machines + "sack/cloud-init/user-data"), "AAAAC3NzaC1lZDI1NTE5"));
    CHECK(has(text_of(one + "/lab/ssh_config"), "Host sack\n    HostName 10.60.2.250\n"));
    CHECK(has(text_of(one + "/lab/ssh_config"), "    User baker\n"));
    CHECK(has(text_of(machines + "race/system/etc/dnsmasq.d/lab.conf"), ",10.60.2.250\n"));
    CHECK(has(text_of(machines + "race/system/etc/hostname"), "race"));
}

TEST_CASE(
    "a lab that was broken by hand is told all of it, with what it breaks and what mends it") {
    if (!has_kernel())
        return;
    Scratch folder;
    std::string text = mill;
    const std::string name = fmt::format("mill{}", getpid());
    text.replace(text.find("mill"), 4, name);
    const std::string plan = folder.file("mill.yaml", text).string();
    auto made = [&](const std::string& form) {
        const std::string script = (folder / (form + ".sh")).string();
        takes(fmt::format("{} export {} --as {} -o {}", tool, plan, form, script));
        return "sh " + script + " ";
    };
    const std::string lab = made("namespaces");
    const std::string gather = made("gather");
    takes(lab + "start");
    int round = 0;
    auto drift = [&](int status) {
        const std::string facts = (folder / fmt::format("facts{}", ++round)).string();
        takes(gather + facts);
        const Printed printed = run(fmt::format("{} drift {} {} --format json", tool, plan, facts));
        CAPTURE(printed.text);
        CHECK(printed.status == status);
        return json::parse(printed.text);
    };
    CHECK(drift(0).at("differences").empty());

    auto at = [&](const std::string& machine) {
        return "ip netns exec " + name + "." + machine + " ";
    };
    struct Row {
        std::string damage;
        std::string what;
        std::string difference;
        bool breaks = true;
    };
    const Row rows[] = {
        {at("paddle") + "ip address delete 10.60.1.2/24 dev eth0 && " + at("paddle")
             + "ip address add 10.60.1.77/24 dev eth0 && " + at("paddle")
             + "ip route add default via 10.60.1.1",
         "paddle/eth0", "address-missing", false}, // it has another one, and answers by that
        {at("sieve") + "ip route delete default", "sieve", "route-missing"},
        {at("sieve") + "nft delete table inet jackal", "sieve", "rules-missing", false},
        {at("weir") + "sysctl -q -w net.ipv4.ip_forward=0 net.ipv6.conf.all.forwarding=0", "weir",
         "forwarding"},
        {at("race") + "sysctl -q -w net.ipv6.conf.all.forwarding=0", "race", "forwarding"},
        {at("race") + "ip link set dev eth1 mtu 1300", "race/eth1", "mtu-differs"},
        {at("race") + "ip route add 198.51.100.0/24 via 10.60.2.9", "race", "route-extra", false},
        {at("race")
             + "nft 'add table ip own; add chain ip own in { type filter hook input priority "
               "0; policy drop; }; add rule ip own in ct state established,related accept'",
         "race", "other-rules"},
    };
    for (const Row& row : rows)
        takes(row.damage);
    const json broken = drift(1);
    CHECK(broken.at("differences").size() == std::size(rows));
    std::string mending;
    for (const Row& row : rows) {
        CAPTURE(row.difference);
        const json* told = nullptr;
        for (const json& d : broken["differences"])
            if (d["difference"] == row.difference && d["what"] == row.what)
                told = &d;
        REQUIRE(told != nullptr);
        std::uint64_t lost = 0;
        for (const json& change : told->at("reach").is_null() ? json::array() : told->at("reach"))
            lost += change["lost"].get<std::uint64_t>();
        CHECK((lost != 0) == row.breaks);
        const std::string machine = row.what.substr(0, row.what.find('/'));
        if (row.difference == "rules-missing") // by the settings of the machine
            continue;
        mending += at(machine) + "sh -c '" + told->at("command").get<std::string>() + "' && ";
    }
    CHECK(!broken["reach"].empty());
    auto whose = [&](const std::string& address) {
        return run(fmt::format("{} drift {} {} --whose {} 2>&1", tool, plan,
                               (folder / fmt::format("facts{}", round)).string(), address));
    };
    CHECK(has(whose("10.60.1.2").text, "paddle/eth0 should have it, and has not"));
    CHECK(has(whose("10.60.1.77").text, "paddle/eth0 has it, and should not"));
    CHECK(has(whose("10.60.1.78").text, "nobody of whom there are facts has it"));
    CHECK(whose("10.60.1.1").status == 0);

    takes(mending + "true");
    exported(plan, folder / "settings");
    takes(at("sieve") + "nft -f "
          + (folder / "settings/machines/sieve/system/etc/nftables.conf").string());
    CHECK(drift(0).at("differences").empty());

    // A guest passes nothing on: what it lets in is the same wherever it is said.
    takes(at("sieve")
          + "nft 'delete table inet jackal; add table inet own; add chain inet own in { "
            "type filter hook input priority 0; policy drop; }; add rule inet own in ct "
            "state established,related accept; add rule inet own in iif lo accept; add "
            "rule inet own in icmpv6 type { nd-neighbor-solicit, nd-neighbor-advert } "
            "accept; add rule inet own in ip saddr 10.60.1.0/24 icmp type echo-request "
            "accept; add rule inet own in ip6 saddr fd60:0:0:1::/64 icmpv6 type "
            "echo-request accept'");
    CHECK(drift(0).at("differences").empty());

    // A daemon that does not run any more; who says nothing, and what is in no plan.
    takes(at("weir") + "sh -c 'ip route flush proto ospf; ip -6 route flush proto ospf'");
    const json unlearned = drift(1);
    REQUIRE(unlearned["differences"].size() == 1);
    CHECK(unlearned["differences"][0]["difference"] == "learned-missing");
    CHECK(unlearned["differences"][0]["planned"] == "taught 10.60.2.0/24, fd60:0:0:2::/64");
    CHECK(!unlearned["reach"].empty());
    run("ip netns del " + name + ".sack");
    const json silent = drift(1);
    REQUIRE(silent["differences"].size() == 2);
    CHECK(silent["differences"][0]["difference"] == "no-answer");
    CHECK(silent["differences"][0]["what"] == "sack");
    takes(lab + "stop");
}

TEST_CASE("rules of nftables are read as what they do") {
    if (!has_kernel())
        return;
    Scratch folder;
    const std::string answers = "ct state established,related accept;";
    struct Row {
        std::string rules;
        std::vector<std::string> words;
    };
    const Row rows[] = {
        {"\nchain c { type filter hook input priority 0; policy drop; " + answers
             + "iif lo accept; icmp type echo-request accept; tcp dport { 22, 80-90 } accept; "
               "ip saddr 10.1.0.0-10.1.0.5 udp dport != 53 counter log drop; }",
         {"{do: allow, way: in, proto: icmp, from: 0.0.0.0/0}",
          "{do: allow, way: in, proto: tcp, port: [22, 80-90]}",
          "{do: deny, way: in, proto: udp, port: [1-52, 54-65535], from: [10.1.0.0/30, "
          "10.1.0.4/31]}",
          "{do: deny, way: in}"}},
        {"set s { type ipv4_addr; flags interval; elements = { 10.1.0.0/25, 10.1.0.128/25 }; }"
         "\nchain sub { tcp dport 23 return; ip saddr @s drop; }"
         "\nchain c { type filter hook forward priority 0; policy accept; ct state vmap { "
         "established : accept, related : accept, invalid : drop }; jump sub; "
         "ip6 daddr != fd00::/8 meta l4proto { tcp, udp } goto sub; tcp dport 23 drop; }",
         {"{do: allow, way: through, proto: tcp, port: 23, to: [\"::/1\", \"8000::/2\", "
          "\"c000::/3\", \"e000::/4\", \"f000::/5\", \"f800::/6\", \"fc00::/8\", "
          "\"fe00::/7\"]}",
          "{do: deny, way: through, proto: tcp, port: 23}",
          "{do: deny, way: through, from: 10.1.0.0/24}"}},
        // What is let in by one NIC, with what it may ask the machine itself.
        {"\nchain c { type filter hook forward priority 0; policy drop; " + answers
             + "iifname { eth0, eth2 } accept; }"
               "\nchain n { type nat hook postrouting priority 100; oifname \"eth1*\" ip saddr "
               "10.1.0.0/24 masquerade; }",
         {"eth1: {do: allow, way: in, to: [10.1.0.1, 10.1.0.255, 192.0.2.1, 192.0.2.255, "
          "224.0.0.0/4, 255.255.255.255]}",
          "eth1: {do: allow, way: in, to: [\"fe80::/10\", \"ff00::/8\"]}",
          "eth1: {do: deny, way: in}", "{out: eth1, from: 10.1.0.0/24}"}},
        {"\nchain n { type nat hook prerouting priority -100; iifname eth1 ip daddr 192.0.2.1 tcp "
         "dport 80 dnat ip to 10.1.0.9:8080; }"
         "\nchain m { type nat hook postrouting priority 100; meta nfproto ipv4 oifname eth1 snat "
         "ip to 192.0.2.1; }",
         {"{in: eth1, proto: tcp, port: 80, to: 10.1.0.9, to-port: 8080}", "{out: eth1}"}},
        // An accepted packet goes on to the next chain of its hook, at once with what is dropped.
        {"\nchain a { type filter hook input priority -1; " + answers
             + "udp dport 53 accept; meta nfproto ipv6 drop; }"
               "\nchain b { type filter hook input priority 1; udp dport 50-60 drop; }",
         {"{do: deny, way: in, proto: udp, port: 53}", "{do: deny, way: in, from: \"::/0\"}",
          "{do: deny, way: in, proto: udp, port: 50-60}"}},
        {"\nchain c { type filter hook input priority 0; " + answers
             + "limit rate 3/second drop; }",
         {"table inet t, chain c, handle 3 (limit)"}},
        {"\nchain c { type filter hook output priority 0; udp dport 40000 drop; }",
         {"{do: deny, way: out, proto: udp, port: 40000}",
          "table inet t lets no answers pass by themselves"}},
        {"\nchain c { type filter hook input priority 0; policy accept; " + answers
             + "tcp dport != { 1, 3 } drop; udp dport != 1-65535 drop; }",
         {"{do: deny, way: in, proto: tcp, port: [2, 4-65535]}"}},
        // No answer has the port of a service, or the type of a request.
        {"\nchain c { type filter hook output priority 0; udp dport 53 drop; icmp type "
         "echo-request drop; }",
         {"{do: deny, way: out, proto: udp, port: 53}",
          "{do: deny, way: out, proto: icmp, from: 0.0.0.0/0} of echo requests alone"}},
        {"\nchain c { type filter hook forward priority 0; policy drop; " + answers
             + "iifname eth0 oifname eth1 accept; iifname eth1 oifname eth2 accept; "
               "iifname eth2 accept; }",
         {"rules for what comes by one NIC and leaves by another"}},
    };
    for (const Row& row : rows) {
        folder.file("rules", "table inet t {\n" + row.rules + "\n}\n");
        const Printed nft =
            run(fmt::format("unshare --net sh -c 'nft -f {} && nft -j list ruleset' 2>&1",
                            (folder / "rules").string()));
        CAPTURE(nft.text);
        REQUIRE(nft.status == 0);
        std::vector<std::string> problems;
        auto nic = [](const char* name, const char* address) {
            return fmt::format(R"({{"ifname": "{}", "addr_info": [{{"local": "{}", "scope": )"
                               R"("global", "prefixlen": 24}}]}})",
                               name, address);
        };
        const reach::FoundMachine found = exports::found_machine(
            "gate",
            {{"address.json", "[" + nic("eth0", "10.1.0.1") + "," + nic("eth1", "192.0.2.1") + ","
                                  + R"({"ifname": "eth2"})" + "]"},
             {"nft.json", nft.text}},
            problems);
        CHECK(problems.empty());
        REQUIRE(found.rules);
        CHECK(fmt::format("{}", fmt::join(reach::words(*found.rules), "\n"))
              == fmt::format("{}", fmt::join(row.words, "\n")));
        CHECK(found.other_tables == std::vector<std::string>{"inet t"});
    }
}

// Requests of pump come to r2, and of desk the answers alone.
TEST_CASE("a rule of echo requests drops no answer whose request went elsewhere") {
    const lab::Lab lab = lab_of(
        "lab: duo\nsubnets: {near: {prefix: 10.50.1.0/24, gateway: none}, far: {prefix: "
        "10.50.2.0/24, gateway: none}}\nguests:\n"
        "  desk: {nics: [{subnet: near, address: 10.50.1.20}], gateway: 10.50.1.1}\n"
        "  pump: {nics: [{subnet: far, address: 10.50.2.20}], gateway: 10.50.2.2}\nrouters:\n"
        "  r1: {nics: [{subnet: near, address: 10.50.1.1}, {subnet: far, address: 10.50.2.1}]}\n"
        "  r2: {nics: [{subnet: near, address: 10.50.1.2}, {subnet: far, address: 10.50.2.2}]}\n");
    auto pairs_lost = [&](bool of_requests) {
        reach::FoundMachine found{.name = "r2", .rules = reach::FoundRules{}};
        found.rules->machine = {{.way = plan::Way::through,
                                 .protocol = net::Protocol::icmp,
                                 .requests_only = of_requests}};
        for (lab::NicId nic : lab.nics_of(*lab.machine("r2"))) {
            const lab::Nic& row = lab.nics[nic];
            const lab::InterfaceAddress& own = *lab.first_address(nic, net::Family::ipv4);
            found.nics.push_back({.name = row.name,
                                  .mac = row.mac,
                                  .mtu_bytes = row.mtu_bytes,
                                  .up = true,
                                  .has_carrier = true,
                                  .addresses = {{own.address, own.length}}});
        }
        const routing::Settled settled = routing::settle(lab);
        return reach::sum_of(reach::drift(settled, {found}).reach).lost;
    };
    CHECK(pairs_lost(true) == 1);
    CHECK(pairs_lost(false) == 2);
}

TEST_CASE("facts that are none are refused with their place") {
    Scratch folder;
    const std::string plan = folder.file("mill.yaml", mill).string();
    auto drift = [&] {
        return run(fmt::format("{} drift {} {} 2>&1", tool, plan, (folder / "facts").string()));
    };
    CHECK(has(drift().text, "cannot be read"));
    fs::create_directories(folder / "facts/paddle");
    folder.file("facts/paddle/address.json", "[{\n \"ifname\": }]");
    CHECK(has(drift().text, "facts/paddle/address.json:2:12: this is no JSON"));
    folder.file("facts/paddle/address.json", "[{\"ifname\": [1]}]");
    CHECK(has(drift().text, "facts/paddle/address.json:1:1: this is not what `ip -json`"));
    folder.file("facts/paddle/address.json", "[]");
    fs::create_directories(folder / "facts/stranger");
    const Printed printed = drift();
    CHECK(printed.status == 1);
    CHECK(has(printed.text, "paddle/eth0  nic-missing"));
    CHECK(has(printed.text, "stranger  unknown-machine"));
    CHECK(has(printed.text, "of 4 machines there are no facts: sieve, sack, weir, race"));
}
