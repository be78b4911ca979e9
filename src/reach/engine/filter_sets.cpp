#include "reach/engine/filter_sets.h"

#include "jackal/sorted.h"

#include <algorithm>
#include <numeric>

namespace jackal::reach {

FilterSets::FilterSets(const lab::Lab& lab, const std::vector<EndClass>& classes,
                       const Packets& packets)
    : lab_(lab), packets_(packets), words_((classes.size() + 63) / 64) {
    for (const EndClass& end_class : classes)
        addresses_.push_back(lab.addresses[end_class.first].address);
    by_address_.resize(classes.size());
    std::iota(by_address_.begin(), by_address_.end(), 0);
    std::ranges::sort(by_address_, {}, [&](std::uint32_t c) { return addresses_[c]; });
    for (const lab::Filter& filter : lab.filters)
        views_.push_back(view(filter));
}

// The longest of the filter's prefixes that an address is in says which others it is in.
FilterSets::View FilterSets::view(const lab::Filter& filter) const {
    std::vector<net::Prefix> named;
    for (const lab::FilterRule& rule : filter.rules) {
        named.insert(named.end(), rule.from.begin(), rule.from.end());
        named.insert(named.end(), rule.to.begin(), rule.to.end());
    }
    std::erase_if(named, [&](const net::Prefix& p) { return p.family() != packets_.family; });
    sort_unique(named); // a shorter one comes before those that it holds
    View view;
    view.kinds.resize(addresses_.size());
    for (std::uint32_t i = 0; i < named.size(); ++i) {
        auto first = std::ranges::lower_bound(by_address_, named[i].first(), {},
                                              [&](std::uint32_t c) { return addresses_[c]; });
        for (; first != by_address_.end() && addresses_[*first] <= named[i].last(); ++first)
            view.kinds[*first] = i + 1;
    }
    constexpr std::size_t most_member_sets = 64;
    view.samples.assign(named.size() + 1, none);
    if (view.samples.size() <= most_member_sets)
        view.members.assign(view.samples.size(), Bits(words_));
    for (std::uint32_t c = 0; c < view.kinds.size(); ++c) {
        std::uint32_t kind = view.kinds[c];
        if (view.samples[kind] == none)
            view.samples[kind] = c;
        if (!view.members.empty())
            set_bit(view.members[kind], c);
    }
    return view;
}

bool FilterSets::passes(FilterCheck check, std::size_t from, std::size_t to, bool is_answer) const {
    const lab::Filter& filter = lab_.filters[check.filter];
    std::uint32_t rule =
        filter.first(check.way, packets_.flow(addresses_[from], addresses_[to], is_answer),
                     packets_.begins_flow(is_answer));
    return rule == lab::RuleIndex::none ? filter.allows : filter.rules[rule].allows;
}

bool FilterSets::passes_answer(FilterCheck check, std::size_t from, std::size_t to) const {
    return passes(check, from, to, true);
}

std::optional<Bits> FilterSets::senders(FilterCheck check, std::uint32_t target_kind) const {
    const View& view = views_[check.filter.row];
    Bits set(words_);
    std::vector<bool> kinds(view.samples.size());
    bool all = true;
    for (std::size_t kind = 0; kind < kinds.size(); ++kind) {
        if (view.samples[kind] == none)
            continue;
        kinds[kind] = passes(check, view.samples[kind], view.samples[target_kind], false);
        all = all && kinds[kind];
        for (std::size_t w = 0; w < words_ && kinds[kind] && !view.members.empty(); ++w)
            set[w] |= view.members[kind][w];
    }
    for (std::size_t c = 0; c < view.kinds.size() && view.members.empty(); ++c)
        if (kinds[view.kinds[c]])
            set_bit(set, c);
    return all ? std::nullopt : std::optional(std::move(set));
}

namespace {

constexpr std::size_t way_count = 3;

} // namespace

// --- along lists -----------------------------------------------------------------------------

PassingSets::PassingSets(const FilterSets& filters, const Points& points)
    : filters_(filters), points_(points), checked_(filters.count() * way_count),
      turns_(points.size()), sets_(points.size()) {}

void PassingSets::aim_at(std::size_t target) {
    constexpr std::size_t most_kept_words = 8 << 20;
    if (checked_words_ > most_kept_words) {
        for (std::vector<Checked>& by_kind : checked_)
            by_kind.clear();
        checked_words_ = 0;
    }
    target_ = target;
    ++turn_;
    made_count_ = 0;
}

const Bits* PassingSets::through(const FilterCheck& check) {
    std::vector<Checked>& by_kind =
        checked_[check.filter.row * way_count + static_cast<std::size_t>(check.way)];
    if (by_kind.empty())
        by_kind.resize(filters_.kinds(check.filter));
    std::uint32_t kind = filters_.kind(check.filter, target_);
    Checked& known = by_kind[kind];
    if (!known.is_known) {
        known.is_known = true;
        if (auto set = filters_.senders(check, kind)) {
            known.set = std::make_unique<const Bits>(std::move(*set));
            checked_words_ += filters_.words();
        }
    }
    return known.set.get();
}

bool PassingSets::lets_all_pass() {
    lets_.resize(filters_.words() * 64);
    Lets& lets = lets_[target_];
    if (lets == Lets::unknown) {
        lets = Lets::all;
        for (std::uint32_t filter = 0; filter < filters_.count(); ++filter)
            for (plan::Way way : {plan::Way::in, plan::Way::out, plan::Way::through})
                if (lets == Lets::all && through({lab::FilterId{filter}, way}) != nullptr)
                    lets = Lets::some;
    }
    return lets == Lets::all;
}

const Bits* PassingSets::along(std::uint32_t list) {
    if (list == 0)
        return nullptr;
    if (list >= turns_.size()) { // it is younger
        turns_.resize(points_.size());
        sets_.resize(points_.size());
    }
    if (turns_[list] == turn_)
        return sets_[list];
    const Bits* rest = along(points_.rest(list));
    const Bits* set = rest;
    for (const FilterCheck& check : points_.first(list).checks) {
        const Bits* other = through(check);
        if (other == nullptr)
            continue;
        if (set == nullptr) {
            set = other;
            continue;
        }
        if (made_count_ == made_.size())
            made_.push_back(std::make_unique<Bits>(filters_.words()));
        Bits& both = *made_[made_count_++];
        for (std::size_t w = 0; w < both.size(); ++w)
            both[w] = (*set)[w] & (*other)[w];
        set = &both;
    }
    turns_[list] = turn_;
    sets_[list] = set;
    return set;
}

} // namespace jackal::reach
