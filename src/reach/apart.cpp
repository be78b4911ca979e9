#include "reach/apart.h"

#include "jackal/limits.h"
#include "jackal/reach/matrix.h"
#include "jackal/sorted.h"
#include "reach/service_ranges.h"

#include <algorithm>
#include <fmt/format.h>
#include <stdexcept>

namespace jackal::reach {

using lab::AddressId;
using lab::MachineId;
using probe::Endpoint;

namespace {

// All that a packet can be, as far as any rule tells.
std::vector<ServiceRange> packet_classes(const lab::Lab& lab) {
    std::vector<ServiceRange> classes = service_classes(lab);
    classes.push_back({net::Protocol::ospf, {}});
    classes.push_back({net::Protocol::any, {}}); // a protocol that no rule names
    return classes;
}

std::string name_of(const ServiceRange& range) {
    return range.protocol == net::Protocol::any ? "a protocol that no rule names"
                                                : to_string({range});
}

class Prover {
  public:
    Prover(const routing::Settled& settled, Verdict& verdict)
        : settled_(settled), lab_(settled.lab()), verdict_(verdict),
          classes_(packet_classes(lab_)) {
        refuse_many(classes_);
    }

    void run(const std::vector<Endpoint>& ones, const std::vector<Endpoint>& others) {
        for (net::Family family : net::both_families)
            add_matrices(family, ones, others);
        for (const auto& [senders, targets] :
             {std::pair(&ones, &others), std::pair(&others, &ones)})
            for (const Endpoint& from : *senders)
                for (const Endpoint& to : *targets)
                    if (from.machine != to.machine) {
                        ++verdict_.pairs;
                        if (!is_apart(from, to))
                            ++verdict_.failed;
                    }
    }

  private:
    // The addresses of an end: of its NIC, or of the whole machine.
    std::vector<AddressId> addresses(const Endpoint& end, bool as_sender) const {
        std::vector<AddressId> found;
        for (lab::NicId nic : lab_.nics_of(end.machine))
            if (as_sender || !end.nic || end.nic == nic)
                for (AddressId id : lab_.addresses_of(nic))
                    found.push_back(id);
        return found;
    }

    void add_matrices(net::Family family, const std::vector<Endpoint>& ones,
                      const std::vector<Endpoint>& others) {
        std::vector<AddressId>& ends = ends_[family];
        for (const auto* side : {&ones, &others})
            for (const Endpoint& end : *side)
                for (AddressId id : addresses(end, true))
                    if (lab_.addresses[id].address.family() == family)
                        ends.push_back(id);
        sort_unique(ends);
        if (classes_.size() * ends.size() * ends.size() / 64 > limits::matrix_words)
            throw std::length_error(
                fmt::format("{} addresses, asked for {} kinds of packets, are too many",
                            ends.size(), classes_.size()));
        for (const ServiceRange& range : classes_)
            matrices_[family].push_back(
                matrix(settled_, ends, {.service = example_of(range), .is_one_way = true}));
    }

    std::size_t place(AddressId id) const {
        const auto& ends = ends_[lab_.addresses[id].address.family()];
        return static_cast<std::size_t>(std::ranges::lower_bound(ends, id) - ends.begin());
    }

    bool is_apart(const Endpoint& from, const Endpoint& to) {
        for (AddressId source : addresses(from, true))
            for (AddressId target : addresses(to, false)) {
                net::Family family = lab_.addresses[source].address.family();
                if (lab_.addresses[target].address.family() != family)
                    continue;
                for (std::size_t i = 0; i < classes_.size(); ++i)
                    if (matrices_[family][i].reaches(place(source), place(target))) {
                        report(from, to, classes_[i],
                               asked(from, source, lab_.addresses[target].address, to.machine,
                                     example_of(classes_[i])));
                        return false;
                    }
                if (gets_in_by_translation(from, to, source, target))
                    return false;
            }
        return true;
    }

    // To the address of a NIC that passes what comes for it on to the target.
    bool gets_in_by_translation(const Endpoint& from, const Endpoint& to, AddressId source,
                                AddressId target) {
        for (const lab::Duties& duties : lab_.duties)
            for (const lab::Translation& rule : duties.translations) {
                if (rule.kind != plan::Translation::Kind::destination || !rule.to
                    || *rule.to != lab_.addresses[target].address)
                    continue;
                for (AddressId front : lab_.addresses_of(rule.nic))
                    for (const ServiceRange& range : classes_) {
                        auto service = example_of(range);
                        if (rule.port != 0 && service)
                            service->port = rule.port;
                        probe::Exchange found = asked(from, source, lab_.addresses[front].address,
                                                      lab_.nics[rule.nic].machine, service);
                        if (found.out && found.out->ending == packet::Ending::delivered
                            && found.out->last_machine() == to.machine) {
                            report(from, to, range, std::move(found));
                            return true;
                        }
                    }
            }
        return false;
    }

    probe::Exchange asked(const Endpoint& from, AddressId source, net::Address destination,
                          MachineId owner, std::optional<net::Service> service) const {
        return probe::exchange(settled_, {.from = from,
                                          .to = {.name = net::to_string(destination),
                                                 .machine = owner,
                                                 .nic = {},
                                                 .address = destination},
                                          .service = service,
                                          .source = lab_.addresses[source].address,
                                          .count = 1});
    }

    void report(const Endpoint& from, const Endpoint& to, const ServiceRange& range,
                probe::Exchange found) {
        if (verdict_.failed != 0)
            return;
        std::string way;
        for (const packet::Step& step : found.out->steps)
            way += (way.empty() ? "" : " > ") + lab_.machines[step.machine].name;
        verdict_.explanation = fmt::format(
            "{} to {}: {} gets through, from {} to {}: {}", from.name, to.name, name_of(range),
            net::to_string(*found.source), net::to_string(*found.destination), way);
        auto diagnosis = probe::diagnose(settled_, found);
        verdict_.answer = probe::PingAnswer{std::move(found), std::move(diagnosis)};
    }

    const routing::Settled& settled_;
    const lab::Lab& lab_;
    Verdict& verdict_;
    const std::vector<ServiceRange> classes_;
    lab::PerFamily<std::vector<AddressId>> ends_;
    lab::PerFamily<std::vector<Matrix>> matrices_;
};

} // namespace

void verify_apart(const routing::Settled& settled, const std::vector<Endpoint>& ones,
                  const std::vector<Endpoint>& others, Verdict& verdict) {
    try {
        Prover(settled, verdict).run(ones, others);
    } catch (const std::length_error& refused) {
        verdict.explanation = refused.what();
        return;
    }
    verdict.passed = verdict.pairs != 0 && verdict.failed == 0;
    if (verdict.pairs == 0)
        verdict.explanation = "no pair of machines to ask";
}

} // namespace jackal::reach
