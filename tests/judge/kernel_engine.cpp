#include "engine.h"
#include "live_lab.h"

#include <algorithm>
#include <arpa/inet.h>
#include <cerrno>
#include <chrono>
#include <cstring>
#include <fcntl.h>
#include <filesystem>
#include <fmt/format.h>
#include <fstream>
#include <linux/errqueue.h>
#include <netinet/icmp6.h>
#include <netinet/ip_icmp.h>
#include <poll.h>
#include <sched.h>
#include <stdlib.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

namespace judge {

using namespace jackal;

namespace {

// A file descriptor that closes itself.
class File {
  public:
    explicit File(int number = -1) : number_(number) {}
    File(File&& other) noexcept : number_(std::exchange(other.number_, -1)) {}
    File& operator=(File&& other) noexcept {
        std::swap(number_, other.number_);
        return *this;
    }
    ~File() {
        if (number_ >= 0)
            close(number_);
    }
    int get() const { return number_; }

  private:
    int number_;
};

// --- namespaces --------------------------------------------------------------------------------

// While it lives, this thread is in the network namespace of that name.
class Visit {
  public:
    explicit Visit(const std::string& space) {
        std::string path = "/run/netns/" + space;
        File there(open(path.c_str(), O_RDONLY | O_CLOEXEC));
        if (there.get() < 0 || home().get() < 0 || setns(there.get(), CLONE_NEWNET) != 0)
            fail(path);
    }
    Visit(const Visit&) = delete;
    Visit& operator=(const Visit&) = delete;
    ~Visit() {
        if (setns(home().get(), CLONE_NEWNET) != 0)
            std::abort(); // whatever came next would be done elsewhere
    }

  private:
    static const File& home() {
        static const File space(open("/proc/self/ns/net", O_RDONLY | O_CLOEXEC));
        return space;
    }
};

void write_setting(const std::filesystem::path& path, const char* value) {
    std::ofstream file(path);
    file << value << std::flush;
    if (!file)
        throw std::runtime_error("cannot write " + path.string());
}

// What the tester itself needs of a machine: ping sockets, and neighbours that are given up soon.
void prepare_machine(unsigned neighbour_wait_ms) {
    write_setting("/proc/sys/net/ipv4/ping_group_range", "0 2147483647");
    for (const char* family : {"ipv4", "ipv6"})
        for (const auto& entry :
             std::filesystem::directory_iterator(fmt::format("/proc/sys/net/{}/neigh", family))) {
            write_setting(entry.path() / "retrans_time_ms",
                          std::to_string(neighbour_wait_ms).c_str());
            // An anycast address is answered for after a random wait of up to 0.8 s (RFC 4861
            // section 7.2.7), by when the asker would have given up.
            write_setting(entry.path() / "proxy_delay", "0");
        }
}

// A router sends each sender no more than a few "net unreachable" a second, by a limit that one
// computer has for all its namespaces. It is lifted while the tester runs.
class ErrorLimit {
  public:
    ErrorLimit() {
        std::ifstream(path) >> before_;
        write_setting(path, "0");
    }
    ErrorLimit(const ErrorLimit&) = delete;
    ErrorLimit& operator=(const ErrorLimit&) = delete;
    ~ErrorLimit() { std::ofstream(path) << before_; }

