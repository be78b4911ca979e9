// Captures, as a packet tool reads them.
#include "../files.h"
#include "../kernel.h"
#include "../program.h"
#include "../sanitized.h"
#include "../scratch.h"
#include "jackal/jackal.h"
#include "random_lab.h"

#include <algorithm>
#include <doctest/doctest.h>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <nlohmann/json.hpp>
#include <random>
#include <sstream>

using namespace jackal;
namespace fs = std::filesystem;

namespace {

const std::string tool = TOOL " ";
const std::string skerry = SOURCE_DIR "/demo/skerry.yaml";

const std::string checked = "-o ip.check_checksum:TRUE -o tcp.check_checksum:TRUE "
                            "-o udp.check_checksum:TRUE -o ip.defragment:FALSE "
                            "-o ipv6.defragment:FALSE ";
const std::string wrong = "_ws.malformed || ip.checksum.status == 0 || icmp.checksum.status == 0 "
                          "|| icmpv6.checksum.status == 0 || udp.checksum.status == 0 "
                          "|| tcp.checksum.status == 0";

// What the packet tool prints of each frame that passes `filter`: its fields, by blanks.
std::vector<std::string> read_by_tool(const fs::path& file, const std::string& filter,
                                      const std::vector<std::string>& fields) {
    std::string command = fmt::format("tshark -r {} {} -T fields -E separator=/s -E occurrence=f",
                                      file.string(), checked);
    if (!filter.empty())
        command += fmt::format(" -Y '{}'", filter);
    for (const std::string& field : fields)
        command += " -e " + field;
    const Printed printed = run(command + " 2>/dev/null");
    CHECK(printed.status == 0);
    std::vector<std::string> lines;
    std::istringstream stream(printed.text);
    for (std::string line; std::getline(stream, line);) {
        std::istringstream words(line); // fields that a frame has not leave blanks
        std::string text;
        for (std::string word; words >> word;)
            text += (text.empty() ? "" : " ") + word;
        lines.push_back(text);
    }
    return lines;
}

// The same of a sighting, as it was worked out.
std::string line_of(const lab::Lab& lab, const probe::Sighting& sighting) {
    const probe::Frame& frame = sighting.frame;
    const bool is_ipv4 = frame.flow.source.family() == net::Family::ipv4;
    const bool asks = frame.bears == probe::Bears::neighbour_ask;
    const bool is_arp = is_ipv4 && (asks || frame.bears == probe::Bears::neighbour_answer);
    std::string line =
        fmt::format("{} {} {}{} ", probe::name_of(lab, {sighting.nic, sighting.port}),
                    net::to_string(frame.from), net::to_string(frame.to),
                    frame.vlan == 0 ? "" : fmt::format(" {}", frame.vlan));
    const std::string source = net::to_string(frame.flow.source);
    const std::string destination = net::to_string(frame.flow.destination);
    if (is_arp)
        return line + fmt::format("{} {}", source, destination);
    const std::string sizes = is_ipv4 ? fmt::format("{} {}", frame.ttl, frame.size_bytes)
                                      : fmt::format("{} {}", frame.ttl, frame.size_bytes - 40);
    if (is_ipv4)
        return line + fmt::format("{} {} {}", source, destination, sizes);
    return line + fmt::format("{} {} {}", source, asks ? "group" : destination, sizes);
}

probe::Endpoint end_at(const lab::Lab& lab, lab::AddressId id) {
    const lab::NicId nic = lab.addresses[id].nic;
    return {lab.nic_name(nic), lab.nics[nic].machine, nic, lab.addresses[id].address};
}

} // namespace

