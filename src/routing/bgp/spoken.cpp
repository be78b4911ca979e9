#include "routing/bgp/bgp.h"

namespace jackal::routing {

namespace {

class BgpProtocol final : public SpokenProtocol {
  public:
    Protocol protocol() const override { return Protocol::bgp; }
    std::string_view title() const override { return "BGP"; }
    plan::RouteSource source() const override { return plan::RouteSource::bgp; }
    bool is_interior() const override { return false; }
    net::Protocol carrier() const override { return net::Protocol::tcp; }
    std::uint16_t port(net::Family /*family*/) const override { return bgp_port; }

    std::optional<Exports> exports(const lab::Speaker& speaker) const override {
        if (!speaker.bgp)
            return std::nullopt;
        return Exports{.redistribute = speaker.bgp->redistribute,
                       .default_route = speaker.bgp->default_route,
                       .networks = speaker.bgp->networks};
    }

    void make_tables(const lab::Lab& lab, const PrefixNumbers& numbers,
                     const Condition& /*condition*/, const lab::Wiring& /*wiring*/,
                     std::vector<std::unique_ptr<ProtocolTables>>& into) const override {
        into.push_back(std::make_unique<BgpTables>(lab, numbers));
    }

    std::string_view state_name(const Neighbour& n) const override {
        if (n.state == NeighbourState::full)
            return "Established";
        bool is_ended = n.discord == Discord::shut || n.discord == Discord::as_number
                        || n.discord == Discord::router_id || n.discord == Discord::no_router_id;
        return is_ended ? "Idle" : "Active";
    }

    // Keepalives come three times in a hold time (RFC 4271 section 4.4).
    Duration silence_time(const lab::Lab& lab, const Neighbour& n) const override {
        Duration hold = std::chrono::seconds(lab.speaker(n.machine)->bgp->hold_s);
        return hold - hold / 6;
    }
    Duration meeting_time(const lab::Lab& /*lab*/, const Neighbour& /*n*/) const override {
        return session_time;
    }
    Duration news_time() const override { return path_time; }
    bool is_on_wire() const override { return false; }
};

} // namespace

const SpokenProtocol& bgp_protocol() {
    static const BgpProtocol protocol;
    return protocol;
}

} // namespace jackal::routing
