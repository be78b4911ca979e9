// The engines that answer the same questions, and must agree.
#pragma once

#include "jackal/jackal.h"

#include <functional>

namespace judge {

/// One echo request, or one packet that asks for a service.
struct Question {
    jackal::lab::MachineId from;
    jackal::lab::MachineId to; ///< whose address the destination is, in the lab's words
    jackal::net::Address destination;
    std::optional<jackal::net::Address> source; ///< unset: the sender's kernel chooses
    int ttl = 64;
    unsigned payload_bytes = 56; ///< of an echo request
    std::optional<jackal::net::Service> service;
};

struct Answer {
    enum class Kind : std::uint8_t {
        reply,
        open,    ///< the service answers
        refused, ///< nothing listens, and the sender hears so
        error,
        silence,
        answered,  ///< a reply, or the service answers
        no_reply,  ///< neither
        luck,      ///< more than one machine has an address that matters: anything may happen
        not_asked, ///< the engine has no answer to such questions
    };
    Kind kind = Kind::silence;
    int ttl = 0; ///< of the reply
    jackal::packet::IcmpError error = jackal::packet::IcmpError::none;
    std::optional<jackal::net::Address> error_from; ///< unset if the sender's own kernel said it
    std::string cause;                              ///< Jackal's, where the answer is no reply

    bool agrees(const Answer& other) const {
        auto allows = [](const Answer& a, const Answer& b) {
            bool is_answered = b.kind == Kind::reply || b.kind == Kind::open;
            return a.kind == Kind::luck || a.kind == Kind::not_asked
                   || (a.kind == Kind::answered && is_answered)
                   || (a.kind == Kind::no_reply && !is_answered);
        };
        return allows(*this, other) || allows(other, *this) || same(other);
    }
    bool same(const Answer& other) const {
        return kind == other.kind && ttl == other.ttl && error == other.error
               && error_from == other.error_from;
    }
};

std::string to_string(const Answer& answer);

/// All questions of one lab at once.
using Answers = std::vector<Answer>;
using Ask = std::function<Answers(const jackal::routing::Settled&, const std::vector<Question>&)>;

struct Engine {
    std::string name;
    Ask ask;
};

/// The packet walk of the library.
Answers ask_walk(const jackal::routing::Settled& settled, const std::vector<Question>& questions);

/// The matrix of all pairs of addresses.
Answers ask_matrix(const jackal::routing::Settled& settled, const std::vector<Question>& questions);

/// The wire of the simulated lab: the frame that the sender would send, and the frames that come
/// back. Not asked of senders with filters, translations, tunnels or cables of their own.
Answers ask_wire(const jackal::routing::Settled& settled, const std::vector<Question>& questions);

/// The Linux kernel of this computer: starts the lab by the script that `jackal export --as
/// namespaces` writes, sends real packets, and stops it. Throws std::runtime_error if the lab does
/// not start.
Answers ask_kernel(const jackal::routing::Settled& settled, const std::vector<Question>& questions);

/// Why the kernel cannot be asked here; empty if it can.
std::string kernel_unavailable();

/// All engines; the first is the one that the others are held against. A new one is a line here.
std::vector<Engine> engines();

} // namespace judge