TEST_CASE("a capture is what was walked, and a packet tool finds nothing wrong in it") {
    constexpr int labs = sanitized ? 6 : 24;
    std::size_t frames = 0;
    std::size_t steps = 0;
    std::set<std::string> seen; // kinds of frames, so that no kind is forgotten
    for (std::uint64_t seed = 1; seed <= static_cast<std::uint64_t>(labs); ++seed) {
        judge::Json plan = judge::random_lab(seed);
        const plan::Reading reading = plan::read(plan.dump(), "t");
        if (!reading.plan)
            continue;
        CAPTURE(seed);
        const lab::Lab lab = lab::build(*reading.plan);
        const routing::Settled settled = routing::settle(lab);
        std::mt19937_64 random(seed);
        probe::Sightings sightings;
        std::vector<std::string> walked; // "NIC source destination TTL"
        constexpr int questions = 25;
        for (int i = 0; i < questions && lab.addresses.size() != 0; ++i) {
            const auto some = [&] {
                return end_at(lab, lab::AddressId{static_cast<std::uint32_t>(
                                       random() % lab.addresses.size())});
            };
            probe::PingQuestion question{.from = some(), .to = some(), .count = 1};
            constexpr net::Service services[] = {{net::Protocol::tcp, 22},
                                                 {net::Protocol::udp, 53}};
            if (random() % 3 != 0)
                question.service = services[random() % 2];
            else if (random() % 2 == 0)
                question.payload_bytes = 1400;
            const probe::Exchange exchange = probe::exchange(settled, question);
            sightings.add(settled, exchange, std::chrono::seconds(i + 1));
            if (!exchange.out || exchange.gap == probe::Gap::all_lost)
                continue;
            int ttl = exchange.out->packet.ttl;
            for (std::size_t at = 0; at < exchange.out->steps.size(); ++at) {
                const packet::Step& step = exchange.out->steps[at];
                if (step.action != packet::Action::send && step.action != packet::Action::forward)
                    continue;
                ttl -= step.action == packet::Action::forward ? 1 : 0;
                const net::Flow flow = exchange.out->flow_at(at);
                if (question.service || exchange.reaches) // pings may get lost by chance
                    walked.push_back(fmt::format("{} {} {} {}", lab.nic_name(step.out),
                                                 net::to_string(flow.source),
                                                 net::to_string(flow.destination), ttl));
            }
        }
        const std::vector<probe::Sighting> all = sightings.take();
        Scratch folder;
        const fs::path file = folder / "capture.pcapng";
        std::ofstream(file, std::ios::binary) << exports::capture_file(lab, all);
        CHECK(read_by_tool(file, wrong, {"frame.number"}).empty());
        std::vector<std::string> found =
            read_by_tool(file, "",
                         {"frame.interface_name", "eth.src", "eth.dst", "vlan.id",
                          "arp.src.proto_ipv4", "arp.dst.proto_ipv4", "ip.src", "ip.dst", "ip.ttl",
                          "ip.len", "ipv6.src", "ipv6.dst", "ipv6.hlim", "ipv6.plen"});
        REQUIRE(found.size() == all.size());
        std::set<std::string> on_wire;
        for (std::size_t i = 0; i < all.size(); ++i) {
            const probe::Frame& frame = all[i].frame;
            seen.insert(fmt::format("{}{}{}{}", static_cast<int>(frame.bears),
                                    frame.inside ? " inside" : "", frame.fragment ? " piece" : "",
                                    frame.vlan != 0 ? " tagged" : ""));
            std::string expected = line_of(lab, all[i]);
            if (const std::size_t group = expected.find("group"); group != expected.npos) {
                const std::size_t end = found[i].find(' ', group);
                expected.replace(group, 5, found[i].substr(group, end - group));
                CHECK(expected.compare(group, 11, "ff02::1:ff0") <= 0xff);
            }
            CHECK(found[i] == expected);
            on_wire.insert(fmt::format("{} {} {} {}",
                                       probe::name_of(lab, {all[i].nic, all[i].port}),
                                       net::to_string(frame.flow.source),
                                       net::to_string(frame.flow.destination), frame.ttl));
        }
        for (const std::string& step : walked) {
            CAPTURE(step);
            CHECK(on_wire.contains(step));
            ++steps;
        }
        frames += all.size();
    }
    CHECK(frames > 50 * static_cast<std::size_t>(labs));
    CHECK(steps > 10 * static_cast<std::size_t>(labs));
    for (const std::string kind : {"0", "1", "2", "3", "4", "5", "6", "0 tagged", "5 tagged"}) {
        CAPTURE(kind);
        CHECK((seen.contains(kind) || sanitized));
    }
}

