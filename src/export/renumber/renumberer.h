// A site or subnet that gets another range, in the whole text of a plan: what the steps share. Each
// step stands in the file of its name.
#pragma once

#include "jackal/export/pin.h"
#include "jackal/net/prefix_table.h"
#include "jackal/plan/complete.h"
#include "jackal/plan/rewrite.h"

#include <map>
#include <optional>
#include <set>
#include <string>
#include <vector>

namespace jackal::exports {

/// Where one range goes. Offsets inside it stay.
struct Move {
    net::Prefix from;
    net::Prefix to;

    net::Address operator()(net::Address a) const { return net::moved(a, from, to); }
};

/// Whose a value of the plan is.
enum class Whose : std::uint8_t { ours, theirs, anyones };

struct Renumberer {
    struct Entry {
        lab::MachineId machine; ///< of `count`, the first one
        Whose whose = Whose::theirs;
    };

    std::string_view text;
    const std::string& source;
    const plan::Settings& settings;
    net::Prefix to;
    std::optional<plan::Complete> plan = {};
    lab::Lab lab = {};
    std::string what = {};
    lab::SiteId own_site = {};                  ///< none if a subnet moves
    std::set<lab::SegmentId> own_segments = {}; ///< that move
    std::map<std::string_view, Entry> entries = {};
    std::map<std::string, std::uint32_t, std::less<>> link_rows = {};
    std::vector<net::Prefix> old = {}; ///< the range that is left
    std::vector<Move> moves = {};
    net::PrefixTable table{{}}; ///< positions in moves
    Renumbering result = {};

    void problem(plan::Mark at, std::string message) {
        result.problems.push_back({at, std::move(message)});
    }
};

// --- moves.cpp -------------------------------------------------------------------------------

void find_site_moves(Renumberer& r, lab::SiteId site);
void find_subnet_move(Renumberer& r, lab::SubnetId id);
/// The part of the old range that holds the address, or null.
const net::Prefix* old_around(const Renumberer& r, net::Address a);
bool is_old(const Renumberer& r, const net::Prefix& prefix);
bool touches_old(const Renumberer& r, const net::Prefix& prefix);
const Move* move_of(const Renumberer& r, net::Address a);
/// The place of an address in the new range; nothing and a problem if there is none.
std::optional<net::Address> moved(Renumberer& r, net::Address a, const plan::ValuePlace& place);

// --- whose.cpp -------------------------------------------------------------------------------

/// True if others use addresses of the old range too, so that a value alone does not tell.
bool others_overlap(const Renumberer& r);
Whose whose(const Renumberer& r, const std::vector<std::string_view>& path);
void index_entries(Renumberer& r);

// --- text.cpp --------------------------------------------------------------------------------

void rewrite(Renumberer& r);

// --- compare.cpp -----------------------------------------------------------------------------

/// `subnet quay`, the same in both labs.
std::string segment_key(const lab::Lab& lab, lab::SegmentId id);
/// `moving`: the keys of the segments that move.
void compare(Renumberer& r, const lab::Lab& after, const std::set<std::string>& moving);

} // namespace jackal::exports
