#include "jackal/reach/grid.h"

#include "jackal/limits.h"
#include "jackal/packet/source.h"
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

std::string_view to_string(By by) {
    switch (by) {
    case By::subnet: return "subnet";
    case By::site: return "site";
    case By::machine: break;
    }
    return "machine";
}

Cell Grid::total() const {
    Cell total;
    for (const Cell& cell : cells) {
        total.pairs += cell.pairs;
        total.replies += cell.replies;
    }
    return total;
}

namespace {

// --- who asks whom ---------------------------------------------------------------------------

// NICs that nothing tells apart to whom they ask and who asks them.
struct Alike {
    std::vector<NicId> nics;
    /// Of the same classes, and the only ones of their machines, with one address of a family at
    /// most. Others stand alone.
    bool is_plain = false;
    lab::PerFamily<std::uint32_t> place; // of the first, in the matrices; or no_place
    lab::PerFamily<std::uint32_t> end_class;
};

constexpr std::uint32_t no_place = ~std::uint32_t{0};

// A row or a column.
struct Line {
    std::string name;
    std::vector<NicId> nics;
    std::vector<Alike> alike;
};

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
    std::vector<Line> senders() {
        const Choice chosen(lab_, question_.from);
        std::vector<Line> found = lines([&](NicId nic) {
            return is_meant(nic) && !lab_.machines[lab_.nics[nic].machine].outside
                   && chosen.has(nic);
        });
        for (Line& line : found) {
            auto repeated = std::ranges::unique(line.nics, {},
                                                [&](NicId nic) { return lab_.nics[nic].machine; });
            line.nics.erase(repeated.begin(), repeated.end());
        }
        return found;
    }
    // Who is asked: the same, and hosts outside.
    std::vector<Line> targets() {
        const Choice chosen(lab_, question_.to);
        return lines([&](NicId nic) {
            const lab::Machine& machine = lab_.machines[lab_.nics[nic].machine];
            bool is_host_outside = machine.outside && machine.kind == plan::MachineKind::guest
                                   && lab_.nics[nic].address_count != 0;
            return (machine.outside ? is_host_outside : is_meant(nic)) && chosen.has(nic);
        });
    }

  private:
    bool is_meant(NicId nic) const {
        bool is_guest = reach::is_guest(lab_, nic);
        bool counts =
            lab_.segments[lab_.nics[nic].segment].subnet || lab_.nics[nic].address_count != 0;
        return counts
               && (question_.kind == Kind::all || is_guest == (question_.kind == Kind::guests));
    }

