// Every lab of two guests and at most one router on two segments, with each choice of segments,
// forwarding, gateways and one NIC that is down, against a second forwarder that is written here
// from the plan alone: no table, no index, a few lines.
#include "jackal/jackal.h"
#include "lab_of.h"
#include "sanitized.h"

#include <array>
#include <doctest/doctest.h>
#include <fmt/format.h>
#include <map>

using namespace jackal;

namespace {

enum Where : std::uint8_t { on_a = 1, on_b = 2, on_both = 3, nowhere = 0 };
enum class Gateway : std::uint8_t { automatic, none, router };

struct Machine {
    std::string name;
    std::uint8_t where = nowhere;
    bool forwards = false;
    Gateway gateway = Gateway::none;
    std::uint8_t down = nowhere; // segments on which its NIC is down
};

// Machine 0 and 1 are guests, 2 the router. Machine i has host number 10 + i on each segment, the
// router 1, which is the gateway of both.
using Lab = std::array<Machine, 3>;

int host(std::size_t machine) {
    return machine == 2 ? 1 : 10 + static_cast<int>(machine);
}

std::string text_of(const Lab& lab) {
    std::string text =
        "lab: small\nsubnets: {a: {prefix: 10.0.1.0/24}, b: {prefix: 10.0.2.0/24}}\n";
    for (std::size_t i = 0; i < lab.size(); ++i) {
        const Machine& m = lab[i];
        if (m.where == nowhere)
            continue;
        std::string nics;
        for (int segment : {1, 2})
            if (m.where & segment)
                nics += fmt::format("{}{{subnet: {}, address: 10.0.{}.{}{}}}",
                                    nics.empty() ? "" : ", ", segment == 1 ? "a" : "b", segment,
                                    host(i), m.down & segment ? ", state: down" : "");
        std::string gateway;
        if (m.gateway == Gateway::none && i != 2)
            gateway = ", gateway: none";
        if (m.gateway == Gateway::router)
            gateway = fmt::format(", gateway: 10.0.{}.1", m.where & on_a ? 1 : 2);
        text += fmt::format("{}\n  {}: {{nics: [{}]{}{}}}\n",
                            i == 0   ? "guests:"
                            : i == 2 ? "routers:"
                                     : "",
                            m.name, nics, gateway,
                            i == 2 ? fmt::format(", forwards: {}", m.forwards) : "");
    }
    return text;
}

// --- the second forwarder ----------------------------------------------------------------------

struct Address {
    int segment; // 1 or 2
    std::size_t machine;
};

bool has_up(const Lab& lab, std::size_t machine, int segment) {
    return (lab[machine].where & segment) && !(lab[machine].down & segment);
}

// The segment of the gateway that a machine's default route goes by, or 0.
int gateway_segment(const Lab& lab, std::size_t machine) {
    const Machine& m = lab[machine];
    if (machine == 2 || m.gateway == Gateway::none)
        return 0;
    int segment = m.where & on_a ? 1 : 2; // that of its first NIC, in both kinds
    if (m.gateway == Gateway::automatic && !(lab[2].where & segment)) {
        if (m.where != on_both || !(lab[2].where & on_b))
            return 0;
        segment = 2; // nobody has the first one's
    }
    return has_up(lab, machine, segment) ? segment : 0;
}

// The segment by which a machine's own packets leave to an address, or 0.
int out_to(const Lab& lab, std::size_t from, Address to) {
    if (has_up(lab, from, to.segment))
        return to.segment;
    return gateway_segment(lab, from);
}

// An IPv4 packet that leaves `at` gets to the machine that has the address. A machine takes what is
// for any of its addresses, also for one of a NIC that is down.
bool arrives(const Lab& lab, std::size_t at, Address to, int hops = 4) {
    if (at == to.machine)
        return true;
    if (hops == 0)
        return false;
    bool on_link = has_up(lab, at, to.segment);
    int out = out_to(lab, at, to);
    if (out == 0)
        return false;
    std::size_t next = on_link ? to.machine : 2;
    if (!has_up(lab, next, out))
        return false;
    return next == to.machine || (lab[next].forwards && arrives(lab, next, to, hops - 1));
}

bool replies(const Lab& lab, std::size_t from, Address to) {
    int out = from == to.machine ? to.segment : out_to(lab, from, to);
    return out != 0 && arrives(lab, from, to) && arrives(lab, to.machine, {out, from});
}

} // namespace

TEST_CASE("all labs of three machines and two segments, against a second forwarder") {
    constexpr int choices_down = sanitized ? 2 : 7; // nothing, or one NIC
    std::size_t labs = 0;
    std::map<bool, std::size_t> answers;
    auto each = [&](const Lab& small) {
        std::string text = text_of(small);
        CAPTURE(text);
        lab::Lab lab = lab_of(text);
        routing::Settled settled = routing::settle(lab);
        ++labs;
        for (std::size_t from = 0; from < small.size(); ++from)
            for (std::size_t to = 0; to < small.size(); ++to)
                for (int segment : {1, 2}) {
                    if (small[from].where == nowhere || from == to || !(small[to].where & segment))
                        continue;
                    std::string target = fmt::format("10.0.{}.{}", segment, host(to));
                    auto question = probe::question(lab, small[from].name, target);
                    REQUIRE(question.has_value());
                    bool replied = probe::exchange(settled, *question).replied();
                    CHECK_MESSAGE(replied == replies(small, from, {segment, to}),
                                  small[from].name << " to " << target);
                    ++answers[replied];
                }
    };
    for (std::uint8_t one : {on_a, on_b, on_both})
        for (std::uint8_t other : {on_a, on_b, on_both})
            for (std::uint8_t router : {nowhere, on_a, on_b, on_both})
                for (bool forwards : {false, true})
                    for (Gateway ways : {Gateway::automatic, Gateway::none, Gateway::router})
                        for (int down = 0; down < choices_down; ++down) {
                            Lab small{{{"g", one, false, ways, 0},
                                       {"h", other, false, Gateway::automatic, 0},
                                       {"r", router, forwards, Gateway::none, 0}}};
                            if (down > 0)
                                small[static_cast<std::size_t>(down - 1) / 2].down =
                                    down % 2 == 1 ? on_a : on_b;
                            each(small);
                        }
    CHECK(labs == 216 * choices_down);
    CHECK(answers[true] > 100 * choices_down);
    CHECK(answers[false] > 100 * choices_down);
}
