// Connections to served ports of a simulated lab, handed on to real programs.
#pragma once

#include "descriptor.h"
#include "jackal/export/wire.h"

#include <map>
#include <poll.h>
#include <string>
#include <vector>

namespace jackal::cli {

/// An address and a port, as sockets have them. Throws NotAsked for no `ADDRESS:PORT`, with `what`
/// before the reason; `usual_port` stands for one that is not written.
struct SocketAddress {
    net::Address address;
    std::uint16_t port = 0;
};
SocketAddress socket_address(const std::string& what, const std::string& text,
                             std::uint16_t usual_port = 0);
/// A socket of that sort of the address's family, connected to it or on its way to be.
Descriptor connect_to(const SocketAddress& to, int sort);

class Relay {
  public:
    /// `MACHINE:tcp/22=127.0.0.1:2222`. Throws NotAsked.
    void add(const lab::Lab& lab, exports::Wire& wire, const std::string& text);

    /// The files to wait for, behind those that are there.
    void wait_for(const exports::Wire& wire, std::vector<pollfd>& files) const;
    /// Passes on what has come from either side.
    void pass(exports::Wire& wire);

  private:
    struct Program {
        Descriptor socket;
        bool is_reached = false;
        exports::Bytes unwritten;
        bool wire_finished = false; // and told so, once all is written
        bool has_told = false;
        bool has_finished = false; // says no more
    };

    void hear(exports::Wire& wire);
    static bool is_reached(std::uint64_t connection, Program& program, exports::Wire& wire);
    void write(std::uint64_t connection, Program& program, exports::Wire& wire);
    void read(std::uint64_t connection, Program& program, exports::Wire& wire);

    std::map<std::pair<lab::MachineId, std::uint16_t>, SocketAddress> targets_;
    std::map<std::uint64_t, Program> programs_; // by connection
};

} // namespace jackal::cli
