#include "export/namespaces/script.h"

#include "jackal/probe/exchange.h"

#include <fmt/format.h>

namespace jackal::exports {

namespace {

std::string address_in_socat(net::Address address) {
    return address.family() == net::Family::ipv6 ? fmt::format("'[{}]'", net::to_string(address))
                                                 : net::to_string(address);
}

std::string write_question(Script& s, const plan::Expectation& expectation,
                           const probe::Endpoint& from, const probe::Endpoint& to) {
    probe::Exchange answer = probe::exchange(
        s.settled,
        {.from = from, .to = to, .service = expectation.service, .family = expectation.family});
    if (answer.gap == probe::Gap::name_unknown) {
        s.unasked.push_back(fmt::format("check leaves out {} to {}: it asks by address, and the "
                                        "name is not resolved",
                                        from.name, to.name));
        return "";
    }
    for (const probe::Endpoint* end : {&from, &to})
        if (s.is_real(end->machine) && end->machine != s.station()) {
            s.unasked.push_back(fmt::format("check leaves out {} to {}: {} is outside", from.name,
                                            to.name, end->name));
            return "";
        }
    if (!answer.source || !answer.destination || !s.condition.machine_on(from.machine)) {
        s.unasked.push_back(fmt::format("check leaves out {} to {}: {}", from.name, to.name,
                                        s.condition.machine_on(from.machine)
                                            ? "no address to ask for, or to ask from"
                                            : "the sender is off"));
        return "";
    }
    if (expectation.service && expectation.service->protocol == net::Protocol::udp) {
        s.unasked.push_back(fmt::format("check leaves out {} to {}: {} has no handshake", from.name,
                                        to.name, net::to_string(*expectation.service)));
        return "";
    }
    if (expectation.service)
        return fmt::format("    try {} {} {} {} {}\n", s.lab.machines[from.machine].name, to.name,
                           address_in_socat(*answer.destination), expectation.service->port,
                           expectation.gets.value == "open" ? "open" : "closed");
    return fmt::format("    ask {} {} {} {}{}\n", s.lab.machines[from.machine].name, to.name,
                       net::to_string(*answer.destination),
                       expectation.gets.value == "reply" ? "reply" : "no-reply",
                       from.nic ? " " + net::to_string(*answer.source) : "");
}

} // namespace

std::string write_questions(Script& s) {
    std::string text = "\nquestions() {\n    :\n";
    std::size_t asked = 0;
    for (const plan::Expectation& expectation : s.lab.expectations) {
        const probe::Asked pairs =
            probe::asked(s.lab, expectation.from.value, expectation.to.value);
        if (asked + pairs.most_pairs() > most_checked_pings) {
            s.unasked.push_back(fmt::format("check leaves out {} to {}: too many pings",
                                            expectation.from.value, expectation.to.value));
            continue;
        }
        if (!expectation.cuts.empty()) {
            s.unasked.push_back(fmt::format("check does not cut anything, so leaves out {} to {} "
                                            "under a cut",
                                            expectation.from.value, expectation.to.value));
            continue;
        }
        if (expectation.within)
            s.unasked.push_back(fmt::format("check does not measure how long {} to {} takes",
                                            expectation.from.value, expectation.to.value));
        pairs.each([&](const probe::Endpoint& from, const probe::Endpoint& to) {
            text += write_question(s, expectation, from, to);
        });
        asked += pairs.most_pairs();
    }
    return text + "}\n";
}

} // namespace jackal::exports