TEST_CASE("what ping, trace and connect write is read by a packet tool") {
    Scratch folder;
    const std::string narrow = folder
                                   .file("narrow.yaml", R"(lab: narrow
subnets: {a: {prefix: 10.60.1.0/24}, b: {prefix: 10.60.2.0/24}}
guests:
  one: {nics: [{subnet: a}], gateway: 10.60.1.1}
  two: {nics: [{subnet: b}], gateway: 10.60.2.2}
routers:
  wide: {nics: [{subnet: a, address: 10.60.1.1}, {subnet: b, address: 10.60.2.1}]}
  back: {nics: [{subnet: b, address: 10.60.2.2}], routes: [{to: a, via: 10.60.9.1}]}
links:
  - {between: [back, wide], prefix: 10.60.9.0/31, mtu: 1000}
)")
                                   .string();
    const std::string leased = folder
                                   .file("leased.yaml", R"(lab: leased
subnets:
  a: {prefix: 10.60.1.0/24, dhcp: {size: 8, server: safe, relay: mid}}
  b: {prefix: 10.60.2.0/24}
guests:
  pad: {nics: [{subnet: a, address: dhcp}]}
  safe: {nics: [{subnet: b}]}
routers:
  mid: {nics: [{subnet: a}, {subnet: b}]}
)")
                                   .string();
    struct Row {
        std::string asked;
        std::string filter;
        std::string field;
        std::vector<std::string> values; ///< of the frames that pass the filter, in their order
    };
    const std::string at_helm = "frame.interface_name == \"helm/eth0\" && ";
    const std::string at_desk = "frame.interface_name == \"chart-desk/eth0\" && ";
    const Row rows[] = {
        {"connect SKERRY helm chart-desk tcp/443",
         at_helm + "tcp",
         "tcp.flags",
         {"0x0002", "0x0012", "0x0010", "0x0011", "0x0011", "0x0010"}},
        {"connect SKERRY helm kettle tcp/99", at_helm + "tcp", "tcp.flags", {"0x0002", "0x0014"}},
        {"connect SKERRY helm kettle udp/99", at_helm + "icmp", "icmp.code", {"3"}},
        {"connect SKERRY helm hydrophone tcp/22",
         at_helm + "tcp",
         "frame.time_epoch",
         {"1.000000000", "2.000000000", "4.000000000"}},
        {"ping SKERRY helm kettle --ttl 1 --count 1", at_helm + "icmp", "icmp.type", {"8", "11"}},
        {"trace SKERRY helm kettle",
         at_helm + "(icmp.type == 11 || icmp.type == 0)",
         "ip.src",
         {"10.42.0.33", "10.43.0.4", "10.41.0.34"}},
        {"ping SKERRY helm fd40:8::99 --count 1",
         at_helm + "icmpv6.type == 1",
         "icmpv6.code",
         {"3"}},
        {"ping SKERRY chart-desk tide-office --count 1",
         at_desk + "dns",
         "dns.flags.response",
         {"0", "1"}},
        {"ping SKERRY chart-desk tide-office --count 1",
         at_desk + "dns.a",
         "dns.a",
         {"198.51.100.10"}},
        {"ping SKERRY bunk-pad kettle --count 1",
         "frame.interface_name == \"bunk-pad/eth0\" && dhcp",
         "dhcp.option.dhcp",
         {"1", "2", "3", "5"}},
        {"ping LEASED pad safe --count 1 --at safe",
         "dhcp.ip.relay == 10.60.1.1",
         "dhcp.option.dhcp",
         {"1", "2", "3", "5"}},
        {"ping SKERRY chart-desk kettle --count 1 --at campus-sw/p3",
         "icmp",
         "vlan.id",
         {"10", "10"}},
        {"ping SKERRY assay hydrophone --count 1 --at lamp-r1/eth4",
         "vxlan",
         "udp.dstport",
         {"4789", "4789"}},
        {"ping NARROW one two --size 1400 --count 1",
         "frame.interface_name == \"wide/eth2\" && ip",
         "ip.frag_offset",
         {"0", "122"}},
        {"ping SKERRY helm kettle --count 4 --interval 100ms --cut-at 150ms=lamp-r1/eth1 --at helm",
         "icmp.type == 0",
         "icmp.seq",
         {"1", "2"}},
    };
    int number = 0;
    for (const Row& row : rows) {
        const fs::path file = folder / fmt::format("{}.pcapng", ++number);
        std::string asked = row.asked;
        for (const auto& [word, plan] :
             {std::pair("SKERRY", skerry), {"NARROW", narrow}, {"LEASED", leased}})
            if (const std::size_t at = asked.find(word); at != asked.npos)
                asked.replace(at, 6, plan);
        CAPTURE(asked);
        const Printed printed = run(tool + asked + " --capture " + file.string() + " 2>&1");
        CAPTURE(printed.text);
        REQUIRE(fs::exists(file));
        CHECK(has(printed.text, file.string() + " is written: "));
        CHECK(read_by_tool(file, wrong, {"frame.number"}).empty());
        CHECK(fmt::format("{}", fmt::join(read_by_tool(file, row.filter, {row.field}), " "))
              == fmt::format("{}", fmt::join(row.values, " ")));
    }
    const std::string again = (folder / "1.pcapng").string();
    auto refused = [&](const std::string& options) {
        return run(tool + "ping " + skerry + " helm kettle " + options + " 2>&1").text;
    };
    CHECK(has(refused("--capture " + again), "--replace"));
    CHECK(has(refused("--capture x --at nowhere"), "no NIC or switch port nowhere"));
    CHECK(has(refused("--at helm"), "name the file with --capture FILE"));
    CHECK(has(refused("--capture x --count 1000000"), "more than 400000 frames"));
    CHECK(has(refused("--capture x --every-way"), "leave --every-way out"));
    CHECK(!fs::exists("x"));
}