  private:
    static constexpr const char* path = "/proc/sys/net/ipv4/route/error_cost";
    std::string before_;
};

// --- one question ------------------------------------------------------------------------------

constexpr int on = 1;

template <class Value>
void set_option(int socket, int level, int option, const Value& value) {
    if (setsockopt(socket, level, option, &value, sizeof value) != 0)
        fail(fmt::format("setsockopt {} {}", level, option));
}

union SocketAddress {
    sockaddr any;
    sockaddr_in v4;
    sockaddr_in6 v6;
};

SocketAddress socket_address(net::Address address) {
    SocketAddress result{};
    std::string text = net::to_string(address);
    if (address.family() == net::Family::ipv4) {
        result.v4.sin_family = AF_INET;
        inet_pton(AF_INET, text.c_str(), &result.v4.sin_addr);
    } else {
        result.v6.sin6_family = AF_INET6;
        inet_pton(AF_INET6, text.c_str(), &result.v6.sin6_addr);
    }
    return result;
}

net::Address address_of(const sockaddr* from) {
    std::array<char, INET6_ADDRSTRLEN> text{};
    if (from->sa_family == AF_INET)
        inet_ntop(AF_INET, &reinterpret_cast<const sockaddr_in*>(from)->sin_addr, text.data(),
                  text.size());
    else
        inet_ntop(AF_INET6, &reinterpret_cast<const sockaddr_in6*>(from)->sin6_addr, text.data(),
                  text.size());
    return net::parse_address(text.data()).value();
}

packet::IcmpError icmp_error(const sock_extended_err& e) {
    using packet::IcmpError;
    if (e.ee_origin == SO_EE_ORIGIN_ICMP6) {
        if (e.ee_type == ICMP6_DST_UNREACH)
            return e.ee_code == ICMP6_DST_UNREACH_NOROUTE  ? IcmpError::net_unreachable
                   : e.ee_code == ICMP6_DST_UNREACH_ADDR   ? IcmpError::host_unreachable
                   : e.ee_code == ICMP6_DST_UNREACH_NOPORT ? IcmpError::port_unreachable
                                                           : IcmpError::none;
        return e.ee_type == ICMP6_TIME_EXCEEDED    ? IcmpError::time_exceeded
               : e.ee_type == ICMP6_PACKET_TOO_BIG ? IcmpError::packet_too_big
                                                   : IcmpError::none;
    }
    if (e.ee_type == ICMP_DEST_UNREACH)
        return e.ee_code == ICMP_NET_UNREACH    ? IcmpError::net_unreachable
               : e.ee_code == ICMP_HOST_UNREACH ? IcmpError::host_unreachable
               : e.ee_code == ICMP_PORT_UNREACH ? IcmpError::port_unreachable
               : e.ee_code == ICMP_FRAG_NEEDED  ? IcmpError::packet_too_big
                                                : IcmpError::none;
    return e.ee_type == ICMP_TIME_EXCEEDED ? IcmpError::time_exceeded : IcmpError::none;
}

// What a socket has received, with its control messages.
class Message {
  public:
    ssize_t receive(int socket, int flags) { return recvmsg(socket, &head_, flags); }
    cmsghdr* first() { return CMSG_FIRSTHDR(&head_); }
    cmsghdr* next(cmsghdr* c) { return CMSG_NXTHDR(&head_, c); }

  private:
    std::array<char, 2048> data_{};
    alignas(cmsghdr) std::array<char, 512> control_{};
    iovec part_{data_.data(), data_.size()};
    msghdr head_{.msg_iov = &part_,
                 .msg_iovlen = 1,
                 .msg_control = control_.data(),
                 .msg_controllen = control_.size()};
};

// What listens on one machine: TCP connections are left to the kernel, datagrams sent back.
class Listener {
  public:
    Listener(net::Service service, bool ipv6)
        : udp_(service.protocol == net::Protocol::udp),
          socket_(::socket(ipv6 ? AF_INET6 : AF_INET,
                           (udp_ ? SOCK_DGRAM : SOCK_STREAM) | SOCK_CLOEXEC | SOCK_NONBLOCK, 0)) {
        if (socket_.get() < 0)
            fail("socket");
        set_option(socket_.get(), SOL_SOCKET, SO_REUSEADDR, on);
        SocketAddress any{};
        if (ipv6) {
            set_option(socket_.get(), SOL_IPV6, IPV6_V6ONLY, on);
            set_option(socket_.get(), SOL_IPV6, IPV6_RECVPKTINFO, on);
            any.v6.sin6_family = AF_INET6;
            any.v6.sin6_port = htons(service.port);
        } else {
            set_option(socket_.get(), SOL_IP, IP_PKTINFO, on);
            any.v4.sin_family = AF_INET;
            any.v4.sin_port = htons(service.port);
        }
        if (bind(socket_.get(), &any.any, ipv6 ? sizeof any.v6 : sizeof any.v4) != 0)
            fail("bind");
        if (!udp_ && listen(socket_.get(), 4096) != 0)
            fail("listen");
    }

    int socket() const { return socket_.get(); }
    bool is_udp() const { return udp_; }

