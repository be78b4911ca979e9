#include "routing/rip/rip.h"

namespace jackal::routing {

namespace {

class RipProtocol final : public SpokenProtocol {
  public:
    Protocol protocol() const override { return Protocol::rip; }
    std::string_view title() const override { return "RIP"; }
    plan::RouteSource source() const override { return plan::RouteSource::rip; }
    bool is_interior() const override { return true; }
    net::Protocol carrier() const override { return net::Protocol::udp; }
    std::uint16_t port(net::Family family) const override {
        return family == net::Family::ipv4 ? 520
                                           : 521; // RFC 2453 section 3.1, RFC 2080 section 2.1
    }

    std::optional<Exports> exports(const lab::Speaker& speaker) const override {
        if (!speaker.rip)
            return std::nullopt;
        return Exports{.redistribute = speaker.rip->redistribute,
                       .default_route = speaker.rip->default_route,
                       .metric = 1,
                       .default_metric = 1};
    }

    void make_tables(const lab::Lab& lab, const PrefixNumbers& numbers, const Condition& condition,
                     const lab::Wiring& wiring,
                     std::vector<std::unique_ptr<ProtocolTables>>& into) const override {
        into.push_back(std::make_unique<RipTables>(lab, numbers, condition, wiring));
    }

    std::string_view state_name(const Neighbour& n) const override {
        return n.state == NeighbourState::full ? "heard" : "not heard";
    }

    // After six updates that did not come (RFC 2453 section 3.8).
    Duration silence_time(const lab::Lab& lab, const Neighbour& n) const override {
        std::uint32_t update_s = lab.speaker(n.machine)->rip->update_s;
        return Duration(std::chrono::seconds(6 * update_s))
               - Duration(std::chrono::seconds(update_s)) / 2;
    }
    // It asks for whole tables at once.
    Duration meeting_time(const lab::Lab& /*lab*/, const Neighbour& /*n*/) const override {
        return Duration{0};
    }
    Duration news_time() const override { return triggered_update_time; }
};

} // namespace

const SpokenProtocol& rip_protocol() {
    static const RipProtocol protocol;
    return protocol;
}

} // namespace jackal::routing
