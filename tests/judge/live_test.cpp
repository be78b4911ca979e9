// The simulated lab at the end of a real wire, asked by real programs.
#include "../files.h"
#include "../kernel.h"
#include "../lab_of.h"
#include "../program.h"
#include "../scratch.h"
#include "jackal/jackal.h"
#include "random_lab.h"

#include <algorithm>
#include <atomic>
#include <cstdlib>
#include <doctest/doctest.h>
#include <fmt/format.h>
#include <mutex>
#include <regex>
#include <sstream>
#include <thread>
#include <unistd.h>

using namespace jackal;

namespace {

const std::string tool = TOOL " ";

// A namespace that plays the computer, with the lab at the end of its wire.
class Computer {
  public:
    Computer(std::string name, const std::string& plan, const std::string& options)
        : name_(std::move(name)) {
        run(fmt::format("ip netns add {0} && ip -n {0} link set dev lo up", name_));
        run(fmt::format(
            "mkfifo /tmp/{0}.in; (sleep 100000 > /tmp/{0}.in & echo $! > /tmp/{0}.pid); "
            "ip netns exec {0} {1} live {2} {3} < /tmp/{0}.in > /tmp/{0}.out 2>&1 &",
            name_, tool, plan, options));
        for (int i = 0; i < 100 && said().find("or stop") == std::string::npos; ++i)
            usleep(50'000);
    }
    Computer(const Computer&) = delete;
    Computer& operator=(const Computer&) = delete;
    ~Computer() {
        type("stop");
        run(fmt::format("kill $(cat /tmp/{0}.pid); ip netns pids {0} | xargs -r kill; "
                        "ip netns del {0}; rm -f /tmp/{0}.*",
                        name_));
    }

    std::string said() const { return run(fmt::format("cat /tmp/{}.out", name_)).text; }
    void type(const std::string& line) const {
        run(fmt::format("timeout 2 sh -c 'echo \"{}\" > /tmp/{}.in'", line, name_));
    }
    Printed does(const std::string& command) const {
        return run(fmt::format("timeout 60 ip netns exec {} {} 2>&1", name_, command));
    }

  private:
    std::string name_;
};

// A guest with one NIC, on a subnet, that nothing of its own stands in the way of.
lab::NicId playable(const lab::Lab& lab) {
    for (lab::MachineId id : lab.machines.ids()) {
        const lab::Machine& machine = lab.machines[id];
        if (!machine.up || machine.outside || machine.forwards_any() || machine.nic_count != 1)
            continue;
        const lab::NicId nic = *lab.nics_of(id).begin();
        const lab::Nic& row = lab.nics[nic];
        const lab::Duties* duties = lab.duties_of(id);
        std::size_t given[2] = {0, 0};
        for (lab::AddressId address : lab.addresses_of(nic))
            if (lab.addresses[address].origin == lab::AddressOrigin::given
                || lab.addresses[address].origin == lab::AddressOrigin::automatic)
                ++given[lab.addresses[address].address.family() == net::Family::ipv4 ? 0 : 1];
        const bool is_plain = row.up && !row.is_loopback() && !row.guard && !row.shares_mac
                              && lab.plugs_of(nic).empty()
                              && (duties == nullptr || !duties->filter);
        if (is_plain && lab.segments[row.segment].subnet && given[0] == 1 && given[1] <= 1)
            return nic;
    }
    return {};
}

// Several NICs answer for a next hop: which of them is taken is luck, or has a memory.
bool is_luck(const probe::Exchange& exchange) {
    const auto ends_so = [](const std::optional<packet::Journey>& journey) {
        return journey && journey->ending == packet::Ending::which_neighbour;
    };
    return ends_so(exchange.out) || ends_so(exchange.back) || exchange.gap == probe::Gap::all_lost;
}

// "reply TTL", "ADDRESS says WHAT", or "nothing"; empty for luck.
std::string foretold(const routing::Settled& settled, lab::NicId nic, net::Address to) {
    const lab::Lab& lab = settled.lab();
    const probe::Exchange exchange = probe::exchange(
        settled, {.from = {.name = lab.machine_name(nic), .machine = lab.nics[nic].machine},
                  .to = {.name = net::to_string(to), .address = to},
                  .count = 1});
    if (is_luck(exchange))
        return "";
    if (exchange.reaches)
        return fmt::format("reply {}", exchange.reply_ttl);
    if (!exchange.error.heard)
        return "nothing";
    return fmt::format("{} says {}", net::to_string(exchange.error.from),
                       packet::to_string(exchange.error.error));
}

// The same of what ping prints.
std::string heard(const std::string& text) {
    std::smatch found;
    if (std::regex_search(text, found, std::regex("ttl=([0-9]+)")))
        return "reply " + found[1].str();
    const std::pair<const char*, const char*> errors[] = {
        {"Destination Net Unreachable", "net unreachable"},
        {"Destination unreachable: No route", "net unreachable"},
        {"Destination Host Unreachable", "host unreachable"},
        {"Destination unreachable: Address unreachable", "host unreachable"},
        {"Time to live exceeded", "time exceeded"},
        {"Time exceeded", "time exceeded"},
        {"Frag needed", "packet too big"},
        {"Packet too big", "packet too big"}};
    for (const auto& [words, error] : errors)
        if (std::regex_search(text, found,
                              std::regex(std::string("From ([0-9a-f:.]+) .*") + words)))
            return found[1].str() + " says " + error;
    return "nothing";
}

struct Asked {
    std::size_t labs = 0;
    std::size_t pings = 0;
    std::size_t replies = 0;
    std::size_t errors = 0;
    std::vector<std::string> differ;
};

// Pings every address of the lab that the plan has a way to.
void ask_lab(std::uint64_t seed, Asked& asked, std::mutex& mutex) {
    const plan::Reading reading = plan::read(judge::random_lab(seed).dump(), "t");
    if (!reading.plan)
        return;
    const lab::Lab lab = lab::build(*reading.plan);
    const lab::NicId nic = playable(lab);
    if (!nic)
        return;
    const routing::Settled settled = routing::settle(lab);
    std::vector<net::Address> targets;
    for (const lab::InterfaceAddress& row : lab.addresses) {
        const auto route = settled.route(lab.nics[nic].machine, row.address);
        if (row.origin != lab::AddressOrigin::link_local && row.nic != nic && route
            && route->out == nic)
            targets.push_back(row.address);
    }
    Scratch folder;
    const std::string plan = folder.file("plan.yaml", judge::random_lab(seed).dump()).string();
    const Computer computer(fmt::format("live{}-{}", getpid(), seed), plan,
                            fmt::format("--as {}", lab.nic_name(nic)));
    std::string all;
    for (std::size_t i = 0; i < targets.size(); ++i)
        all += fmt::format("ping -n -c 2 -i 0.3 -W 5 {} > {} 2>&1 &\n", net::to_string(targets[i]),
                           (folder / std::to_string(i)).string());
    folder.file("ask.sh", all + "wait\n");
    computer.does("sh " + (folder / "ask.sh").string());
    const std::scoped_lock lock(mutex);
    ++asked.labs;
    for (std::size_t i = 0; i < targets.size(); ++i) {
        const std::string said = heard(run("cat " + (folder / std::to_string(i)).string()).text);
        const std::string meant = foretold(settled, nic, targets[i]);
        ++asked.pings;
        asked.replies += meant.starts_with("reply") ? 1 : 0;
        asked.errors += meant.find(" says ") != meant.npos ? 1 : 0;
        // A kernel says only so many errors of its own in a second.
        const bool is_own =
            said == "nothing" && std::ranges::any_of(lab.addresses_of(nic), [&](lab::AddressId id) {
                return meant.starts_with(net::to_string(lab.addresses[id].address) + " ");
            });
        if (said != meant && !meant.empty() && !is_own)
            asked.differ.push_back(fmt::format("seed {}, {} to {}: foretold {}, ping hears {}",
                                               seed, lab.nic_name(nic), net::to_string(targets[i]),
                                               meant, said));
    }
}

} // namespace

TEST_CASE("real pings through the wire hear what is foretold") {
    if (!has_kernel())
        return;
    const char* more = std::getenv("JACKAL_LIVE_LABS");
    const std::size_t wanted = more != nullptr ? std::stoul(more) : 16;
    Asked asked;
    std::mutex mutex;
    std::atomic<std::uint64_t> next{1};
    std::vector<std::thread> workers;
    for (int i = 0; i < 8; ++i)
        workers.emplace_back([&] {
            while (true) {
                {
                    const std::scoped_lock lock(mutex);
                    if (asked.labs >= wanted)
                        return;
                }
                ask_lab(next++, asked, mutex);
            }
        });
    for (std::thread& worker : workers)
        worker.join();
    MESSAGE(asked.labs << " labs, " << asked.pings << " pings, " << asked.replies << " replies, "
                       << asked.errors << " errors");
    for (const std::string& line : asked.differ)
        MESSAGE(line);
    CHECK(asked.differ.empty());
    CHECK(asked.replies > asked.labs);
    CHECK(asked.errors > asked.labs / 4);
}

TEST_CASE("a ping through the wire is out of reach as long as its timeline says") {
    if (!has_kernel())
        return;
    Scratch folder;
    const std::string text = R"(lab: ferry
subnets: {quay: {prefix: 10.60.1.0/24}, mole: {prefix: 10.60.2.0/24}, reef: {prefix: 10.60.3.0/24}}
guests:
  desk: {nics: [{subnet: quay}]}
routers:
  one: {nics: [{subnet: quay}, {subnet: mole}], ospf: {areas: {0: all}, cost: {eth0: 100}, hello: {eth0: 1s, eth1: 1s}}}
  two: {nics: [{subnet: mole}, {subnet: reef}], ospf: {areas: {0: all}, hello: {eth0: 1s, eth1: 1s}}}
  way: {nics: [{subnet: quay}, {subnet: reef, address: 10.60.3.9}], ospf: {areas: {0: all}, hello: {eth0: 1s, eth1: 1s}}}
)";
    const lab::Lab lab = lab_of(text);
    constexpr std::chrono::milliseconds interval{100};
    probe::TimelineQuestion question{.ping = *probe::question(lab, "desk", "way/eth1"),
                                     .count = 120,
                                     .interval = interval,
                                     .events = {}};
    question.events.push_back({std::chrono::seconds(2), false, *routing::parse_cut(lab, "two")});
    const probe::Timeline timeline = probe::timeline(lab, question);
    const double outage = timeline.longest_outage() / std::chrono::seconds(1);
    CHECK(outage > 2);