    // Sends a datagram back, from the address that it came to and by whichever NIC the route says.
    void answer() const {
        std::array<char, 2048> data{};
        alignas(cmsghdr) std::array<char, 512> control{};
        SocketAddress from{};
        iovec part{data.data(), data.size()};
        msghdr head{.msg_name = &from,
                    .msg_namelen = sizeof from,
                    .msg_iov = &part,
                    .msg_iovlen = 1,
                    .msg_control = control.data(),
                    .msg_controllen = control.size()};
        ssize_t size = recvmsg(socket_.get(), &head, 0);
        if (size < 0)
            return;
        part.iov_len = static_cast<std::size_t>(size);
        for (cmsghdr* c = CMSG_FIRSTHDR(&head); c != nullptr; c = CMSG_NXTHDR(&head, c)) {
            if (c->cmsg_level == SOL_IP && c->cmsg_type == IP_PKTINFO) {
                auto* info = reinterpret_cast<in_pktinfo*>(CMSG_DATA(c));
                info->ipi_ifindex = 0;
                info->ipi_spec_dst = info->ipi_addr;
            } else if (c->cmsg_level == SOL_IPV6 && c->cmsg_type == IPV6_PKTINFO) {
                reinterpret_cast<in6_pktinfo*>(CMSG_DATA(c))->ipi6_ifindex = 0;
            }
        }
        sendmsg(socket_.get(), &head, 0);
    }

  private:
    bool udp_;
    File socket_;
};

// A socket that sends one echo request, or asks for one service, and waits for what comes back.
class Asker {
  public:
    explicit Asker(const Question& question)
        : ipv6_(question.destination.family() == net::Family::ipv6),
          protocol_(question.service ? question.service->protocol : net::Protocol::icmp),
          socket_(::socket(ipv6_ ? AF_INET6 : AF_INET,
                           (protocol_ == net::Protocol::tcp ? SOCK_STREAM : SOCK_DGRAM)
                               | SOCK_CLOEXEC | SOCK_NONBLOCK,
                           protocol_ != net::Protocol::icmp ? 0
                           : ipv6_                          ? static_cast<int>(IPPROTO_ICMPV6)
                                                            : static_cast<int>(IPPROTO_ICMP))) {
        if (socket_.get() < 0)
            fail("socket");
        set_options(question.ttl);
        if (question.source) {
            SocketAddress source = socket_address(*question.source);
            if (bind(socket_.get(), &source.any, sizeof source) != 0) {
                finish(errno);
                return;
            }
        }
        SocketAddress to = socket_address(question.destination);
        if (question.service)
            (ipv6_ ? to.v6.sin6_port : to.v4.sin_port) = htons(question.service->port);
        if (protocol_ == net::Protocol::icmp)
            send_echo(to, question.payload_bytes);
        else
            open(to);
    }

    bool waits() const { return !answer_; }
    int socket() const { return socket_.get(); }
    // A connection is there, or failed, once the socket can be written.
    short awaited() const {
        return protocol_ == net::Protocol::tcp ? short{POLLIN | POLLOUT} : short{POLLIN};
    }
    Answer answer() const { return answer_.value_or(Answer{}); }

    // Takes what has come.
    void receive() {
        receive_error();
        if (answer_)
            return;
        if (protocol_ == net::Protocol::tcp)
            return receive_connection();
        Message message;
        if (message.receive(socket_.get(), 0) < 0)
            return;
        if (protocol_ == net::Protocol::udp) {
            answer_ = Answer{.kind = Answer::Kind::open, .cause = {}};
            return;
        }
        for (cmsghdr* c = message.first(); c != nullptr; c = message.next(c))
            if ((c->cmsg_level == SOL_IP && c->cmsg_type == IP_TTL)
                || (c->cmsg_level == SOL_IPV6 && c->cmsg_type == IPV6_HOPLIMIT)) {
                Answer answer{.kind = Answer::Kind::reply, .cause = {}};
                std::memcpy(&answer.ttl, CMSG_DATA(c), sizeof answer.ttl);
                answer_ = answer;
            }
    }

  private:
    void set_options(int ttl) {
        if (ipv6_) {
            set_option(socket_.get(), SOL_IPV6, IPV6_RECVHOPLIMIT, on);
            set_option(socket_.get(), SOL_IPV6, IPV6_RECVERR, on);
            set_option(socket_.get(), SOL_IPV6, IPV6_UNICAST_HOPS, ttl);
            set_option(socket_.get(), SOL_IPV6, IPV6_MTU_DISCOVER, int{IPV6_PMTUDISC_PROBE});
            set_option(socket_.get(), SOL_IPV6, IPV6_DONTFRAG, on);
        } else {
            set_option(socket_.get(), SOL_IP, IP_RECVTTL, on);
            set_option(socket_.get(), SOL_IP, IP_RECVERR, on);
            set_option(socket_.get(), SOL_IP, IP_TTL, ttl);
            set_option(socket_.get(), SOL_IP, IP_MTU_DISCOVER, int{IP_PMTUDISC_PROBE});
        }
    }

