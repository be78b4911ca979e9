#include "asks.h"

#include <regex>

namespace judge {

using namespace jackal;

namespace {

net::Address address_of(const lab::Lab& lab, const probe::Endpoint& end) {
    for (net::Family family : net::both_families)
        if (end.address || probe::address_at(lab, end, family) != nullptr)
            return end.address ? *end.address : probe::address_at(lab, end, family)->address;
    throw std::runtime_error(end.name + " has no address");
}

} // namespace

std::vector<Asked> asks_of(const std::string& text, const lab::Lab& lab) {
    static const std::regex line("\n# ([a-z0-9-]+) to ([^ ]+)(?: TTL ([0-9]+))?"
                                 "(?: SIZE ([0-9]+))?(?: ((?:tcp|udp)/[0-9]+))?: ([^\n]+)");
    std::vector<Asked> found;
    for (std::sregex_iterator it(text.begin(), text.end(), line), end; it != end; ++it) {
        std::smatch parts = *it;
        probe::Endpoint to = probe::endpoint(lab, parts[2].str()).value();
        Asked asked{.question = {.from = lab.machine(parts[1].str()).value(),
                                 .to = to.machine,
                                 .destination = address_of(lab, to),
                                 .source = {},
                                 .service = net::parse_service(parts[5].str())},
                    .wanted = parts[6]};
        if (parts[3].matched)
            asked.question.ttl = std::stoi(parts[3]);
        if (parts[4].matched)
            asked.question.payload_bytes = static_cast<unsigned>(std::stoi(parts[4]));
        found.push_back(asked);
    }
    return found;
}

} // namespace judge
