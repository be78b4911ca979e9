#include "reach/pairs.h"

#include "jackal/limits.h"
#include "jackal/packet/source.h"
#include "jackal/probe/exchange.h"
#include "reach/speaker.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>
#include <set>
#include <stdexcept>

namespace jackal::reach {

using lab::AddressId;
using lab::Lab;
using lab::MachineId;
using lab::NicId;

namespace {

constexpr std::uint32_t no_place = PairOfNics::no_place;

// --- who asks whom ---------------------------------------------------------------------------

// Which NICs names mean.
class Choice {
  public:
    Choice(const Lab& lab, const std::vector<std::string>& names) : lab_(lab) {
        for (const std::string& name : names)
            add(name);
        is_open_ = names.empty();
    }

    bool has(NicId nic) const {
        const lab::Segment& segment = lab_.segments[lab_.nics[nic].segment];
        return is_open_ || machines_.contains(lab_.nics[nic].machine)
               || (segment.subnet && subnets_.contains(segment.subnet))
               || sites_.contains(segment.subnet ? lab_.subnets[segment.subnet].site
                                                 : lab_.site_of(lab_.nics[nic].machine));
    }

  private:
    void add(const std::string& name) {
        if (auto subnet = lab_.subnet(name))
            subnets_.insert(*subnet);
        else if (auto site = lab_.site(name))
            sites_.insert(*site);
        else if (auto machine = lab_.machine(name))
            machines_.insert(*machine);
        else
            throw std::invalid_argument(
                fmt::format("\"{}\" is no subnet, site or machine of the lab", name));
    }

    const Lab& lab_;
    bool is_open_ = false;
    std::set<lab::SubnetId> subnets_;
    std::set<lab::SiteId> sites_;
    std::set<MachineId> machines_;
};

class Lines {
  public:
    Lines(const Lab& lab, const GridQuestion& question) : lab_(lab), question_(question) {}

    // Who asks: machines of the lab, each once.
    std::vector<Pairs::Line> senders(bool asks_once) {
        const Choice chosen(lab_, question_.from);
        std::vector<Pairs::Line> found = lines([&](NicId nic) {
            return is_meant(nic) && asks_by(nic) && !lab_.machines[lab_.nics[nic].machine].outside
                   && chosen.has(nic);
        });
        std::vector<bool> asks(lab_.machines.size());
        for (Pairs::Line& line : found) {
            auto repeated = std::ranges::unique(line.nics, {},
                                                [&](NicId nic) { return lab_.nics[nic].machine; });
            line.nics.erase(repeated.begin(), repeated.end());
            std::erase_if(line.nics, [&](NicId nic) {
                bool asked = asks[lab_.nics[nic].machine.row];
                asks[lab_.nics[nic].machine.row] = true;
                return asks_once && asked;
            });
        }
        return found;
    }
    // Who is asked: the same, and hosts outside.
    std::vector<Pairs::Line> targets() {
        const Choice chosen(lab_, question_.to);
        return lines([&](NicId nic) {
            const lab::Machine& machine = lab_.machines[lab_.nics[nic].machine];
            bool is_host_outside = machine.outside && machine.kind == plan::MachineKind::guest
                                   && lab_.nics[nic].address_count != 0;
            return (machine.outside ? is_host_outside
                                    : is_meant(nic) && !lab_.is_own_way_out(lab_.nics[nic].segment))
                   && chosen.has(nic);
        });
    }

  private:
    // By its own way out a machine asks if it has no other NIC, and nobody asks for it there.
    bool asks_by(NicId nic) const {
        const auto own = lab_.nics_of(lab_.nics[nic].machine);
        return !lab_.is_own_way_out(lab_.nics[nic].segment)
               || std::ranges::all_of(
                   own, [&](NicId other) { return lab_.is_own_way_out(lab_.nics[other].segment); });
    }

    bool is_meant(NicId nic) const {
        bool is_guest = reach::is_guest(lab_, nic);
        bool counts =
            lab_.segments[lab_.nics[nic].segment].subnet || lab_.nics[nic].address_count != 0;
        return counts
               && (question_.kind == Kind::all || is_guest == (question_.kind == Kind::guests));
    }