    socklen_t size_of(const SocketAddress& to) const { return ipv6_ ? sizeof to.v6 : sizeof to.v4; }

    void send_echo(const SocketAddress& to, unsigned payload_bytes) {
        std::vector<char> packet(8 + payload_bytes); // RFC 792, RFC 4443: 8 bytes of head
        packet[0] = static_cast<char>(ipv6_ ? static_cast<int>(ICMP6_ECHO_REQUEST) : ICMP_ECHO);
        if (sendto(socket_.get(), packet.data(), packet.size(), 0, &to.any, size_of(to)) < 0)
            finish(errno);
    }

    void open(const SocketAddress& to) {
        if (connect(socket_.get(), &to.any, size_of(to)) != 0 && errno != EINPROGRESS)
            return finish(errno);
        if (protocol_ == net::Protocol::udp && send(socket_.get(), "?", 1, 0) < 0)
            finish(errno);
    }

    void receive_connection() {
        int error = 0;
        socklen_t size = sizeof error;
        if (getsockopt(socket_.get(), SOL_SOCKET, SO_ERROR, &error, &size) != 0)
            fail("getsockopt");
        if (error != 0)
            finish(error);
        else
            answer_ = Answer{.kind = Answer::Kind::open, .cause = {}};
    }

    // The sender's own kernel does not send it, or says that it came to nothing.
    void finish(int error) {
        using packet::IcmpError;
        Answer answer;
        answer.error = error == ENETUNREACH    ? IcmpError::net_unreachable
                       : error == EHOSTUNREACH ? IcmpError::host_unreachable
                       : error == EMSGSIZE     ? IcmpError::packet_too_big
                                               : IcmpError::none;
        if (error == ECONNREFUSED)
            answer.kind = Answer::Kind::refused;
        else if (answer.error != IcmpError::none)
            answer.kind = Answer::Kind::error;
        answer_ = answer;
    }

    void receive_error() {
        Message message;
        if (message.receive(socket_.get(), MSG_ERRQUEUE) < 0)
            return;
        for (cmsghdr* c = message.first(); c != nullptr; c = message.next(c))
            if ((c->cmsg_level == SOL_IP && c->cmsg_type == IP_RECVERR)
                || (c->cmsg_level == SOL_IPV6 && c->cmsg_type == IPV6_RECVERR)) {
                sock_extended_err error{};
                std::memcpy(&error, CMSG_DATA(c), sizeof error);
                if (error.ee_origin == SO_EE_ORIGIN_LOCAL) {
                    finish(static_cast<int>(error.ee_errno));
                    return;
                }
                Answer answer{.kind = Answer::Kind::error, .cause = {}};
                answer.error = icmp_error(error);
                if (answer.error == packet::IcmpError::port_unreachable) {
                    answer = {.kind = Answer::Kind::refused, .cause = {}};
                } else {
                    answer.error_from = address_of(
                        SO_EE_OFFENDER(reinterpret_cast<sock_extended_err*>(CMSG_DATA(c))));
                }
                answer_ = answer;
            }
    }

    bool ipv6_;
    net::Protocol protocol_;
    File socket_;
    std::optional<Answer> answer_;
};

// Tells when the kernel has given up whatever it had begun to wait for: a ping to a neighbour that
// is not there, sent after the questions, fails by the same timers as theirs do, however busy the
// computer is. What routers begin on its way ends with a second one.
class Canary {
  public:
    Canary(const std::string& lab, unsigned neighbour_wait_ms) : space_(lab + "._canary") {
        std::string command = fmt::format(
            "ip netns add {0} && ip -n {0} link add c0 type veth peer name c1 && ip -n {0} link "
            "set c1 up && ip -n {0} link set c0 up && ip -n {0} link set lo up && ip -n {0} "
            "address add 192.0.2.1/24 dev c0",
            space_);
        if (std::system(command.c_str()) != 0)
            fail("ip netns add " + space_);
        Visit visit(space_);
        prepare_machine(neighbour_wait_ms);
    }
    Canary(const Canary&) = delete;
    Canary& operator=(const Canary&) = delete;
    ~Canary() {
        if (std::system(("ip netns delete " + space_).c_str()) != 0)
            fmt::print(stderr, "{} stays behind\n", space_);
    }

