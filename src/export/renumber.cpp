#include "jackal/export/pin.h"
#include "jackal/lab/build.h"
#include "jackal/net/place.h"
#include "jackal/net/prefix_table.h"
#include "jackal/plan/rewrite.h"

#include <algorithm>
#include <charconv>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <map>
#include <set>

namespace jackal::exports {

namespace {

using lab::Lab;
using lab::SegmentId;
using lab::SiteId;
using lab::SubnetId;
using net::Prefix;

// Where one range goes. Offsets inside it stay.
struct Move {
    Prefix from;
    Prefix to;

    net::Address operator()(net::Address a) const {
        net::Address offset{a.high() - from.first().high() - (a.low() < from.first().low() ? 1 : 0),
                            a.low() - from.first().low()};
        net::Address low = to.first().plus(offset.low());
        return {low.high() + offset.high(), low.low()};
    }
};

class Renumberer {
  public:
    Renumberer(std::string_view text, const std::string& source, const plan::Settings& settings,
               const Prefix& to)
        : text_(text), source_(source), settings_(settings), to_(to) {}

    Renumbering run(std::string_view name) {
        plan::Reading reading = plan::read(text_, source_, settings_);
        result_.problems = std::move(reading.problems);
        if (!reading.plan)
            return std::move(result_);
        lab_ = lab::build(*reading.plan);
        plan_ = std::move(*reading.plan);
        if (auto site = lab_.site(name))
            find_site_moves(*site);
        else if (auto subnet = lab_.subnet(name))
            find_subnet_move(*subnet);
        else
            problem({}, fmt::format("there is no site or subnet \"{}\" to renumber", name));
        if (result_.problems.empty())
            rewrite();
        return std::move(result_);
    }

  private:
    void problem(plan::Mark at, std::string message) {
        result_.problems.push_back({at, std::move(message)});
    }

    // --- what goes where -----------------------------------------------------------------------

    void find_site_moves(SiteId site) {
        what_ = fmt::format("site {}", lab_.sites[site].name);
        for (const Prefix& space : lab_.sites[site].space)
            if (space.family() == to_.family())
                old_.push_back(space);
        if (lab_.sites[site].space_chosen || old_.empty())
            return problem(lab_.sites[site].at,
                           fmt::format("{} has no {} space in the plan; write one, and there is "
                                       "nothing to renumber",
                                       what_, net::to_string(to_.family())));
        old_ = net::outermost(std::move(old_));
        for (SegmentId id : lab_.segments.ids())
            if (site_of(id) == site)
                own_segments_.insert(id);
        own_site_ = site;
        if (!find_moves(old_))
            find_segment_moves();
        index_moves();
    }

    // Every prefix of the site by itself, where its spaces as they are have no room.
    void find_segment_moves() {
        std::vector<Prefix> pieces;
        for (SegmentId id : own_segments_)
            if (const auto& prefix = lab_.segments[id].prefix[to_.family()];
                prefix && is_old(*prefix))
                pieces.push_back(*prefix);
        for (const lab::Pool& pool : lab_.pools)
            for (const Prefix& space : pool.space)
                if (is_old(space))
                    pieces.push_back(space);
        pieces = net::outermost(std::move(pieces));
        if (!find_moves(pieces))
            problem({}, fmt::format("{} has no room for all prefixes of {}; the plan needs {}",
                                    net::to_string(to_), what_, needed(pieces)));
    }

    static std::vector<net::PlaceWish> wishes_for(const std::vector<Prefix>& pieces) {
        std::vector<net::PlaceWish> wishes;
        for (const Prefix& piece : pieces)
            wishes.push_back({piece.family(), piece.length()});
        return wishes;
    }

