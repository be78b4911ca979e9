#include "command.h"
#include "jackal/export/wire.h"
#include "process.h"
#include "relay.h"

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstdio>
#include <cstring>
#include <fcntl.h>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <linux/capability.h>
#include <linux/if_tun.h>
#include <map>
#include <net/if.h>
#include <poll.h>
#include <set>
#include <spawn.h>
#include <sys/ioctl.h>
#include <sys/prctl.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

extern char** environ;

namespace jackal::cli {

namespace {

struct LiveOptions {
    PlanOptions plan;
    std::string as; ///< the machine, or NIC, that this computer plays
    std::string at; ///< a subnet that it is a new guest on
    std::string device = "jackal0";
    std::string time; ///< to run; empty: until it is stopped
    std::uint64_t seed = 1;
    std::vector<std::string> serves; ///< MACHINE:tcp/22=127.0.0.1:2222
};

std::string reason() {
    return std::strerror(errno);
}

// The device goes with whoever holds it open, so nothing is left behind.
int open_device(const std::string& name) {
    if (name.empty() || name.size() >= IFNAMSIZ)
        throw NotAsked(fmt::format("--device {}: a name of at most 15 letters", name));
    const int fd = open("/dev/net/tun", O_RDWR | O_NONBLOCK | O_CLOEXEC);
    if (fd < 0)
        throw NotAsked(fmt::format("/dev/net/tun: {}", reason()));
    ifreq request{};
    request.ifr_flags = IFF_TAP | IFF_NO_PI;
    std::copy(name.begin(), name.end(), request.ifr_name);
    if (ioctl(fd, TUNSETIFF, &request) < 0) {
        const std::string why =
            errno == EPERM ? "it takes root, or CAP_NET_ADMIN, to open a network device" : reason();
        close(fd);
        throw NotAsked(fmt::format("device {}: {}", name, why));
    }
    return fd;
}

// Carries out lines of ip(8).
void configure(const std::string& lines) {
    int ends[2];
    if (pipe2(ends, O_CLOEXEC) != 0)
        throw NotAsked(reason());
    const Descriptor in(ends[0]);
    std::FILE* out = fdopen(ends[1], "w");
    posix_spawn_file_actions_t actions;
    posix_spawn_file_actions_init(&actions);
    posix_spawn_file_actions_adddup2(&actions, ends[0], STDIN_FILENO);
    std::array<std::string, 3> words{"ip", "-batch", "-"};
    std::array<char*, 4> arguments{words[0].data(), words[1].data(), words[2].data(), nullptr};
    pid_t child = 0;
    const int error = posix_spawnp(&child, "ip", &actions, nullptr, arguments.data(), environ);
    posix_spawn_file_actions_destroy(&actions);
    std::fputs(lines.c_str(), out);
    std::fclose(out);
    int status = 0;
    if (error != 0 || waitpid(child, &status, 0) < 0 || status != 0)
        throw NotAsked("the device could not be set up by ip(8), of iproute2");
}

// What the device needs is done; from here on nothing may be changed.
void drop_capabilities() {
    __user_cap_header_struct header{.version = _LINUX_CAPABILITY_VERSION_3, .pid = 0};
    std::array<__user_cap_data_struct, 2> none{};
    prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0);
    if (syscall(SYS_capset, &header, none.data()) != 0)
        throw NotAsked(fmt::format("capabilities could not be dropped: {}", reason()));
}

// With a guest on the subnet that the computer plays.
void add_guest(plan::Plan& plan, const std::string& subnet) {
    plan::Machine guest;
    guest.name = "this-computer";
    plan::Nic nic;
    nic.subnet.value = subnet;
    guest.nics.push_back(nic);
    plan.machines.push_back(guest);
}

// Those on subnets: of the machine, or the one that is named.
std::vector<lab::NicId> played(const lab::Lab& lab, const LiveOptions& options) {
    std::string name = options.as;
    if (!options.at.empty())
        name = "this-computer";
    if (name.empty() && lab.machine("workstation"))
        name = "workstation";
    std::vector<lab::NicId> nics;
    if (!name.empty())
        for (const probe::Spot& spot : spots_of(lab, {name}))
            if (spot.nic && lab.segments[lab.nics[spot.nic].segment].subnet)
                nics.push_back(spot.nic);
    constexpr std::size_t most_devices = 16;
    if (nics.size() > most_devices)
        throw NotAsked(fmt::format("{} has more than {} NICs", name, most_devices));
    if (!nics.empty())
        return nics;
    if (!name.empty())
        throw NotAsked(fmt::format("{} has no NIC on a subnet", name));
    throw NotAsked("no subnet of the plan has an uplink to this computer; say with --at SUBNET "
                   "where it is, or with --as MACHINE which machine it plays");
}

// What the NIC has by the plan; a lease is asked for by a client.
std::string device_settings(const routing::Settled& settled, lab::NicId nic,
                            const std::string& device) {
    const lab::Lab& lab = settled.lab();
    const lab::Nic& row = lab.nics[nic];
    std::string text = fmt::format("link set dev {} address {} mtu {}\n", device,
                                   net::to_string(row.mac), row.mtu_bytes);
    if (settled.condition().nic_up(nic))
        text += fmt::format("link set dev {} up\n", device);
    std::set<net::Family> leased; // whoever asks for the lease sets the routes, too
    for (lab::AddressId id : lab.addresses_of(nic)) {
        const lab::InterfaceAddress& address = lab.addresses[id];
        if (address.origin == lab::AddressOrigin::lease)
            leased.insert(address.address.family());
        else if (address.origin != lab::AddressOrigin::link_local)
            text += fmt::format("address add {}/{} dev {}{}\n", net::to_string(address.address),
                                address.length, device,
                                address.address.family() == net::Family::ipv6 ? " nodad" : "");
    }
    // The ways into the lab, never the computer's own way to everywhere.
    std::map<net::Prefix, net::Address> ways;
    for (const lab::Segment& segment : lab.segments)
        for (net::Family family : net::both_families)
            if (const auto& prefix = segment.prefix[family]) {
                const auto route = settled.route(row.machine, prefix->first_usable());
                if (route && route->out == nic && route->has_next_hop()
                    && route->kind != routing::RouteKind::connected)
                    ways.emplace(*prefix, route->via);
            }
    for (const lab::InterfaceAddress& address : lab.addresses) {
        const auto& around =
            lab.segments[lab.nics[address.nic].segment].prefix[address.address.family()];
        const auto route = settled.route(row.machine, address.address);
        const bool is_alone = !around || !around->contains(address.address)
                              || lab.machines[lab.nics[address.nic].machine].outside;
        if (is_alone && route && route->out == nic && route->has_next_hop()
            && route->kind != routing::RouteKind::connected)
            ways.emplace(net::Prefix(address.address, net::address_bits(address.address.family())),
                         route->via);
    }
    std::erase_if(ways, [&](const auto& way) { return leased.contains(way.first.family()); });
    for (const auto& [prefix, via] : ways)
        text += fmt::format("route add {} via {} dev {}\n", net::to_string(prefix),
                            net::to_string(via), device);
    return text;
}

void say(const std::string& line) {
    fmt::print("{}\n", line);
    std::fflush(stdout);
}

// A NIC, and what stands for it on this computer.
struct Device {
    lab::NicId nic;
    std::string name;
    Descriptor file;
};

class Session {
  public:
    Session(const lab::Lab& lab, const std::vector<lab::NicId>& nics, const LiveOptions& options)
        : lab_(lab), wire_(lab, nics, options.seed) {
        if (!options.time.empty()) {
            const auto time = plan::parse_time(options.time);
            if (!time)
                throw NotAsked(fmt::format("--for {}: write a time such as 30s", options.time));
            until_ = *time;
        }
        for (const std::string& text : options.serves)
            relay_.add(lab, wire_, text);
    }

