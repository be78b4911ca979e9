#include "reach/foreseen.h"

#include "jackal/sorted.h"
#include "probe/names.h"
#include "probe/request.h"

#include <algorithm>
#include <stdexcept>

namespace jackal::reach {

namespace {

constexpr std::size_t nowhere = ~std::size_t{0};

} // namespace

bool Foreseen::is_possible(const lab::Lab& lab) {
    return std::ranges::none_of(lab.links, [](const lab::Link& link) { return link.loss > 0; });
}

Foreseen::Foreseen(const routing::Settled& settled, const std::vector<probe::Endpoint>& ones,
                   const std::vector<probe::Endpoint>& others, std::optional<net::Service> service,
                   unsigned threads)
    : settled_(settled), lab_(settled.lab()), places_(lab_.addresses.size(), nowhere) {
    std::vector<lab::AddressId> all;
    for (const auto* ends : {&ones, &others})
        for (const probe::Endpoint& end : *ends)
            if (end.machine)
                for (lab::NicId nic : lab_.nics_of(end.machine))
                    for (lab::AddressId id : lab_.addresses_of(nic))
                        all.push_back(id);
    sort_unique(all);
    try {
        for (net::Family family : net::both_families)
            add_matrix(family, all, {.service = service, .threads = threads});
    } catch (const std::length_error&) { // every question has to be walked
        std::ranges::fill(places_, nowhere);
    }
}

void Foreseen::add_matrix(net::Family family, const std::vector<lab::AddressId>& all,
                          const Asking& asking) {
    std::vector<lab::AddressId> ends;
    for (lab::AddressId id : all)
        if (lab_.addresses[id].address.family() == family) {
            places_[id.row] = ends.size();
            ends.push_back(id);
        }
    matrices_[family] = reach::matrix(settled_, std::move(ends), asking);
}

std::optional<std::size_t> Foreseen::place(lab::MachineId machine, net::Address address) const {
    for (lab::NicId nic : lab_.nics_of(machine))
        for (lab::AddressId id : lab_.addresses_of(nic))
            if (lab_.addresses[id].address == address && places_[id.row] != nowhere)
                return places_[id.row];
    return std::nullopt;
}

std::vector<std::size_t> Foreseen::ends(lab::MachineId machine, lab::NicId nic,
                                        net::Family family) const {
    std::vector<std::size_t> ends;
    if (lab_.machines[machine].outside) // its name may have to be asked for
        return ends;
    for (lab::NicId id : lab_.nics_of(machine)) {
        if (nic && id != nic)
            continue;
        for (lab::AddressId address : lab_.addresses_of(id)) {
            if (lab_.addresses[address].address.family() != family)
                continue;
            if (places_[address.row] == nowhere)
                return {};
            ends.push_back(places_[address.row]);
        }
    }
    return ends;
}

std::optional<bool> Foreseen::reaches(const probe::PingQuestion& question) const {
    if (!question.from.machine || !question.to.machine || probe::needs_name(lab_, question))
        return std::nullopt;
    probe::Ends ends = probe::chosen_ends(settled_, question);
    if (!ends.source || !ends.destination)
        return std::nullopt;
    auto source = place(question.from.machine, *ends.source);
    auto target = place(question.to.machine, *ends.destination);
    if (!source || !target)
        return std::nullopt;
    return matrices_[ends.source->family()].reaches(*source, *target);
}

} // namespace jackal::reach