    template <class Counts>
    std::vector<Line> lines(Counts counts) const {
        std::map<std::uint32_t, Line> found; // in the order of the lab's tables
        for (NicId nic : lab_.nics.ids())
            if (counts(nic)) {
                Line& line = found[number(nic)];
                line.nics.push_back(nic);
                if (line.name.empty())
                    line.name = name(nic);
            }
        std::vector<Line> all;
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

// --- verdicts --------------------------------------------------------------------------------

class GridMaker {
  public:
    GridMaker(const routing::Settled& settled, const GridQuestion& question)
        : settled_(settled), lab_(settled.lab()), question_(question), diagnoser_(settled) {}

    Grid run(const std::function<void(std::size_t, std::size_t)>& progress) {
        rows_ = Lines(lab_, question_).senders();
        columns_ = Lines(lab_, question_).targets();
        if (rows_.size() * columns_.size() > limits::grid_cells)
            throw std::length_error(fmt::format("{} rows and {} columns are more than {} cells",
                                                rows_.size(), columns_.size(), limits::grid_cells));
        make_matrices();
        for (std::vector<Line>* lines : {&rows_, &columns_})
            for (Line& line : *lines)
                sort_out(line);
        for (std::size_t r = 0; r < rows_.size(); ++r) {
            for (const Line& column : columns_)
                fill(rows_[r], column);
            if (progress)
                progress(r + 1, rows_.size());
        }
        for (const Line& line : rows_)
            grid_.rows.push_back(line.name);
        for (const Line& line : columns_)
            grid_.columns.push_back(line.name);
        for (auto& [key, gap] : gaps_)
            grid_.gaps.push_back(std::move(gap));
        std::ranges::stable_sort(grid_.gaps, std::greater(), &GridGap::pairs);
        return std::move(grid_);
    }

  private:
    // All addresses that those who ask may ask from, and those that are asked.
    void make_matrices() {
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
            std::vector<AddressId> ends;
            for (AddressId id : all)
                if (lab_.addresses[id].address.family() == family
                    && (!question_.family || question_.family == family)) {
                    place_[id.row] = static_cast<std::uint32_t>(ends.size());
                    ends.push_back(id);
                }
            matrices_[family] =
                matrix(settled_, std::move(ends),
                       {.service = question_.service, .threads = question_.threads});
        }
    }

    std::optional<std::uint32_t> place(const lab::InterfaceAddress* row) const {
        if (row == nullptr)
            return std::nullopt;
        for (AddressId id : lab_.addresses_of(row->nic))
            if (&lab_.addresses[id] == row && place_[id.row] != no_place)
                return place_[id.row];
        return std::nullopt;
    }

    // Puts NICs together that are alike.
    void sort_out(Line& line) const {
        using Key = std::tuple<std::uint32_t, std::uint32_t, std::uint32_t>;
        std::map<Key, std::size_t> known;
        for (NicId nic : line.nics) {
            MachineId machine = lab_.nics[nic].machine;
            Alike one;
            one.is_plain = lab_.nics[nic].address_count != 0
                           && std::ranges::none_of(lab_.nics_of(machine), [&](NicId other) {
                                  return other != nic && lab_.nics[other].address_count != 0;
                              });
            for (net::Family family : net::both_families) {
                auto end = place(lab_.first_address(nic, family));
                one.place[family] = end.value_or(no_place);
                one.end_class[family] = end ? matrices_[family].class_of(*end) : no_place;
                one.is_plain = one.is_plain && addresses(machine, family) <= 1;
            }
            Key key{one.end_class.ipv4, one.end_class.ipv6, one.is_plain ? no_place : nic.row};
            auto [found, is_new] = known.try_emplace(key, line.alike.size());
            if (is_new)
                line.alike.push_back(std::move(one));
            line.alike[found->second].nics.push_back(nic);
        }
    }

    std::size_t addresses(MachineId machine, net::Family family) const {
        std::size_t count = 0;
        for (NicId nic : lab_.nics_of(machine))
            for (AddressId id : lab_.addresses_of(nic))
                count += lab_.addresses[id].address.family() == family ? 1 : 0;
        return count;
    }

    void fill(const Line& row, const Line& column) {
        grid_.cells.emplace_back();
        for (const Alike& from : row.alike)
            for (const Alike& to : column.alike)
                if (from.is_plain && to.is_plain)
                    fill_plain(from, to);
                else
                    fill_others(from, to);
    }

    void fill_plain(const Alike& from, const Alike& to) {
        net::Family family = from.place.ipv4 != no_place && to.place.ipv4 != no_place
                                 ? net::Family::ipv4
                                 : net::Family::ipv6;
        const std::uint32_t source = from.place[family];
        const std::uint32_t target = to.place[family];
        if (source == no_place || target == no_place)
            return; // of two families
        const Matrix& matrix = matrices_[family];
        if (from.end_class[family] == to.end_class[family] || matrix.is_walked(source, target))
            return fill_others(from, to);
        std::uint64_t pairs = std::uint64_t{from.nics.size()} * to.nics.size();
        grid_.cells.back().pairs += pairs;
        if (matrix.reaches(source, target))
            grid_.cells.back().replies += pairs;
        else
            explain(lab_.nics[from.nics.front()].machine, to.nics.front(), pairs);
    }

    void fill_others(const Alike& from, const Alike& to) {
        if (is_settled(from.nics, to.nics))
            return count_alike(from.nics, to.nics);
        for (NicId sender : from.nics)
            for (NicId target : to.nics)
                count(sender, target, 1);
    }

    // True if what comes of one pair comes of all.
    bool is_settled(const std::vector<NicId>& from, const std::vector<NicId>& to) const {
        if (from.size() * to.size() == 1)
            return true;
        auto family = common_family(from.front(), to.front());
        if (!family)
            return true;
        auto target = place(lab_.first_address(to.front(), *family));
        auto source = place(source_of(from.front(), to.front(), *family));
        bool one_source = *family == net::Family::ipv4
                          || addresses(lab_.nics[from.front()].machine, *family) == 1;
        return one_source && target && (!source || !matrices_[*family].is_walked(*source, *target));
    }

    void count_alike(const std::vector<NicId>& from, const std::vector<NicId>& to) {
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
        count(sender, target, pairs);
    }

    std::optional<net::Family> common_family(NicId from, NicId to) const {
        for (net::Family family : net::both_families)
            if ((!question_.family || question_.family == family)
                && lab_.first_address(to, family) != nullptr
                && probe::address_at(lab_, end_at(lab_, lab_.nics[from].machine), family)
                       != nullptr)
                return family;
        return std::nullopt;
    }

    // One pair, for so many that are alike.
    void count(NicId from, NicId to, std::uint64_t pairs) {
        if (++counted_ > limits::grid_counts)
            throw std::length_error(
                fmt::format("more than {} pairs of machines have to be looked at one by one",
                            limits::grid_counts));
        MachineId sender = lab_.nics[from].machine;
        if (sender == lab_.nics[to].machine)
            return;
        auto family = common_family(from, to);
        if (!family && has_addresses(from) && has_addresses(to))
            return; // of two families
        grid_.cells.back().pairs += pairs;
        if (family && gets_reply(from, to, *family))
            grid_.cells.back().replies += pairs;
        else
            explain(sender, to, pairs);
    }

    bool has_addresses(NicId nic) const {
        return std::ranges::any_of(lab_.nics_of(lab_.nics[nic].machine),
                                   [&](NicId own) { return lab_.nics[own].address_count != 0; });
    }

    bool gets_reply(NicId from, NicId to, net::Family family) const {
        auto target = place(lab_.first_address(to, family));
        auto source = place(source_of(from, to, family));
        return source && target && matrices_[family].reaches(*source, *target);
    }

    // What the machine would send from: its only address, or what its route chooses.
    const lab::InterfaceAddress* source_of(NicId from, NicId to, net::Family family) const {
        MachineId sender = lab_.nics[from].machine;
        if (addresses(sender, family) == 1)
            return probe::address_at(lab_, end_at(lab_, sender), family);
        auto source =
            packet::source_address(settled_, sender, lab_.first_address(to, family)->address);
        for (NicId nic : lab_.nics_of(sender))
            for (AddressId id : lab_.addresses_of(nic))
                if (source && lab_.addresses[id].address == *source)
                    return &lab_.addresses[id];
        return nullptr;
    }

    // --- gaps ----------------------------------------------------------------------------------

    void explain(MachineId from, NicId to, std::uint64_t pairs) {
        if (looked_into_ >= limits::gap_walks) {
            grid_.unexplained += pairs;
            return;
        }
        ++looked_into_;
        probe::Exchange exchange = probe::exchange(settled_, {.from = end_at(lab_, from),
                                                              .to = end_at(lab_, to),
                                                              .service = question_.service,
                                                              .family = question_.family,
                                                              .count = 1});
        if (!diagnoser_.knows(exchange) && gaps_.size() >= limits::explained_gaps) {
            grid_.unexplained += pairs;
            return;
        }
        const probe::Diagnosis& d = diagnoser_.of(exchange);
        bool has_place = d.cause != plan::Cause::nothing_listens; // else as many as targets
        GridGap& gap = gaps_[{d.cause, has_place ? d.at.line : 0, has_place ? d.at.column : 0,
                              d.at ? MachineId{} : d.where}];
        if (gap.pairs == 0) {
            gap.first = d;
            gap.from = lab_.machines[from].name;
            gap.to = lab_.nic_name(to);
        }
        gap.pairs += pairs;
    }

    const routing::Settled& settled_;
    const Lab& lab_;
    const GridQuestion& question_;
    probe::Diagnoser diagnoser_;
    std::vector<Line> rows_;
    std::vector<Line> columns_;
    std::vector<std::uint32_t> place_; // in its matrix, by address
    lab::PerFamily<Matrix> matrices_;
    std::size_t looked_into_ = 0;
    std::size_t counted_ = 0;
    // By cause and place in the plan, or who it is at if that is not written there.
    std::map<std::tuple<plan::Cause, std::uint32_t, std::uint32_t, MachineId>, GridGap> gaps_;
    Grid grid_;
};

} // namespace

Grid grid(const routing::Settled& settled, const GridQuestion& question,
          const std::function<void(std::size_t, std::size_t)>& progress) {
    return GridMaker(settled, question).run(progress);
}

} // namespace jackal::reach