    void run(const std::vector<Device>& devices) {
        devices_ = &devices;
        start_ = std::chrono::steady_clock::now();
        const Stoppable stoppable;
        while (!is_over_ && !stoppable.was_interrupted() && (!until_ || now() < *until_)) {
            start_answer(); // each round is one
            wait();
            take_frames();
            take_words();
            relay_.pass(wire_);
            give_frames();
        }
        const exports::Wire::Count count = wire_.count();
        say(fmt::format("{} came in, {} went out{}", counted(count.received, "frame"), count.given,
                        count.dropped == 0 ? ""
                                           : fmt::format(", {} were too many", count.dropped)));
    }

  private:
    probe::Microseconds now() const { return std::chrono::steady_clock::now() - start_; }

    void wait() {
        constexpr int longest_ms = 200;
        std::vector<pollfd> files{pollfd{hears_ && !has_line() ? STDIN_FILENO : -1, POLLIN, 0}};
        for (const Device& device : *devices_)
            files.push_back({device.file.get(), POLLIN, 0});
        relay_.wait_for(wire_, files);
        timespec timeout{0, has_line() ? 0 : longest_ms * 1'000'000};
        if (const auto next = wire_.next()) {
            const auto left = std::chrono::duration_cast<std::chrono::nanoseconds>(*next - now());
            timeout.tv_nsec = std::clamp<std::int64_t>(left.count(), 0, timeout.tv_nsec);
        }
        ppoll(files.data(), files.size(), &timeout, nullptr);
        typed_ = (files[0].revents & (POLLIN | POLLHUP)) != 0;
    }

