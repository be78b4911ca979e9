// The simulated lab at the end of a real wire: frames of a computer come in, and the lab's come
// out, when they are due.
//
//     exports::Wire wire(lab, {nic});                 // the NICs that the computer plays
//     wire.receive(now, nic, frame);
//     for (const auto& given : wire.due(now)) …
//
// Each packet goes through the decision function that every other answer comes from, with what
// machines know at that moment. Nothing that is received grows what is kept: flows, connections and
// frames on their way have limits, and what is beyond is dropped as a wire drops it.
#pragma once

#include "jackal/api.h"
#include "jackal/probe/course.h"

#include <memory>
#include <span>

namespace jackal::exports {

using Bytes = std::vector<std::uint8_t>;

/// Refers to its lab, which must outlive it.
class JACKAL_API Wire {
  public:
    /// The computer plays the machine of `nics`, at least one, and has their MACs and addresses.
    /// `seed` is that of jitter and loss.
    Wire(const lab::Lab& lab, const std::vector<lab::NicId>& nics, std::uint64_t seed = 1);
    Wire(const lab::Lab&& lab, const std::vector<lab::NicId>& nics,
         std::uint64_t seed = 1) = delete;
    ~Wire();
    Wire(const Wire&) = delete;
    Wire& operator=(const Wire&) = delete;

    /// Something is cut or mended.
    void happen(probe::Microseconds now, bool mends, const routing::Cut& what);
    const probe::Course& course() const;

    /// A frame that the computer sends by one of its NICs.
    void receive(probe::Microseconds now, lab::NicId by, std::span<const std::uint8_t> frame);

    /// From now on connections to that TCP port of the machine are the caller's, whatever the plan
    /// says of it. A new one is open once it is accepted, and refused if it is broken off before.
    void serve(lab::MachineId machine, std::uint16_t port);

    /// What has come of such a connection. Each has a number of its own.
    struct Heard {
        std::uint64_t connection = 0;
        lab::MachineId machine;
        std::uint16_t port = 0;
        bool is_new = false;
        Bytes bytes;
        bool has_finished = false; ///< the other end says no more
        bool is_over = false;      ///< the last that is heard of it
    };
    /// What has come since it was asked last.
    std::vector<Heard> heard();
    void accept(std::uint64_t connection);
    /// While it is held nothing is heard of what the other end sends; it may send a window more.
    void hold(std::uint64_t connection, bool holds);
    /// How many bytes may be said to the other end now.
    std::size_t room(std::uint64_t connection) const;
    void say(std::uint64_t connection, std::span<const std::uint8_t> bytes);
    /// Nothing more will be said, or the connection is broken off.
    void finish(std::uint64_t connection, bool breaks_off = false);

    /// A frame that comes to the computer.
    struct Given {
        lab::NicId nic;
        Bytes bytes;
    };
    /// Those that it gets until `now`, and has not been given.
    std::vector<Given> due(probe::Microseconds now);

    /// When the next frame is due; nothing if none is on its way.
    std::optional<probe::Microseconds> next() const;

    /// What was received and given, and what was dropped because too much was on its way.
    struct Count {
        std::uint64_t received = 0;
        std::uint64_t given = 0;
        std::uint64_t dropped = 0;
    };
    Count count() const;

  private:
    class Simulation;
    std::unique_ptr<Simulation> simulation_;
};

} // namespace jackal::exports