    template <class Counts>
    std::vector<Pairs::Line> lines(Counts counts) const {
        std::map<std::uint32_t, Pairs::Line> found; // in the order of the lab's tables
        for (NicId nic : lab_.nics.ids())
            if (counts(nic)) {
                Pairs::Line& line = found[number(nic)];
                line.nics.push_back(nic);
                if (line.name.empty())
                    line.name = name(nic);
            }
        std::vector<Pairs::Line> all;
        for (auto& [key, line] : found)
            all.push_back(std::move(line));
        return all;
    }

    lab::SiteId site(NicId nic) const {
        lab::SubnetId subnet = lab_.segments[lab_.nics[nic].segment].subnet;
        return subnet ? lab_.subnets[subnet].site : lab_.site_of(lab_.nics[nic].machine);
    }

    std::uint32_t number(NicId nic) const {
        switch (question_.by) {
        case By::subnet: return lab_.nics[nic].segment.row;
        case By::site: return site(nic).row;
        case By::machine: break;
        }
        return lab_.nics[nic].machine.row;
    }

    std::string name(NicId nic) const {
        switch (question_.by) {
        case By::subnet: return lab_.segment_name(lab_.nics[nic].segment);
        case By::site:
            return site(nic) && !lab_.sites[site(nic)].name.empty() ? lab_.sites[site(nic)].name
                                                                    : "the lab";
        case By::machine: break;
        }
        return lab_.machine_name(nic);
    }