// Who asks for neighbours and from which address, what their answers say, and what errors quote.
TEST_CASE("a capture has the frames that a kernel sends") {
    if (!has_kernel() || sanitized)
        return;
    Scratch folder;
    const fs::path plan = folder.file("seen.yaml", R"(lab: seen
subnets:
  near: {prefix: [10.50.1.0/24, "fd50:0:0:1::/64"], gateway: none}
  mid: {prefix: [10.50.4.0/24, "fd50:0:0:4::/64"], gateway: none}
  back: {prefix: 10.50.5.0/24, gateway: none}
  far: {prefix: 10.50.3.0/24, gateway: none}
guests:
  desk:
    nics: [{subnet: near, address: [10.50.1.20, "fd50:0:0:1::20"]}]
    gateway: [10.50.1.1, "fd50:0:0:1::1"]
    routes: [{to: 10.50.5.0/24, via: 10.50.1.2}]
routers:
  r1:
    nics:
      - {subnet: near, address: [10.50.1.1, "fd50:0:0:1::1"]}
      - {subnet: mid, address: [10.50.4.1, "fd50:0:0:4::1"]}
    routes: [{to: 10.50.3.0/24, via: 10.50.4.2}]
  r2: {nics: [{subnet: near, address: 10.50.1.2}, {subnet: back, address: 10.50.5.1}], nat: [{out: eth1}]}
  r:
    nics:
      - {subnet: mid, address: [10.50.4.2, "fd50:0:0:4::2"]}
      - {subnet: back, address: 10.50.5.2}
      - {subnet: far, address: 10.50.3.1}
    routes: [{to: 10.50.1.0/24, via: 10.50.5.1}, {to: "fd50:0:0:1::/64", via: "fd50:0:0:4::1"}]
)");
    const std::vector<std::string> machines{"desk", "r1", "r2", "r"};
    const std::vector<std::pair<std::string, std::string>> questions{
        {"desk", "10.50.3.1"},     // comes back another way, from a NIC that it does not leave by
        {"desk", "10.50.4.99"},    // nobody has it
        {"desk", "10.50.5.99"},    // the same, translated
        {"desk", "fd50:0:0:4::2"}, // from a router that passes on
        {"r", "fd50:0:0:1::20"},   // from a router itself
        {"desk", "fd50:0:0:4::99"}};
    // Without the looks whether a neighbour is still there, which are for that neighbour alone.
    const std::string filter =
        "(arp || icmp || icmpv6.type < 5 || icmpv6.type in {128, 129, 135, 136}) && "
        "!(arp.opcode == 1 && eth.dst != ff:ff:ff:ff:ff:ff) && "
        "!(icmpv6.type == 135 && ipv6.dst != ff02::/16)";
    auto lines_of = [&](const fs::path& file, const std::string& machine) {
        std::set<std::string> lines;
        const Printed printed = run(fmt::format(
            "tshark -r {} -Y '{}' -T fields -E separator=/s -E occurrence=a -e "
            "frame.interface_name "
            "-e arp.opcode -e arp.src.proto_ipv4 -e arp.dst.proto_ipv4 -e icmp.type -e icmp.code "
            "-e ip.ttl -e ip.src -e ip.dst -e icmpv6.type -e ipv6.hlim -e ipv6.src -e ipv6.dst "
            "-e icmpv6.nd.na.flag.r 2>/dev/null",
            file.string(), filter));
        std::istringstream stream(printed.text);
        for (std::string line; std::getline(stream, line);)
            lines.insert(machine + line);
        return lines;
    };
    const std::string script = (folder / "lab.sh").string();
    REQUIRE(run(tool + "export " + plan.string() + " --as namespaces -o " + script).status == 0);
    REQUIRE(run("sh " + script + " start 2>&1; sleep 2").status == 0); // until IPv6 has settled
    std::string listen;
    std::string forget;
    std::string places;
    for (const std::string& machine : machines) {
        const std::string there = fmt::format("sh {} enter {} ", script, machine);
        listen += fmt::format("{}sh -c 'exec dumpcap -q -w {} $(ls /sys/class/net | "
                              "sed -n s/^eth/-ieth/p)' >/dev/null 2>&1 & all=\"$all $!\"; ",
                              there, (folder / machine).string());
        forget += there + "ip neigh flush all; ";
        places += " --at " + machine;
    }
    std::string ask;
    std::set<std::string> told;
    for (const auto& [from, to] : questions) {
        ask += fmt::format("{}sh {} enter {} ping -c 1 -W 4 {}; ", forget, script, from, to);
        const std::string file = (folder / "told").string();
        run(fmt::format("{}ping {} {} {} --count 1 --capture {} --replace{}", tool, plan.string(),
                        from, to, file, places));
        told.merge(lines_of(file, ""));
    }
    run(listen + "sleep 1.5; " + ask + "sleep 1.5; kill $all; wait");
    std::set<std::string> real;
    for (const std::string& machine : machines)
        real.merge(lines_of(folder / machine, machine + "/"));
    CHECK(told.size() > 50);
    CHECK(fmt::format("{}", fmt::join(told, "\n")) == fmt::format("{}", fmt::join(real, "\n")));
    CHECK(run("sh " + script + " stop 2>&1").status == 0);
}

