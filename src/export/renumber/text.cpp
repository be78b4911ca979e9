#include "export/renumber/renumberer.h"

#include "jackal/lab/build.h"
#include "jackal/net/place.h"
#include "jackal/plan/rewrite.h"

#include <charconv>
#include <fmt/format.h>
#include <set>

namespace jackal::exports {

using lab::Lab;
using lab::SegmentId;
using net::Prefix;

namespace {

std::optional<std::string> change_prefix(Renumberer& r, const Prefix& prefix,
                                         const plan::ValuePlace& place) {
    if (!is_old(r, prefix))
        return std::nullopt;
    bool whole_site = r.old.size() == 1 && prefix == r.old.front();
    if (whole_site)
        return net::to_string(r.to);
    const Move* move = move_of(r, prefix.first());
    if (move != nullptr && move->from == prefix)
        return net::to_string(move->to);
    Prefix result;
    if (move != nullptr && move->from.contains(prefix))
        result = Prefix((*move)(prefix.first()), prefix.length());
    if (move == nullptr || !move->from.contains(prefix) || !move->to.contains(result)) {
        r.problem(place.at,
                  fmt::format("{} has no place in {}", place.value, net::to_string(r.to)));
        return std::nullopt;
    }
    return net::to_string(result);
}

std::optional<std::string> change_with_length(Renumberer& r, const net::AddressWithLength& both,
                                              const plan::ValuePlace& place) {
    if (old_around(r, both.address) == nullptr)
        return std::nullopt;
    const Move* move = move_of(r, both.address);
    auto address = moved(r, both.address, place);
    if (!address)
        return std::nullopt;
    bool whole = move->from.length() == both.length;
    return fmt::format("{}/{}", net::to_string(*address), whole ? move->to.length() : both.length);
}

// What becomes of a value; nothing if it is no address of the old range.
std::optional<std::string> change(Renumberer& r, const plan::ValuePlace& place) {
    auto both = net::parse_address_with_length(place.value);
    if (both && both->prefix().first() == both->address
        && both->length < net::address_bits(both->address.family()))
        return change_prefix(r, both->prefix(), place);
    if (both)
        return change_with_length(r, *both, place);
    auto range = net::parse_range(place.value);
    if (!range || old_around(r, range->first) == nullptr)
        return std::nullopt;
    auto first = moved(r, range->first, place);
    auto last = first ? moved(r, range->last, place) : std::nullopt;
    if (!last)
        return std::nullopt;
    return net::to_string(net::Range{*first, *last});
}

} // namespace

void rewrite(Renumberer& r) {
    bool ambiguous = others_overlap(r);
    index_entries(r);
    plan::Rewriting rewriting = plan::replace_values(r.text, [&](const plan::ValuePlace& place) {
        if (place.path.empty() || place.path.back() == "about")
            return std::optional<std::string>();
        auto changed = change(r, place);
        if (!changed || !ambiguous)
            return changed;
        Whose owner = whose(r, place.path);
        if (owner == Whose::anyones)
            r.result.left.push_back(
                {place.at,
                 fmt::format("{} is left, as others use these addresses too", place.value)});
        return owner == Whose::ours ? changed : std::nullopt;
    });
    for (const plan::Problem& found : rewriting.problems)
        r.problem(found.at, found.message);
    if (!r.result.problems.empty())
        return;
    plan::Reading again = plan::read(*rewriting.text, r.source, r.settings);
    if (!again.plan) {
        for (const plan::Problem& found : again.problems)
            r.problem(found.at,
                      fmt::format("renumbered, the plan would be refused: {}", found.message));
        return;
    }
    Lab after = lab::build(*again.plan);
    std::set<std::string> moving;
    for (SegmentId id : r.own_segments)
        moving.insert(segment_key(r.lab, id));
    for (SegmentId id : after.segments.ids()) // such as those with a part that is a parameter
        if (const auto& prefix = after.segments[id].prefix[r.to.family()];
            prefix && is_old(r, *prefix) && !r.to.contains(*prefix)
            && moving.contains(segment_key(after, id)))
            r.result.left.push_back({after.segments[id].subnet
                                         ? after.subnets[after.segments[id].subnet].at
                                         : plan::Mark{},
                                     fmt::format("{} stays at {}; change it by hand",
                                                 after.segment_name(id), net::to_string(*prefix))});
    compare(r, after, moving);
    r.result.text = std::move(rewriting.text);
}

} // namespace jackal::exports