    const std::string name = fmt::format("ferry{}", getpid());
    const Computer computer(name, folder.file("ferry.yaml", text).string(), "--as desk");
    const Printed pings = run("ip netns exec " + name
                              + " ping -n -i 0.1 -c 120 -W 1 10.60.3.9 & sleep 2; echo 'cut two' > "
                                "/tmp/"
                              + name + ".in; wait");
    CAPTURE(pings.text);
    std::smatch found;
    REQUIRE(std::regex_search(pings.text, found, std::regex("120 packets .* ([0-9]+) received")));
    const double lost = (120 - std::stoi(found[1])) * 0.1;
    CHECK(std::abs(lost - outage) < 1); // the hello interval
    CHECK(has(pings.text, "icmp_seq=120 ttl=64"));
}

TEST_CASE("the programs of a computer use the lab as if it were there") {
    if (!has_kernel())
        return;
    Scratch folder;
    const std::string plan = folder
                                 .file("pier.yaml", R"(lab: pier
subnets:
  quay: {prefix: [10.60.1.0/24, "fd60:0:0:1::/64"], dhcp: {size: 8, dns: names}}
  mole: {prefix: [10.60.2.0/24, "fd60:0:0:2::/64"]}
  reef: {prefix: [10.60.3.0/24, "fd60:0:0:3::/64"]}
guests:
  desk:  {nics: [{subnet: quay}]}
  tray:  {nics: [{subnet: quay, address: dhcp}]}
  names: {nics: [{subnet: mole}], listens: [udp/53, tcp/22]}
  gull:  {nics: [{subnet: reef}]}
routers:
  one: {nics: [{subnet: quay}, {subnet: mole}], ospf: {areas: {0: all}, cost: {eth0: 100}}}
  two: {nics: [{subnet: mole}, {subnet: reef, mtu: 1300}], ospf: {areas: {0: all}}}
  way: {nics: [{subnet: quay}, {subnet: reef}], ospf: {areas: {0: all}}}
)")
                                 .string();
    const std::string name = fmt::format("pier{}", getpid());
    const Computer computer(name, plan, "--as desk");
    CAPTURE(computer.said());
    REQUIRE(has(computer.said(), "jackal0 is desk/eth0 of pier: 10.60.1."));
    const auto says = [&](const std::string& command) { return computer.does(command).text; };
    const std::string names = "10.60.2.2";
    CHECK(has(says("ping -c 1 -W 2 " + names), "ttl=63"));
    CHECK(has(says("ping -c 1 -W 2 -s 3000 " + names), "ttl=63"));
    CHECK(has(says("ping -c 1 -W 2 fd60:0:0:2::2"), "ttl=63"));
    CHECK(has(says("ping -c 1 -W 2 -s 3000 fd60:0:0:2::2"), "ttl=63"));
    CHECK(has(says("ping -c 1 -W 2 -s 1200 -M do 10.60.3.2"), "ttl=62"));
    CHECK(has(says("nmap -sn -n 10.60.1.0/29"), "10.60.1.1\n")); // asks by ARP
    CHECK(has(says("nmap -sn -n 10.60.2.0/29"), "(3 hosts up)"));
    CHECK(has(says("traceroute -n -w 1 -q 1 10.60.3.2"), "10.60.3.2"));
    CHECK(has(says("tracepath -n -m 5 10.60.3.2"), "pmtu 1300"));
    CHECK(has(says("arping -c 1 -w 2 -I jackal0 10.60.1.1"), "Received 1 response"));
    CHECK(has(says("sh -c 'socat -T 3 - TCP4:" + names + ":22 < /dev/null'"), "names"));
    CHECK(has(says("sh -c 'socat -T 3 - TCP6:[fd60:0:0:2::2]:22 < /dev/null'"), "names"));
    CHECK(has(says("socat -T 3 - TCP4:" + names + ":99"), "Connection refused"));
    CHECK(has(says("dig +short +time=2 +tries=1 @" + names + " gull"), "10.60.3."));
    CHECK(has(says("dig +time=2 +tries=1 @" + names + " nobody"), "NXDOMAIN"));
    CHECK(has(run("grep CapEff /proc/$(ip netns pids " + name + " | head -1)/status").text,
              "0000000000000000"));

    // A connection that is handed on: both ways, more than any window holds, then closed.
    const std::string served = fmt::format("serve{}", getpid());
    const Computer server(served, plan, "--as desk --serve gull:tcp/80=127.0.0.1:8080");
    folder.file("big", std::string(300'000, 'x') + "end");
    const std::string big = (folder / "big").string();
    run("ip netns exec " + served + " socat -u FILE:" + big
        + " TCP4-LISTEN:8080,bind=127.0.0.1,reuseaddr > /dev/null 2>&1 & sleep 0.5");
    const std::string got = server.does("socat -u -T 5 TCP4:10.60.3.2:80 -").text;
    CHECK(got.size() == 300'003);
    CHECK(got.ends_with("end"));
    run("ip netns exec " + served + " socat -u TCP4-LISTEN:8080,bind=127.0.0.1,reuseaddr CREATE:"
        + (folder / "got").string() + " > /dev/null 2>&1 & sleep 0.5");
    server.does("socat -u -T 5 FILE:" + big + " TCP4:10.60.3.2:80");
    run("sleep 0.5");
    CHECK(text_of(folder / "got") == text_of(folder / "big"));
    CHECK(has(server.does("socat -u -T 3 TCP4:10.60.3.2:80 -").text, "Connection refused"));

    // A flood grows nothing, and what is typed has its turn.
    const auto memory_kib = [&] {
        return std::stoul(
            "0" + run("ps -o rss= -p $(ip netns pids " + name + " | head -1) | tr -d ' '").text);
    };
    const unsigned long before = memory_kib();
    const Printed flood = run("ip netns exec " + name + " ping -f -q -c 20000 " + names
                              + " & sleep 0.2; echo 'cut tray' > /tmp/" + name
                              + ".in; sleep 0.5; grep -c 'cut tray' /tmp/" + name + ".out; wait");
    CAPTURE(flood.text);
    CHECK(has(flood.text, "20000 received"));
    CHECK(has("\n" + flood.text, "\n1\n"));
    CHECK(before > 1000);
    CHECK(memory_kib() < before + 20'000);

    computer.type("cut two");
    CHECK(has(says("ping -c 1 -W 1 10.60.3.2"), "0 received"));
    computer.type("mend two");
    computer.type("nonsense");
    CHECK(has(says("sh -c 'sleep 0.3; ping -c 3 -W 2 10.60.3.2'"), "ttl="));
    CHECK(has(computer.said(), "cut two; "));
    CHECK(has(computer.said(), "nonsense: type cut WHAT, mend WHAT or stop"));

    // A machine with two NICs has a device for each.
    const std::string both = fmt::format("both{}", getpid());
    const Computer router(both, plan, "--as one");
    CHECK(has(router.said(), "jackal1 is one/eth1 of pier: 10.60.2."));
    CHECK(has(router.does("ping -c 1 -W 2 10.60.1.2").text, "ttl=64"));
    CHECK(has(router.does("ping -c 1 -W 2 " + names).text, "ttl=64"));
    CHECK(has(router.does("ping -c 1 -W 2 10.60.3.2").text, "ttl=63"));

    // A NIC that is down has no route to its own subnet; the other leads there.
    const std::string down = folder
                                 .file("down.yaml", R"(lab: down
subnets: {near: {prefix: 10.60.1.0/24}, far: {prefix: 10.60.2.0/24}}
guests:
  desk: {nics: [{subnet: far, state: down}, {subnet: near}], gateway: 10.60.1.1}
  pump: {nics: [{subnet: far}]}
routers: {r: {nics: [{subnet: near}, {subnet: far}]}}
)")
                                 .string();
    const Computer halved(fmt::format("down{}", getpid()), down, "--as desk");
    CHECK(has(halved.said(), "jackal0 is desk/eth0 of down: 10.60.2.2/24; it is down"));
    CHECK(has(halved.does("ping -c 1 -W 2 10.60.2.3").text, "ttl=63"));

    const std::string leaser = fmt::format("lease{}", getpid());
    const Computer second(leaser, plan, "--as tray");
    CHECK(has(second.said(), "its address is a lease"));
    CHECK(has(second.does("udhcpc -i jackal0 -q -n -t 3 -T 1 -s /bin/true").text, "10.60.1."));

    const auto refused = [&](const std::string& words) {
        return run(tool + "live " + plan + " " + words + " 2>&1").text;
    };
    CHECK(has(refused(""), "say with --at SUBNET"));
    CHECK(has(refused("--as desk --at quay"), "either --as or --at"));
    CHECK(has(refused("--at nowhere"), "no subnet nowhere"));
    CHECK(has(refused("--as desk --serve gull=1"), "write MACHINE:tcp/PORT=ADDRESS:PORT"));
    CHECK(has(refused("--as nobody"), "no NIC or switch port nobody"));
}