    const Lab& lab_;
    const GridQuestion& question_;
};

} // namespace

// --- verdicts ----------------------------------------------------------------------------------

Pairs::Pairs(const routing::Settled& settled, const GridQuestion& question,
             const std::vector<Asking>& askings, bool asks_once)
    : conditions_{&settled}, lab_(settled.lab()), question_(question), askings_(askings),
      rows_(Lines(lab_, question).senders(asks_once)), columns_(Lines(lab_, question).targets()) {
    make_matrices();
    sort_out_all();
}

void Pairs::refuse_many_cells() const {
    if (rows_.size() * columns_.size() > limits::grid_cells)
        throw std::length_error(fmt::format("{} rows and {} columns are more than {} cells",
                                            rows_.size(), columns_.size(), limits::grid_cells));
}

Pairs::Pairs(const Pairs& whole, const routing::Settled& other)
    : conditions_{whole.conditions_.front(), &other}, lab_(whole.lab_), question_(whole.question_),
      askings_(whole.askings_), rows_(whole.rows_), columns_(whole.columns_), place_(whole.place_),
      ends_(whole.ends_), matrices_(whole.matrices_) {
    add_matrices(other, 1);
    sort_out_all();
}

void Pairs::sort_out_all() {
    for (std::vector<Line>* lines : {&rows_, &columns_})
        for (Line& line : *lines)
            sort_out(line);
}

std::vector<std::string> Pairs::names(const std::vector<Line>& lines) {
    std::vector<std::string> names;
    for (const Line& line : lines)
        names.push_back(line.name);
    return names;
}

// Of all addresses that those who ask may ask from, and those that are asked.
void Pairs::make_matrices() {
    place_.assign(lab_.addresses.size(), no_place);
    std::set<AddressId> all;
    for (const Line& line : rows_)
        for (NicId nic : line.nics)
            for (NicId own : lab_.nics_of(lab_.nics[nic].machine))
                for (AddressId id : lab_.addresses_of(own))
                    all.insert(id);
    for (const Line& line : columns_)
        for (NicId nic : line.nics)
            for (AddressId id : lab_.addresses_of(nic))
                all.insert(id);
    for (net::Family family : net::both_families) {
        std::vector<AddressId>& ends = ends_[family];
        for (AddressId id : all)
            if (lab_.addresses[id].address.family() == family
                && (!question_.family || question_.family == family)) {
                place_[id.row] = static_cast<std::uint32_t>(ends.size());
                ends.push_back(id);
            }
        std::size_t words = askings_.size() * ends.size() * ends.size() / 64;
        if (askings_.size() > 1 && words > limits::matrix_words)
            throw std::length_error(
                fmt::format("{} addresses, asked for {} ranges of ports, are too many", ends.size(),
                            askings_.size()));
    }
    add_matrices(*conditions_.front(), question_.threads);
}

void Pairs::add_matrices(const routing::Settled& settled, unsigned threads) {
    for (net::Family family : net::both_families)
        for (Asking asking : askings_) {
            asking.threads = threads;
            matrices_[family].push_back(
                std::make_shared<const Matrix>(reach::matrix(settled, ends_[family], asking)));
        }
}

std::uint32_t Pairs::place(const lab::InterfaceAddress* row) const {
    if (row != nullptr)
        for (AddressId id : lab_.addresses_of(row->nic))
            if (&lab_.addresses[id] == row)
                return place_[id.row];
    return no_place;
}

// Puts NICs together that are alike.
void Pairs::sort_out(Line& line) const {
    using Classes = std::array<std::uint32_t, 2>;
    std::map<std::tuple<Classes, Classes, std::uint32_t>, std::size_t> known;
    line.alike.clear();
    for (NicId nic : line.nics) {
        MachineId machine = lab_.nics[nic].machine;
        Alike one;
        one.is_plain = lab_.nics[nic].address_count != 0
                       && std::ranges::none_of(lab_.nics_of(machine), [&](NicId other) {
                              return other != nic && lab_.nics[other].address_count != 0;
                          });
        for (net::Family family : net::both_families) {
            one.place[family] = place(lab_.first_address(nic, family));
            one.end_class[family] = {no_place, no_place};
            for (std::size_t i = 0; i < conditions_.size() && one.place[family] != no_place; ++i)
                one.end_class[family][i] = matrix(family, 0, i).class_of(one.place[family]);
            one.is_plain = one.is_plain && addresses(machine, family) <= 1;
        }
        std::tuple key{one.end_class.ipv4, one.end_class.ipv6, one.is_plain ? no_place : nic.row};
        auto [found, is_new] = known.try_emplace(key, line.alike.size());
        if (is_new)
            line.alike.push_back(std::move(one));
        line.alike[found->second].nics.push_back(nic);
    }
}

std::size_t Pairs::addresses(MachineId machine, net::Family family) const {
    std::size_t count = 0;
    for (NicId nic : lab_.nics_of(machine))
        count += count_addresses(lab_, nic, family);
    return count;
}

bool Pairs::gets_answer(const PairOfNics& pair, std::size_t asking, std::size_t condition) const {
    std::uint32_t source = pair.sources[condition];
    return pair.family && source != no_place && pair.target != no_place
           && matrix(*pair.family, asking, condition).reaches(source, pair.target);
}

namespace {

void add_way(const packet::Journey& journey, std::vector<std::pair<MachineId, NicId>>& into) {
    const std::size_t first = into.size();
    for (const packet::Step& step : journey.steps)
        if (step.action == packet::Action::forward)
            into.emplace_back(step.machine, step.out);
    if (into.size() > first)
        into.back().second = {};
    into.emplace_back();
}

} // namespace

std::vector<std::pair<MachineId, NicId>> passed_by(const probe::Exchange& exchange) {
    std::vector<std::pair<MachineId, NicId>> passed;
    add_way(*exchange.out, passed);
    add_way(*exchange.back, passed);
    return passed;
}

probe::Exchange Pairs::walk(const routing::Settled& settled, const PairOfNics& pair,
                            std::uint32_t source) const {
    AddressId from = ends_[*pair.family][source];
    return probe::exchange(settled, {.from = end_at(lab_, lab_.nics[pair.from].machine),
                                     .to = end_at(lab_, pair.to),
                                     .service = askings_.front().service,
                                     .is_served = askings_.front().is_served,
                                     .family = pair.family,
                                     .source = lab_.addresses[from].address,
                                     .count = 1});
}

bool Pairs::is_moved(const PairOfNics& pair) const {
    if (!is_walked(*pair.family, pair.sources, pair.target))
        return matrix(*pair.family, 0, 0).way(pair.sources[0], pair.target)
               != matrix(*pair.family, 0, 1).way(pair.sources[1], pair.target);
    return passed_by(walk(*conditions_[0], pair, pair.sources[0]))
           != passed_by(walk(*conditions_[1], pair, pair.sources[1]));
}

void Pairs::each_other(const Alike& from, const Alike& to, const Use& use) const {
    if (from.nics.size() * to.nics.size() == 1
        || is_settled(pair_of(from.nics.front(), to.nics.front())))
        return tell_alike(from.nics, to.nics, use);
    for (NicId sender : from.nics)
        for (NicId target : to.nics)
            tell(sender, target, 1, use);
}

// True if what comes of one pair comes of all that are alike.
bool Pairs::is_settled(const PairOfNics& sample) const {
    if (!sample.family)
        return true;
    bool one_source = *sample.family == net::Family::ipv4
                      || addresses(lab_.nics[sample.from].machine, *sample.family) == 1;
    return one_source && sample.target != no_place
           && !is_walked(*sample.family, sample.sources, sample.target);
}

void Pairs::tell_alike(const std::vector<NicId>& from, const std::vector<NicId>& to,
                       const Use& use) const {
    std::vector<NicId> both; // a machine does not ask itself
    std::ranges::set_intersection(from, to, std::back_inserter(both));
    std::uint64_t pairs = std::uint64_t{from.size()} * to.size() - both.size();
    if (pairs == 0)
        return;
    NicId sender = from.front();
    NicId target = to.front();
    if (sender == target && to.size() > 1)
        target = to[1];
    else if (sender == target)
        sender = from[1];
    tell(sender, target, pairs, use);
}

void Pairs::tell(NicId from, NicId to, std::uint64_t pairs, const Use& use) const {
    if (++counted_ > limits::grid_counts)
        throw std::length_error(fmt::format(
            "more than {} pairs of machines have to be looked at one by one", limits::grid_counts));
    if (lab_.nics[from].machine == lab_.nics[to].machine)
        return;
    PairOfNics pair = pair_of(from, to);
    if (!pair.family && has_addresses(from) && has_addresses(to))
        return; // of two families
    pair.pairs = pairs;
    use(pair);
}

PairOfNics Pairs::pair_of(NicId from, NicId to) const {
    PairOfNics pair{.from = from, .to = to};
    for (net::Family family : net::both_families)
        if ((!question_.family || question_.family == family)
            && lab_.first_address(to, family) != nullptr
            && probe::address_at(lab_, end_at(lab_, lab_.nics[from].machine), family) != nullptr) {
            pair.family = family;
            for (std::size_t i = 0; i < conditions_.size(); ++i)
                pair.sources[i] = place(source_of(*conditions_[i], from, to, family));
            pair.target = place(lab_.first_address(to, family));
            break;
        }
    return pair;
}

bool Pairs::has_addresses(NicId nic) const {
    return std::ranges::any_of(lab_.nics_of(lab_.nics[nic].machine),
                               [&](NicId own) { return lab_.nics[own].address_count != 0; });
}

// What the machine would send from: its only address, or what its route chooses.
const lab::InterfaceAddress* Pairs::source_of(const routing::Settled& settled, NicId from, NicId to,
                                              net::Family family) const {
    MachineId sender = lab_.nics[from].machine;
    if (addresses(sender, family) == 1)
        return probe::address_at(lab_, end_at(lab_, sender), family);
    auto source = packet::source_address(settled, sender, lab_.first_address(to, family)->address);
    for (NicId nic : lab_.nics_of(sender))
        for (AddressId id : lab_.addresses_of(nic))
            if (source && lab_.addresses[id].address == *source)
                return &lab_.addresses[id];
    return nullptr;
}

} // namespace jackal::reach