    // Some at a time, so that what is typed has its turn in any flood.
    void take_frames() {
        constexpr int most_at_once = 64;
        std::array<std::uint8_t, 65536> buffer;
        for (const Device& device : *devices_)
            for (int i = 0; i < most_at_once; ++i) {
                const ssize_t size = read(device.file.get(), buffer.data(), buffer.size());
                if (size <= 0)
                    break;
                wire_.receive(now(), device.nic,
                              std::span(buffer.data(), static_cast<std::size_t>(size)));
            }
    }

    void give_frames() {
        for (const exports::Wire::Given& given : wire_.due(now())) {
            const auto device = std::ranges::find(*devices_, given.nic, &Device::nic);
            if (write(device->file.get(), given.bytes.data(), given.bytes.size()) < 0
                && errno != EAGAIN && errno != EIO)
                throw NotAsked(fmt::format("the device {} is gone: {}", device->name, reason()));
        }
    }

    // A line at a time, so that frames have their turn in any number of lines.
    void take_words() {
        if (std::exchange(typed_, false)) {
            std::array<char, 4096> buffer;
            const ssize_t size = read(STDIN_FILENO, buffer.data(), buffer.size());
            hears_ = size > 0;
            words_.append(buffer.data(), static_cast<std::size_t>(std::max<ssize_t>(size, 0)));
        }
        if (const std::size_t end = words_.find('\n'); end != words_.npos) {
            const std::string line = words_.substr(0, end);
            words_.erase(0, end + 1);
            obey(line);
        }
        constexpr std::size_t longest = 65536;
        if (words_.size() > longest)
            words_.clear();
    }

    bool has_line() const { return words_.find('\n') != words_.npos; }

    void obey(const std::string& line) {
        const std::size_t blank = line.find(' ');
        const std::string verb = line.substr(0, blank);
        const std::string what = blank == line.npos ? "" : line.substr(blank + 1);
        if (verb.empty())
            return;
        if (verb == "stop") {
            is_over_ = true;
            return;
        }
        const auto cut = routing::parse_cut(lab_, what);
        if ((verb != "cut" && verb != "mend") || !cut) {
            complain(verb != "cut" && verb != "mend"
                         ? fmt::format("{}: type cut WHAT, mend WHAT or stop", verb)
                         : fmt::format("the lab has no {}", what));
            return;
        }
        if (verb == "mend" && routing::is_held_down(lab_, *cut))
            return complain(what + ": the plan itself holds that down; mend it there");
        const probe::Course& course = wire_.course();
        if (verb == "mend" && std::ranges::find(course.cuts(), *cut) == course.cuts().end())
            return complain(what + " is not cut");
        constexpr std::size_t most_under_way = 400;
        if (course.events().size() >= most_under_way)
            return complain(fmt::format("{}: not yet; machines still learn of {} changes", line,
                                        most_under_way));
        const probe::Microseconds moment = now();
        wire_.happen(moment, verb == "mend", *cut);
        const std::size_t event = course.events().size() - 1;
        std::size_t count = 0;
        probe::Microseconds last{0};
        for (const probe::Turn& turn : course.turns())
            if (turn.event == event) {
                ++count;
                last = std::max(last, turn.at - moment);
            }
        std::string text = fmt::format("{} {}", verb == "cut" ? "cut" : "mended", what);
        if (count != 0)
            text += fmt::format("; {} go by new tables, the last after {:.3f} s",
                                counted(count, "machine"), last.count() / 1e6);
        say(text);
    }

