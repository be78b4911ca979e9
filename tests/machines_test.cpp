// Labs of virtual machines, as far as they can be held without one, and labs on the real network.
#include "files.h"
#include "kernel.h"
#include "lab_of.h"
#include "program.h"
#include "scratch.h"

#include "jackal/jackal.h"

#include <doctest/doctest.h>
#include <fmt/format.h>
#include <set>

using namespace jackal;
namespace fs = std::filesystem;

namespace {

const std::string tool = TOOL " ";

// Two virtual machines, one with its NICs on switch ports, and two namespaces.
constexpr const char* yard = R"(lab: yard
image: images/it's-not.img
subnets:
  keel: {prefix: 10.62.1.0/24, dhcp: {size: 8}}
  mast: {prefix: 10.62.2.0/24}
guests:
  saw: {nics: [{subnet: keel, address: dhcp}], runs-as: namespace}
  plane: {nics: [{subnet: mast, port: rack/p1, vlan: 20}], cpus: 2, memory: 1G, disk: 4G}
routers:
  bench: {nics: [{subnet: keel}, {subnet: mast, port: rack/p2, vlan: 20}], ospf: {areas: {0: all}}}
  stool: {nics: [{subnet: keel}], ospf: {areas: {0: all}}, runs-as: namespace}
switches:
  rack: {ports: {p1: {trunk: [20]}, p2: {trunk: [20]}}}
)";

std::set<std::string> files_below(const fs::path& folder) {
    std::set<std::string> found;
    for (const auto& entry : fs::recursive_directory_iterator(folder))
        if (entry.is_regular_file() && entry.path().filename() != ".files")
            found.insert(entry.path().lexically_relative(folder).string());
    return found;
}

Printed exported(const fs::path& plan, const std::string& options) {
    return run(fmt::format("{} export {} {} 2>&1", tool, plan.string(), options));
}

// A network namespace that plays a computer with a NIC on a network, on which another one is.
class Computer {
  public:
    Computer() : name_(fmt::format("computer-{}", getpid())), far_(name_ + "-far") {
        run(fmt::format(
            "ip netns add {0}; ip netns add {1}\n"
            "ip link add real netns {0} type veth peer name wire netns {1}\n"
            "ip -n {0} address add 203.0.113.2/24 dev real; ip -n {0} link set real up\n"
            "ip -n {0} route add default via 203.0.113.1; ip -n {0} link set lo up\n"
            "ip -n {1} address add 203.0.113.1/24 dev wire; ip -n {1} link set wire up\n"
            "ip link add spare netns {0} type veth peer name bay netns {1}\n"
            "ip -n {1} address add 192.168.254.77/24 dev bay; ip -n {1} link set bay up",
            name_, far_));
    }
    Computer(const Computer&) = delete;
    Computer& operator=(const Computer&) = delete;
    ~Computer() { run(fmt::format("ip netns del {}; ip netns del {}", name_, far_)); }

    Printed operator()(const std::string& command) const {
        return run(fmt::format("nsenter --net=/run/netns/{} {} 2>&1", name_, command));
    }
    // All that a lab might change. The name of who is at the other end of a wire is not of it.
    std::string state() const {
        return (*this)("ip -o -4 address").text + (*this)("ip -o route").text
               + (*this)("nft list ruleset").text + (*this)("sysctl net.ipv4.ip_forward").text;
    }

  private:
    std::string name_, far_;
};

} // namespace

TEST_CASE("a lab of machines is a script and a seed for each, and the others are namespaces") {
    const Scratch folder;
    const Printed said =
        exported(folder.file("yard.yaml", yard), "--as machines -o " + (folder / "yard").string());
    CHECK(has(said.text, "\"images/it's-not.img\" is not a file"));
    std::string text = yard;
    text.replace(text.find("it's-not"), 8, "base");
    const Printed wrote =
        exported(folder.file("yard.yaml", text), "--as machines -o " + (folder / "yard").string());
    CAPTURE(wrote.text);
    REQUIRE(wrote.status == 0);
    std::set<std::string> wanted{"lab.sh"};
    for (const char* machine : {"plane", "bench"})
        for (const char* file : {"meta-data", "network-config", "user-data"})
            wanted.insert(fmt::format("seeds/{}/{}", machine, file));
    CHECK(files_below(folder / "yard") == wanted);

    const std::string script = text_of(folder / "yard/lab.sh");
    CHECK(run("sh -n " + (folder / "yard/lab.sh").string()).status == 0);
    CHECK(has(script,
              fmt::format("boot plane 2 1024 4096 {}", (folder / "images/base.img").string())));
    CHECK(has(script, "\nvirtual='plane bench'\n"));
    CHECK(has(script, "netns add yard.saw\nnetns add yard.stool\n"));
    CHECK(has(script, "speak stool"));
    CHECK_FALSE(has(script, "speak bench"));
    CHECK(has(script, "ospf stool ospf4 bench"));                // they wait for each other
    CHECK(script.find("await bench") < script.find("take saw")); // who serves it its lease
    CHECK_FALSE(has(text_of(folder / "yard/seeds/plane/network-config"), "vlans:"));
    const std::string seed = text_of(folder / "yard/seeds/bench/user-data");
    for (const char* part : {"path: /etc/bird/bird.conf", "path: /etc/dnsmasq.d/lab.conf",
                             "[systemctl, enable, --now, lab-commands]"})
        CHECK(has(seed, part));
    CHECK_FALSE(has(seed, "packages:")); // the lab has no mirror
    for (const char* machine : {"plane", "bench"})
        CHECK(run(fmt::format("cloud-init schema --config-file {} 2>&1",
                              (folder / fmt::format("yard/seeds/{}/user-data", machine)).string()))
                  .status
              == 0);
}