    Asker send() {
        Visit visit(space_);
        return Asker(Question{.from = {},
                              .to = {},
                              .destination = net::Address::ipv4((192U << 24) | (2U << 8) | ++last_),
                              .source = {}});
    }

  private:
    std::string space_;
    std::uint32_t last_ = 1;
};

// Until all are answered, or the kernel has given up what it waited for.
void await(std::vector<Asker>& askers, const std::vector<Listener>& listeners, Canary& canary) {
    constexpr int canaries = 2;
    constexpr std::chrono::milliseconds between(100); // for errors that are on their way
    Asker waiting_with = canary.send();
    for (int sent = 1;;) {
        std::vector<pollfd> waiting;
        std::vector<Asker*> owners;
        auto add = [&](Asker& asker) {
            if (!asker.waits())
                return;
            waiting.push_back({asker.socket(), asker.awaited(), 0});
            owners.push_back(&asker);
        };
        for (Asker& asker : askers)
            add(asker);
        if (waiting.empty())
            return;
        add(waiting_with);
        for (const Listener& listener : listeners)
            if (listener.is_udp())
                waiting.push_back({listener.socket(), POLLIN, 0});
        int ready = poll(waiting.data(), waiting.size(), static_cast<int>(between.count()));
        if (ready > 0) {
            for (std::size_t i = 0; i < owners.size(); ++i)
                if (waiting[i].revents != 0)
                    owners[i]->receive();
            for (const Listener& listener : listeners)
                if (listener.is_udp())
                    listener.answer();
        } else if (!waiting_with.waits()) { // and nothing has come since
            if (sent++ == canaries)
                return;
            waiting_with = canary.send();
        }
    }
}

} // namespace

std::string kernel_unavailable() {
    if (geteuid() != 0)
        return "not root";
    const std::string name = fmt::format("judge-probe-{}", getpid());
    if (std::system(
            fmt::format("ip netns add {0} 2>/dev/null && ip netns delete {0}", name).c_str())
        != 0)
        return "no network namespaces";
    return "";
}

// The ends of a tunnel talk as soon as they are there, and so may ask for neighbours that do not
// answer before they are told how long to wait for those.
void forget_neighbours(const lab::Lab& lab, lab::MachineId machine) {
    bool tunnels =
        std::ranges::any_of(lab.links, [](const lab::Link& link) { return link.is_tunnel; });
    std::string space = lab.name + "." + lab.machines[machine].name;
    if (tunnels
        && std::system(("ip -n " + space + " neigh flush all >/dev/null 2>&1").c_str()) != 0)
        fail("ip neigh flush");
}

Answers ask_kernel(const routing::Settled& settled, const std::vector<Question>& questions) {
    // A machine asks three times for a neighbour before it gives up.
    constexpr unsigned neighbour_wait_ms = 200;

    static const ErrorLimit lifted;
    const lab::Lab& lab = settled.lab();
    LiveLab live(settled);
    Canary canary(lab.name, neighbour_wait_ms);
    std::vector<Listener> listeners;
    for (lab::MachineId machine : lab.machines.ids())
        if (settled.condition().machine_on(machine)) {
            Visit visit(live.space_of(machine));
            prepare_machine(neighbour_wait_ms);
            forget_neighbours(lab, machine);
            if (const lab::Duties* duties = lab.duties_of(machine))
                for (net::Service service : duties->listens)
                    for (bool ipv6 : {false, true})
                        listeners.emplace_back(service, ipv6);
        }
    std::vector<Asker> askers;
    askers.reserve(questions.size());
    std::vector<std::size_t> place(questions.size(), questions.size());
    for (lab::MachineId machine : lab.machines.ids()) {
        if (!settled.condition().machine_on(machine))
            continue;
        Visit visit(live.space_of(machine));
        for (std::size_t i = 0; i < questions.size(); ++i)
            if (questions[i].from == machine) {
                place[i] = askers.size();
                askers.emplace_back(questions[i]);
            }
    }
    await(askers, listeners, canary);
    Answers answers(questions.size());
    for (std::size_t i = 0; i < questions.size(); ++i)
        if (place[i] < askers.size())
            answers[i] = askers[place[i]].answer();
    return answers;
}

} // namespace judge