    const lab::Lab& lab_;
    exports::Wire wire_;
    Relay relay_;
    const std::vector<Device>* devices_ = nullptr;
    std::chrono::steady_clock::time_point start_;
    std::optional<probe::Microseconds> until_;
    bool is_over_ = false;
    bool hears_ = true; // standard input is open
    bool typed_ = false;
    std::string words_; // of a line that is not whole yet
};

// jackal0, jackal1, …
std::string device_name(const std::string& first, std::size_t number) {
    const std::string stem = first.ends_with("0") ? first.substr(0, first.size() - 1) : first;
    return number == 0 ? first : fmt::format("{}{}", stem, number);
}

void introduce(const routing::Settled& settled, const Device& device) {
    const lab::Lab& lab = settled.lab();
    std::vector<std::string> addresses;
    bool has_lease = false;
    for (lab::AddressId id : lab.addresses_of(device.nic)) {
        const lab::InterfaceAddress& row = lab.addresses[id];
        has_lease |= row.origin == lab::AddressOrigin::lease;
        if (row.origin != lab::AddressOrigin::link_local)
            addresses.push_back(fmt::format("{}/{}", net::to_string(row.address), row.length));
    }
    say(fmt::format("{} is {} of {}: {}{}", device.name, lab.nic_name(device.nic), lab.name,
                    fmt::join(addresses, ", "),
                    settled.condition().nic_up(device.nic) ? "" : "; it is down"));
    if (has_lease)
        say(fmt::format("its address is a lease: ask for it with a DHCP client on {}",
                        device.name));
}

Outcome answer(LiveOptions& options) {
    if (!options.as.empty() && !options.at.empty())
        throw NotAsked("either --as or --at: a machine of the plan, or a new one");
    Opened opened = open_plan(options.plan);
    if (!options.at.empty()) {
        if (std::ranges::find(opened.plan.subnets, options.at, &plan::Subnet::name)
            == opened.plan.subnets.end())
            throw NotAsked(fmt::format("the lab has no subnet {}", options.at));
        add_guest(opened.plan, options.at);
        opened.lab = lab::build(opened.plan);
    }
    const lab::Lab& lab = opened.lab;
    const std::vector<lab::NicId> nics = played(lab, options);
    const routing::Settled settled = settle(opened, options.plan);
    Session session(lab, nics, options);
    std::vector<Device> devices;
    std::string settings;
    for (lab::NicId nic : nics) {
        const std::string name = device_name(options.device, devices.size());
        devices.push_back({nic, name, Descriptor(open_device(name))});
        settings += device_settings(settled, nic, name);
    }
    configure(settings);
    drop_capabilities();
    for (const Device& device : devices)
        introduce(settled, device);
    say("type cut WHAT, mend WHAT or stop");
    session.run(devices);
    return {""};
}

} // namespace

void add_live(CLI::App& app, Run& run) {
    auto options = std::make_shared<LiveOptions>();
    CLI::App* command =
        app.add_subcommand("live", "the simulated lab answers programs of this computer");
    add_plan_argument(*command, options->plan);
    command
        ->add_option("--as", options->as,
                     "what this computer plays; default: the workstation of an uplink")
        ->type_name("MACHINE[/NIC]");
    command->add_option("--at", options->at, "or the subnet that it is a new guest on")
        ->type_name("SUBNET");
    command
        ->add_option("--device", options->device,
                     "what the device is called, of several the first; default jackal0")
        ->type_name("NAME");
    command->add_option("--for", options->time, "stops after that time")->type_name("TIME");
    command
        ->add_option("--serve", options->serves,
                     "hands connections to that service on to a real program; can be repeated")
        ->type_name("MACHINE:tcp/PORT=ADDRESS:PORT");
    command->add_option("--seed", options->seed, "of jitter and loss; default 1")->type_name("N");
    command->footer("Example, as root, and then from another shell:\n"
                    "  jackal live skerry.yaml --as helm\n"
                    "  ping 10.41.0.34\n"
                    "\n"
                    "Opens a TAP device, gives it the addresses of the plan and routes to the lab, "
                    "and keeps no\nright to change more. docs/live.md takes ten minutes.");
    command->callback(
        [&run, options] { run = [options](const Style&) { return answer(*options); }; });
}

} // namespace jackal::cli