TEST_CASE("a machine without an image is named, with its place") {
    const Scratch folder;
    const Printed said =
        exported(folder.file("bare.yaml",
                             "lab: bare\nsubnets: {a: {}}\nguests:\n  one: {nics: [{subnet: a}]}\n"
                             "  two: {nics: [{subnet: a}]}\n"),
                 "--as machines -o " + (folder / "bare").string());
    CHECK(said.status == 2);
    CHECK(has(said.text, "bare.yaml:4:3: one has no image to start from, like 1 others"));
    CHECK_FALSE(fs::exists(folder / "bare"));
}

// The machine's side of the port: with the script of the seeds, over a pair of pipes.
TEST_CASE("a machine answers commands by its port") {
    const Scratch folder;
    const std::string text(text_of(SOURCE_DIR "/src/export/machines/lab-commands.sh"));
    std::string script = text;
    const std::string opening = "exec 3<>/dev/virtio-ports/lab.commands";
    REQUIRE(has(script, opening));
    script.replace(script.find(opening), opening.size(), "exec 3<>out; exec 4<>in");
    for (std::size_t at; (at = script.find("<&3;")) != script.npos;)
        script.replace(at, 4, "<&4;");
    for (std::size_t at; (at = script.find("/run/lab-commands")) != script.npos;)
        script.replace(at, 17, "./printed");
    folder.file("port", script);
    const Printed said = run(fmt::format(
        "cd {}; mkfifo in out; sh port & port=$!\n"
        "exec 5<>in; exec 6<>out\n"
        "ask() {{ echo \"$1 $(printf '%s' \"$2\" | base64 -w 0)\" >&5; read -r word status printed "
        "<&6; "
        "echo \"$word $status $(echo \"$printed\" | base64 -d)\"; }}\n"
        "ask a \"echo 'two words'; exit 3\"; ask b cat; ask c 'no-such-thing'; kill $port",
        (folder / "").string()));
    CHECK(has(said.text, "a 3 two words\nb 0 \nc 127 "));
}

TEST_CASE("a lab on the real network is undone whole, whatever comes") {
    if (!has_kernel())
        return;
    const Computer computer;
    const std::string before = computer.state();
    const Scratch folder;
    const fs::path plan = folder.file("way-out.yaml", R"(lab: way-out
subnets:
  shore: {uplink: nat, size: /26}
  quay: {prefix: 10.50.1.0/24}
  bench: {uplink: host, prefix: 10.50.2.0/28}
guests:
  desk: {nics: [{subnet: quay}]}
  lamp: {nics: [{subnet: shore, address: dhcp}]}
  pen: {nics: [{subnet: bench}]}
routers:
  edge: {nics: [{subnet: shore, address: dhcp}, {subnet: quay}], nat: [{out: eth0}]}
expect:
  - {ping: [desk, workstation]}
  - {ping: [workstation, pen]}
  - {ping: [lamp, edge]}
)");
    const std::string script = (folder / "lab.sh").string();
    REQUIRE(exported(plan, "--as namespaces --with-dhcp --attach -o " + script).status == 0);

    const Printed said = computer("sh " + script + " start --dry-run");
    CHECK(has(said.text, "ip address add 10.50.2.3/28 dev way-out-1"));
    CHECK(has(said.text, "sysctl -q -w net.ipv4.ip_forward=1"));
    CHECK(computer.state() == before);

    const Printed started = computer("sh " + script + " start");
    CAPTURE(started.text);
    REQUIRE(started.status == 0);
    auto pings = [&](const std::string& from) {
        return computer(fmt::format("sh {} enter {} ping -c 1 -W 1 203.0.113.1", script, from))
                   .status
               == 0;
    };
    CHECK(pings("desk"));
    CHECK(pings("lamp"));
    const Printed checked = computer("sh " + script + " check");
    CAPTURE(checked.text);
    CHECK(checked.status == 0);
    CHECK(computer("sh " + script + " stop").status == 0);
    CHECK(computer.state() == before);

    // What is in the way makes the start fail, and nothing stays.
    computer("ip link add way-out-1 type bridge");
    CHECK(computer("sh " + script + " start").status == 1);
    CHECK(computer("sysctl -n net.ipv4.ip_forward").text == "0\n");
    CHECK_FALSE(fs::exists("/run/way-out.attached"));
    CHECK_FALSE(fs::exists("/run/netns/way-out._wires"));
    CHECK(computer("ip link delete way-out-1").status == 0);
    CHECK(computer.state() == before);
}