    std::string needed(const std::vector<Prefix>& pieces) const {
        const std::vector<net::PlaceWish> wishes = wishes_for(pieces);
        for (int length = to_.length() - 1; length >= 0; --length) {
            Prefix larger(to_.first(), length);
            if (net::place({&larger, 1}, {}, wishes).shortages.empty())
                return fmt::format("a /{}", length);
        }
        return "more than there is";
    }

    bool find_moves(const std::vector<Prefix>& pieces) {
        net::Placements placed = net::place({&to_, 1}, {}, wishes_for(pieces));
        moves_.clear();
        for (std::size_t i = 0; i < pieces.size(); ++i)
            if (placed.prefixes[i])
                moves_.push_back({pieces[i], *placed.prefixes[i]});
        return placed.shortages.empty();
    }

    void find_subnet_move(SubnetId id) {
        const lab::Subnet& subnet = lab_.subnets[id];
        what_ = fmt::format("subnet {}", subnet.name);
        const auto& old = lab_.segments[subnet.segment].prefix[to_.family()];
        const plan::Subnet& entry = plan_->entries().subnets[id.row];
        auto is_pin = [&](const auto& pin) { return pin.name == subnet.name; };
        if (!old
            || (entry.prefixes.empty()
                && std::ranges::none_of(plan_->entries().pins.subnets, is_pin)))
            return problem(subnet.at,
                           fmt::format("{} has no {} prefix in the plan; write or pin one first",
                                       what_, net::to_string(to_.family())));
        own_segments_.insert(subnet.segment);
        old_.push_back(*old);
        moves_.push_back({*old, to_});
        index_moves();
    }

    void index_moves() {
        std::vector<net::PrefixTable::Entry> entries;
        for (std::uint32_t i = 0; i < moves_.size(); ++i)
            entries.push_back({moves_[i].from, i});
        table_ = net::PrefixTable(entries);
    }

    // The site of a subnet, or of the first NIC of the machine that a link or loopback belongs to.
    SiteId site_of(SegmentId id) const {
        const lab::Segment& segment = lab_.segments[id];
        if (segment.subnet)
            return lab_.subnets[segment.subnet].site;
        for (lab::NicId nic : segment.nics)
            for (lab::NicId first : lab_.nics_of(lab_.nics[nic].machine))
                if (SubnetId subnet = lab_.segments[lab_.nics[first].segment].subnet)
                    return lab_.subnets[subnet].site;
        return SiteId{0};
    }

    // The part of the old range that holds the address, or null.
    const Prefix* old_around(net::Address a) const {
        auto after = std::ranges::upper_bound(old_, a, {}, &Prefix::first);
        return after != old_.begin() && std::prev(after)->contains(a) ? &*std::prev(after)
                                                                      : nullptr;
    }
    bool is_old(const Prefix& prefix) const {
        const Prefix* around = old_around(prefix.first());
        return around != nullptr && around->contains(prefix);
    }
    bool touches_old(const Prefix& prefix) const {
        auto inside = std::ranges::lower_bound(old_, prefix.first(), {}, &Prefix::first);
        return old_around(prefix.first()) != nullptr
               || (inside != old_.end() && prefix.contains(inside->first()));
    }

    // --- whose a value is ----------------------------------------------------------------------

    enum class Whose : std::uint8_t { ours, theirs, anyones };

    // True if others use addresses of the old range too, so that a value alone does not tell.
    bool others_overlap() const {
        for (SegmentId id : lab_.segments.ids())
            if (const auto& prefix = lab_.segments[id].prefix[to_.family()];
                prefix && !own_segments_.contains(id) && touches_old(*prefix))
                return true;
        for (SiteId id : lab_.sites.ids())
            if (own_site_ && id != own_site_ && !lab_.sites[id].space_chosen)
                for (const Prefix& space : lab_.sites[id].space)
                    if (touches_old(space))
                        return true;
        return false;
    }

    Whose whose_subnet(std::string_view name) const {
        auto id = lab_.subnet(name);
        return id && own_segments_.contains(lab_.subnets[*id].segment) ? Whose::ours
                                                                       : Whose::theirs;
    }