TEST_CASE("watch tells frames and flows, and writes IPFIX that is read elsewhere") {
    auto watch = [](const std::string& words) { return run(tool + "watch " + words + " 2>&1"); };
    const Printed frames = watch(skerry + " kettle --ask \"helm kettle\"");
    CHECK(has(frames.text, "10.42.0.34 to 10.41.0.34  echo request 1, TTL 62, 84 bytes"));
    CHECK(has(frames.text, "1 question asked, 4 frames at kettle"));

    Scratch folder;
    const std::string file = (folder / "flows.ipfix").string();
    const Printed flows = watch(skerry + " gate-r1 --flows --format json --ipfix " + file
                                + " --ask \"chart-desk tide-office tcp/443\"");
    CAPTURE(flows.text);
    const nlohmann::json told = nlohmann::json::parse(flows.text);
    const nlohmann::json* translated = nullptr;
    for (const nlohmann::json& flow : told.at("flows"))
        if (flow.at("came").at("source") != flow.at("left").at("source"))
            translated = &flow;
    REQUIRE(translated != nullptr);
    CHECK(translated->at("packets") == 4); // SYN, ACK, FIN, ACK
    const Printed read = run("tshark -V -r " + file + " 2>/dev/null");
    CAPTURE(read.text);
    CHECK(has(read.text, "Post NAT Source IPv4 Address: "
                             + translated->at("left").at("source").get<std::string>()));
    CHECK(has(read.text, "IfName: eth1"));
    CHECK(has(read.text, "ForwardingStatus: Forward"));
    CHECK(!has(read.text, "Malformed"));

    CHECK(has(watch(skerry + " nowhere").text, "no NIC or switch port nowhere"));
    CHECK(has(watch(skerry + " campus-sw/p3 --flows").text, "flows are those of a machine"));
    CHECK(has(watch(skerry + " helm --ask helm").text, "write \"FROM TO\""));
    CHECK(has(watch(skerry + " helm --collector nobody").text, "write ADDRESS or ADDRESS:PORT"));
    const Printed sent = run("timeout 5 socat -u UDP4-RECVFROM:14739,bind=127.0.0.1 - > "
                             + (folder / "sent").string() + " & sleep 0.3; " + tool + "watch "
                             + skerry + " gate-r1 --collector 127.0.0.1:14739 2>&1; wait");
    CHECK(has(sent.text, "sent to 127.0.0.1:14739"));
    CHECK(text_of(folder / "sent").substr(0, 2) == std::string("\0\n", 2)); // version 10
}