TEST_CASE("a subnet joins a NIC of this computer, or a bridge of its") {
    if (!has_kernel())
        return;
    const Computer computer;
    const Scratch folder;
    const std::string script = (folder / "lab.sh").string();
    REQUIRE(
        exported(folder.file("joined.yaml",
                             "lab: joined\nsubnets: {bay: {uplink: bridge}}\n"
                             "guests: {buoy: {nics: [{subnet: bay, address: 192.168.254.9}]}}\n"),
                 "--as namespaces --attach -o " + script)
            .status
        == 0);
    const std::string start = "sh " + script + " start";
    CHECK(has(computer(start).text, "start needs --bridge NIC"));
    CHECK(has(computer(start + " --bridge nowhere").text, "this computer has no NIC nowhere"));
    CHECK(has(computer(start + " --bridge real").text, "real has addresses of this computer"));
    const std::string before = computer("ip -brief link").text;
    const std::string ping = "sh " + script + " enter buoy ping -c 1 -W 2 192.168.254.77";
    CHECK(computer(start + " --bridge spare").status == 0);
    CHECK_FALSE(has(computer("ip -brief link").text, "spare"));
    CHECK(computer(ping).status == 0);
    CHECK(computer("sh " + script + " stop").status == 0);
    CHECK(has(computer("ip -brief link").text, "spare"));
    computer("sh -c 'ip link add sea type bridge; ip link set sea up; ip link set spare master sea "
             "up'");
    CHECK(computer(start + " --bridge sea").status == 0);
    CHECK(computer(ping).status == 0);
    CHECK(computer("sh " + script + " stop").status == 0);
    CHECK_FALSE(has(computer("ip -brief link").text, "joined"));
}

// The commonest lab of all: a lab NIC, and a translated way outside that is the same for everyone.
TEST_CASE("guests have ways out of their own, all with one range and one address") {
    if (!has_kernel())
        return;
    const Computer computer;
    const Scratch folder;
    const fs::path plan = folder.file("benches.yaml", R"(lab: benches
subnets:
  bench: {prefix: 10.50.1.0/24, gateway: none}
guests:
  left: {nics: [{subnet: bench}, {way-out: auto, address: 192.168.253.15}]}
  right: {nics: [{subnet: bench}, {way-out: auto, address: 192.168.253.15}]}
  third: {nics: [{way-out: 192.168.253.0/26}, {subnet: bench}]}
  alone: {nics: [{way-out: auto}]}
outside:
  hosts: {mirror: {address: 198.51.100.10, listens: tcp/80}}
expect:
  - {ping: [left, mirror/eth0]}
  - {ping: [right, mirror/eth0]}
  - {ping: [alone, mirror/eth0]}
  - {connect: [third, mirror/eth0, tcp/80]}
  - {ping: [left, right]}
  - {ping: [mirror, alone], gets: no-reply}
)");
    const Printed checked = run(tool + "check " + plan.string() + " 2>&1");
    CAPTURE(checked.text);
    CHECK(checked.status == 0);
    CHECK(has(checked.text, "6 of 6 expectations met"));
    const Printed reach = run(tool + "reach " + plan.string() + " 2>&1");
    CAPTURE(reach.text);
    CHECK_FALSE(has(reach.text, "left-way-out"));

    // Made up as a whole, and with the real network of a computer.
    const std::string script = (folder / "lab.sh").string();
    REQUIRE(exported(plan, "--as namespaces -o " + script).status == 0);
    const Printed live =
        run("sh " + script + " start && sh " + script + " check; sh " + script + " stop");
    CAPTURE(live.text);
    CHECK(has(live.text, "all 5 answers are as the plan expects")); // nobody knows `alone`
    const std::string attached = (folder / "attached.sh").string();
    REQUIRE(exported(plan, "--as namespaces --attach -o " + attached).status == 0);
    const Printed started = computer("sh " + attached + " start");
    CAPTURE(started.text);
    REQUIRE(started.status == 0);
    for (const char* guest : {"left", "right", "third", "alone"})
        CHECK(computer(fmt::format("sh {} enter {} ping -c 1 -W 2 203.0.113.1", attached, guest))
                  .status
              == 0);
    CHECK(computer("sh " + attached + " stop").status == 0);
}