    // The position in a list that a step of a path is.
    static std::uint32_t position(std::string_view step) {
        std::uint32_t row = 0;
        std::from_chars(step.data(), step.data() + step.size(), row);
        return row;
    }

    Whose whose_link(std::uint32_t row) const {
        return row < lab_.links.size()
                       && own_segments_.contains(lab_.links[lab::LinkId{row}].segment)
                   ? Whose::ours
                   : Whose::theirs;
    }

    // A machine with all its NICs inside is ours, one with none is theirs.
    Whose whose_machine(std::string_view entry) const {
        auto found = entries_.find(entry);
        return found == entries_.end() ? Whose::theirs : found->second.whose;
    }

    Whose whose_nic(std::string_view entry, std::uint32_t row) const {
        auto found = entries_.find(entry);
        if (found == entries_.end()) // an entry that others are like
            return Whose::anyones;
        const auto& nics = plan_->entries().machines[found->second.machine.row].nics;
        return row < nics.size() ? whose_subnet(nics[row].subnet.value) : Whose::anyones;
    }

    Whose whose(const std::vector<std::string_view>& path) const {
        std::string_view section = path[0];
        if (path.size() < 2)
            return Whose::anyones;
        if (section == "sites")
            return own_site_ && lab_.site(path[1]) == own_site_ ? Whose::ours : Whose::theirs;
        if (section == "subnets")
            return whose_subnet(path[1]);
        if (section == "links")
            return whose_link(position(path[1]));
        if (section == "guests" || section == "routers") {
            if (path.size() > 4 && path[2] == "nics")
                return whose_nic(path[1], position(path[3]));
            Whose machine = whose_machine(path[1]);
            return machine == Whose::theirs ? Whose::anyones : machine; // as of routes to us
        }
        if (section == "pinned" && path.size() > 2) {
            if (path[1] == "subnets" || path[1] == "dhcp")
                return whose_subnet(path[2]);
            if (path[1] == "machines" && path.size() > 3)
                return whose_subnet(path[3]);
            if (path[1] == "links")
                return whose_pinned_link(path[2]);
            if (path[1] == "loopbacks")
                return whose_machine(path[2]);
        }
        return Whose::anyones;
    }

    Whose whose_pinned_link(std::string_view name) const {
        auto found = link_rows_.find(name);
        return found == link_rows_.end() ? Whose::theirs : whose_link(found->second);
    }

    // --- the text ------------------------------------------------------------------------------

    void index_entries() {
        for (lab::MachineId id : lab_.machines.ids()) {
            bool inside = false;
            bool outside = false;
            for (lab::NicId nic : lab_.nics_of(id))
                (own_segments_.contains(lab_.nics[nic].segment) ? inside : outside) = true;
            entries_.emplace(plan_->entries().machines[id.row].entry_name(),
                             Entry{id, !inside   ? Whose::theirs
                                       : outside ? Whose::anyones
                                                 : Whose::ours});
        }
        std::uint32_t row = 0;
        for (std::string& name : plan::link_names(plan_->entries().links))
            link_rows_.emplace(std::move(name), row++);
    }

