#include "relay.h"

#include "command.h"

#include <arpa/inet.h>
#include <array>
#include <cerrno>
#include <cstring>
#include <fmt/format.h>
#include <sys/socket.h>
#include <unistd.h>
#include <utility>

namespace jackal::cli {

SocketAddress socket_address(const std::string& what, const std::string& text,
                             std::uint16_t usual_port) {
    SocketAddress to{.port = usual_port};
    std::string host = text;
    auto address = net::parse_address(host);
    if (const std::size_t colon = text.rfind(':'); !address && colon != text.npos) {
        host = text.substr(0, colon);
        if (host.starts_with("[") && host.ends_with("]"))
            host = host.substr(1, host.size() - 2);
        const auto ports = net::parse_ports(text.substr(colon + 1));
        if (ports && ports->first == ports->last) {
            address = net::parse_address(host);
            to.port = ports->first;
        }
    }
    if (!address || to.port == 0)
        throw NotAsked(fmt::format("{}: write ADDRESS{}, an IPv6 address with a port in brackets",
                                   what, usual_port == 0 ? ":PORT" : " or ADDRESS:PORT"));
    to.address = *address;
    return to;
}

Descriptor connect_to(const SocketAddress& to, int sort) {
    sockaddr_storage place{};
    socklen_t size = 0;
    const std::string host = net::to_string(to.address);
    if (to.address.family() == net::Family::ipv4) {
        auto* in = reinterpret_cast<sockaddr_in*>(&place);
        in->sin_family = AF_INET;
        in->sin_port = htons(to.port);
        inet_pton(AF_INET, host.c_str(), &in->sin_addr);
        size = sizeof *in;
    } else {
        auto* in = reinterpret_cast<sockaddr_in6*>(&place);
        in->sin6_family = AF_INET6;
        in->sin6_port = htons(to.port);
        inet_pton(AF_INET6, host.c_str(), &in->sin6_addr);
        size = sizeof *in;
    }
    Descriptor socket(::socket(place.ss_family, sort | SOCK_CLOEXEC, 0));
    if (socket.get() >= 0 && connect(socket.get(), reinterpret_cast<sockaddr*>(&place), size) != 0
        && errno != EINPROGRESS)
        socket = Descriptor();
    return socket;
}

void Relay::add(const lab::Lab& lab, exports::Wire& wire, const std::string& text) {
    const std::size_t equals = text.find('=');
    const std::size_t colon = text.find(':');
    const auto service = equals == text.npos || colon > equals
                             ? std::nullopt
                             : net::parse_service(text.substr(colon + 1, equals - colon - 1));
    if (!service || service->protocol != net::Protocol::tcp)
        throw NotAsked(fmt::format(
            "--serve {}: write MACHINE:tcp/PORT=ADDRESS:PORT, such as kettle:tcp/22=127.0.0.1:22",
            text));
    const auto machine = lab.machine(text.substr(0, colon));
    if (!machine)
        throw NotAsked(probe::unknown_endpoint(lab, text.substr(0, colon)));
    targets_[{*machine, service->port}] =
        socket_address("--serve " + text, text.substr(equals + 1));
    wire.serve(*machine, service->port);
}

void Relay::wait_for(const exports::Wire& wire, std::vector<pollfd>& files) const {
    for (const auto& [connection, program] : programs_) {
        short events = 0;
        if (!program.has_finished && wire.room(connection) != 0)
            events = static_cast<short>(events | POLLIN);
        if (!program.unwritten.empty() || !program.is_reached)
            events = static_cast<short>(events | POLLOUT);
        files.push_back({program.socket.get(), events, 0});
    }
}

void Relay::pass(exports::Wire& wire) {
    hear(wire);
    for (auto& [connection, program] : programs_) {
        if (!is_reached(connection, program, wire))
            continue;
        write(connection, program, wire);
        read(connection, program, wire);
    }
}

void Relay::hear(exports::Wire& wire) {
    for (exports::Wire::Heard& heard : wire.heard()) {
        if (heard.is_new) {
            const auto target = targets_.find({heard.machine, heard.port});
            Descriptor socket = connect_to(target->second, SOCK_STREAM | SOCK_NONBLOCK);
            if (socket.get() < 0)
                wire.finish(heard.connection, true);
            else
                programs_[heard.connection].socket = std::move(socket);
        }
        auto known = programs_.find(heard.connection);
        if (known == programs_.end())
            continue;
        Program& program = known->second;
        program.unwritten.insert(program.unwritten.end(), heard.bytes.begin(), heard.bytes.end());
        program.wire_finished = program.wire_finished || heard.has_finished;
        if (heard.is_over)
            programs_.erase(known);
    }
}

// The connection is accepted once the program has accepted its own, and refused as that is.
bool Relay::is_reached(std::uint64_t connection, Program& program, exports::Wire& wire) {
    pollfd file{program.socket.get(), POLLOUT, 0};
    if (program.is_reached || program.has_finished || poll(&file, 1, 0) == 0)
        return program.is_reached;
    int error = 0;
    socklen_t size = sizeof error;
    getsockopt(program.socket.get(), SOL_SOCKET, SO_ERROR, &error, &size);
    program.is_reached = error == 0;
    program.has_finished = error != 0;
    if (program.is_reached)
        wire.accept(connection);
    else
        wire.finish(connection, true);
    return program.is_reached;
}

void Relay::write(std::uint64_t connection, Program& program, exports::Wire& wire) {
    if (!program.unwritten.empty()) {
        const ssize_t count = send(program.socket.get(), program.unwritten.data(),
                                   program.unwritten.size(), MSG_NOSIGNAL);
        if (count > 0)
            program.unwritten.erase(program.unwritten.begin(), program.unwritten.begin() + count);
        else if (errno != EAGAIN)
            wire.finish(connection, true);
    }
    constexpr std::size_t most_unwritten = 65'536;
    wire.hold(connection, program.unwritten.size() >= most_unwritten);
    if (program.unwritten.empty() && program.wire_finished
        && !std::exchange(program.has_told, true))
        shutdown(program.socket.get(), SHUT_WR);
}

void Relay::read(std::uint64_t connection, Program& program, exports::Wire& wire) {
    std::array<std::uint8_t, 16384> buffer;
    const std::size_t room = std::min(buffer.size(), wire.room(connection));
    if (program.has_finished || room == 0)
        return;
    const ssize_t count = recv(program.socket.get(), buffer.data(), room, 0);
    if (count > 0)
        wire.say(connection, std::span(buffer.data(), static_cast<std::size_t>(count)));
    else if (count == 0 || errno != EAGAIN) {
        program.has_finished = true;
        wire.finish(connection, count != 0);
    }
}

} // namespace jackal::cli
