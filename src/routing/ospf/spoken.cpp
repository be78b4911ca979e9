#include "routing/ospf/ospf.h"

#include <algorithm>

namespace jackal::routing {

namespace {

class OspfProtocol final : public SpokenProtocol {
  public:
    Protocol protocol() const override { return Protocol::ospf; }
    std::string_view title() const override { return "OSPF"; }
    plan::RouteSource source() const override { return plan::RouteSource::ospf; }
    bool is_interior() const override { return true; }
    net::Protocol carrier() const override { return net::Protocol::ospf; }
    std::uint16_t port(net::Family /*family*/) const override { return 0; }

    std::optional<Exports> exports(const lab::Speaker& speaker) const override {
        if (!speaker.ospf)
            return std::nullopt;
        return Exports{.redistribute = speaker.ospf->redistribute,
                       .default_route = speaker.ospf->default_route,
                       .metric = 20,
                       .default_metric = 1};
    }

    void make_tables(const lab::Lab& lab, const PrefixNumbers& numbers, const Condition& condition,
                     const lab::Wiring& wiring,
                     std::vector<std::unique_ptr<ProtocolTables>>& into) const override {
        for (net::Family family : net::both_families) {
            bool is_known = std::ranges::any_of(into, [&](const auto& tables) {
                return tables->protocol() == Protocol::ospf && tables->serves(family);
            });
            if (is_known)
                continue;
            auto tables = std::make_unique<OspfTables>(lab, numbers, family);
            tables->form(condition, wiring);
            into.push_back(std::move(tables));
        }
    }

    std::string_view state_name(const Neighbour& n) const override {
        switch (n.state) {
        case NeighbourState::down: return "Down";
        case NeighbourState::init: return "Init";
        case NeighbourState::two_way: return "2-Way";
        case NeighbourState::exchange: return "Exchange";
        case NeighbourState::full: break;
        }
        return "Full";
    }

    // After the dead interval; the last hello came half an interval before.
    Duration silence_time(const lab::Lab& lab, const Neighbour& n) const override {
        const lab::OspfNic& nic = told(lab, n);
        return std::chrono::seconds(nic.dead_s) - Duration(std::chrono::seconds(nic.hello_s)) / 2;
    }
    // On a broadcast network a designated router is elected after a dead interval (RFC 2328
    // section 9.1), unless there is one. A router has just announced that its NIC is up, and waits
    // with the next announcement (MinLSInterval, section 12.4 and appendix B).
    Duration meeting_time(const lab::Lab& lab, const Neighbour& n) const override {
        constexpr Duration least_between = std::chrono::seconds(5);
        const lab::OspfNic& nic = told(lab, n);
        const Duration met = nic.point_to_point ? Duration(std::chrono::seconds(nic.hello_s)) / 2
                                                : Duration(std::chrono::seconds(nic.dead_s));
        return std::max(met, least_between);
    }
    Duration news_time() const override { return flooding_time; }

  private:
    static const lab::OspfNic& told(const lab::Lab& lab, const Neighbour& n) {
        return *lab.speaker(n.machine)->ospf->on(n.nic);
    }
};

} // namespace

const SpokenProtocol& ospf_protocol() {
    static const OspfProtocol protocol;
    return protocol;
}

} // namespace jackal::routing