    void rewrite() {
        bool ambiguous = others_overlap();
        index_entries();
        plan::Rewriting rewriting = plan::replace_values(text_, [&](const plan::ValuePlace& place) {
            if (place.path.empty() || place.path.back() == "about")
                return std::optional<std::string>();
            auto changed = change(place);
            if (!changed || !ambiguous)
                return changed;
            Whose owner = whose(place.path);
            if (owner == Whose::anyones)
                result_.left.push_back(
                    {place.at,
                     fmt::format("{} is left, as others use these addresses too", place.value)});
            return owner == Whose::ours ? changed : std::nullopt;
        });
        for (const plan::Problem& found : rewriting.problems)
            problem(found.at, found.message);
        if (!result_.problems.empty())
            return;
        plan::Reading again = plan::read(*rewriting.text, source_, settings_);
        if (!again.plan) {
            for (const plan::Problem& found : again.problems)
                problem(found.at,
                        fmt::format("renumbered, the plan would be refused: {}", found.message));
            return;
        }
        Lab after = lab::build(*again.plan);
        for (SegmentId id : own_segments_) // such as those with a part that is a parameter
            if (const auto& prefix = after.segments[id].prefix[to_.family()];
                prefix && is_old(*prefix) && !to_.contains(*prefix))
                result_.left.push_back(
                    {lab_.segments[id].subnet ? lab_.subnets[lab_.segments[id].subnet].at
                                              : plan::Mark{},
                     fmt::format("{} stays at {}; change it by hand", lab_.segment_name(id),
                                 net::to_string(*prefix))});
        compare(after);
        result_.text = std::move(rewriting.text);
    }

    const Move* move_of(net::Address a) const {
        std::uint32_t row = table_.lookup(a);
        return row == net::PrefixTable::none ? nullptr : &moves_[row];
    }

    // The place of an address in the new range; nothing and a problem if there is none.
    std::optional<net::Address> moved(net::Address a, const plan::ValuePlace& place) {
        const Move* move = move_of(a);
        if (move != nullptr && move->to.contains((*move)(a)))
            return (*move)(a);
        problem(place.at, fmt::format("{} has no place in {}", place.value, net::to_string(to_)));
        return std::nullopt;
    }

    // What becomes of a value; nothing if it is no address of the old range.
    std::optional<std::string> change(const plan::ValuePlace& place) {
        auto both = net::parse_address_with_length(place.value);
        if (both && both->prefix().first() == both->address
            && both->length < net::address_bits(both->address.family()))
            return change_prefix(both->prefix(), place);
        if (both)
            return change_with_length(*both, place);
        auto range = net::parse_range(place.value);
        if (!range || old_around(range->first) == nullptr)
            return std::nullopt;
        auto first = moved(range->first, place);
        auto last = first ? moved(range->last, place) : std::nullopt;
        if (!last)
            return std::nullopt;
        return net::to_string(net::Range{*first, *last});
    }

    std::optional<std::string> change_prefix(const Prefix& prefix, const plan::ValuePlace& place) {
        if (!is_old(prefix))
            return std::nullopt;
        bool whole_site = old_.size() == 1 && prefix == old_.front();
        if (whole_site)
            return net::to_string(to_);
        const Move* move = move_of(prefix.first());
        if (move != nullptr && move->from == prefix)
            return net::to_string(move->to);
        Prefix result;
        if (move != nullptr && move->from.contains(prefix))
            result = Prefix((*move)(prefix.first()), prefix.length());
        if (move == nullptr || !move->from.contains(prefix) || !move->to.contains(result)) {
            problem(place.at,
                    fmt::format("{} has no place in {}", place.value, net::to_string(to_)));
            return std::nullopt;
        }
        return net::to_string(result);
    }

    std::optional<std::string> change_with_length(const net::AddressWithLength& both,
                                                  const plan::ValuePlace& place) {
        if (old_around(both.address) == nullptr)
            return std::nullopt;
        const Move* move = move_of(both.address);
        auto address = moved(both.address, place);
        if (!address)
            return std::nullopt;
        bool whole = move->from.length() == both.length;
        return fmt::format("{}/{}", net::to_string(*address),
                           whole ? move->to.length() : both.length);
    }

    // --- before and after ----------------------------------------------------------------------

    template <class Value>
    void row(std::string what, bool meant, const std::optional<Value>& before,
             const std::optional<Value>& after) {
        if (before == after)
            return;
        auto text = [](const auto& value) { return value ? net::to_string(*value) : "none"; };
        result_.table.push_back({std::move(what), text(before), text(after), meant});
    }

    void compare(const Lab& after) {
        for (SiteId id : lab_.sites.ids()) {
            const auto& was = lab_.sites[id].space;
            const auto& is = after.sites[id].space;
            for (std::size_t i = 0; i < std::min(was.size(), is.size()); ++i)
                row(fmt::format("site {}", lab_.sites[id].name), id == own_site_,
                    std::optional(was[i]), std::optional(is[i]));
        }
        for (SegmentId id : lab_.segments.ids())
            compare(id, after);
        for (lab::AddressId id : lab_.addresses.ids()) {
            if (id.row >= after.addresses.size())
                break;
            const lab::InterfaceAddress& was = lab_.addresses[id];
            if (was.nic == after.addresses[id].nic)
                row(lab_.nic_name(was.nic), own_segments_.contains(lab_.nics[was.nic].segment),
                    std::optional(was.address), std::optional(after.addresses[id].address));
        }
        for (lab::RouteId id : lab_.routes.ids())
            if (id.row < after.routes.size() && !lab_.routes[id].is_gateway())
                route_row(lab_.routes[id], after.routes[id]);
        std::set<std::pair<plan::Cause, std::string>> known;
        for (const lab::Finding& finding : lab::findings(lab_))
            known.emplace(finding.cause, finding.subject);
        for (lab::Finding& finding : lab::findings(after))
            if (finding.severity == lab::Severity::error
                && !known.contains({finding.cause, finding.subject}))
                result_.brought.push_back(std::move(finding));
    }

    void route_row(const lab::StaticRoute& was, const lab::StaticRoute& is) {
        if (was.to == is.to && was.via == is.via)
            return;
        auto text = [](const lab::StaticRoute& route) {
            return fmt::format("{} via {}", net::to_string(route.to), net::to_string(route.via));
        };
        result_.table.push_back(
            {fmt::format("route in line {}", was.at.line), text(was), text(is)});
    }

    void compare(SegmentId id, const Lab& after) {
        const lab::Segment& segment = lab_.segments[id];
        std::string name = lab_.segment_name(id);
        bool meant = own_segments_.contains(id);
        for (net::Family family : net::both_families)
            row(fmt::format("{} {}",
                            segment.subnet ? "subnet"
                            : segment.link ? "link"
                                           : "loopback",
                            name),
                meant, segment.prefix[family], after.segments[id].prefix[family]);
        if (!segment.subnet)
            return;
        const lab::Subnet& was = lab_.subnets[segment.subnet];
        const lab::Subnet& is = after.subnets[segment.subnet];
        for (net::Family family : net::both_families)
            row(fmt::format("gateway of {}", name), meant, was.gateway[family], is.gateway[family]);
        auto range = [](const lab::Subnet& subnet) {
            return subnet.dhcp ? std::optional(*subnet.dhcp) : std::nullopt;
        };
        row(fmt::format("DHCP range of {}", name), meant, range(was), range(is));
    }

    std::string_view text_;
    const std::string& source_;
    const plan::Settings& settings_;
    Prefix to_;
    std::optional<plan::Complete> plan_;
    Lab lab_;
    std::string what_;
    SiteId own_site_;                  // none if a subnet moves
    std::set<SegmentId> own_segments_; // that move
    struct Entry {
        lab::MachineId machine; // of `count`, the first one
        Whose whose = Whose::theirs;
    };
    std::map<std::string_view, Entry> entries_;
    std::map<std::string, std::uint32_t, std::less<>> link_rows_;
    std::vector<Prefix> old_; // the range that is left
    std::vector<Move> moves_;
    net::PrefixTable table_{{}}; // positions in moves_
    Renumbering result_;
};

} // namespace

Renumbering renumber(std::string_view text, const std::string& source,
                     const plan::Settings& settings, std::string_view name, const Prefix& to) {
    return Renumberer(text, source, settings, to).run(name);
}

} // namespace jackal::exports
