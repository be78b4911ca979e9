// How much of anything Jackal works out, so that no input keeps a computer busy or fills its
// memory: any is answered within seconds and a gigabyte, or refused with the limit that it met.
// Labs that people build stay far below all of these.
#pragma once

#include <cstddef>
#include <cstdint>

namespace jackal::limits {

// --- reading a plan: refused beyond
// ---------------------------------------------------------------

/// Nodes of a document with its aliases written out; some 100 bytes each while it is read.
constexpr std::uint64_t document_nodes = 10'000'000;
/// Levels of a document; deeper ones are attacks on a stack.
constexpr std::size_t document_depth = 64;
/// Bytes that parameters add to a document.
constexpr std::size_t parameter_bytes = 100'000'000;
/// Machines of one entry with `count`, and all their parts together.
constexpr std::uint64_t clones = 10'000;
constexpr std::uint64_t clone_parts = 2'000'000;
/// Wires of one bond.
constexpr std::size_t bond_members = 16;
/// Entries that are like each other in a row.
constexpr int alike = 16;
/// Problems that are told of one plan.
constexpr std::size_t problems = 1000;
/// Unknown names of one kind for which the nearest known one is looked for.
constexpr int suggestions = 50;
/// Bytes of a plan's text.
constexpr std::size_t plan_bytes = 64 << 20;

// --- a plan: refused beyond
// -----------------------------------------------------------------------

/// Addresses that the rules and translations of a plan name in all.
constexpr std::size_t named_addresses = 2'000'000;
/// Peerings, and routes that they bring: each site's routes to all subnets of its peers.
constexpr std::size_t peerings = 4096;
constexpr std::size_t implied_routes = 1'000'000;

// --- a lab: kept apart or left out beyond
// ---------------------------------------------------------

/// Entries that the indexes of all filters may have together, of some 150 bytes each at most; a
/// rule beyond is tried one after another.
constexpr std::size_t filter_entries = 2'000'000;
/// Translations of one machine that are compared with those before them.
constexpr std::size_t compared_translations = 1'000;
/// Rows of all labs that are built to try remedies.
constexpr std::size_t tried_rows = 200'000;
/// Findings whose remedies are searched for; whoever has more mends the first and asks again.
constexpr int worked_out_remedies = 200;

// --- routing protocols: what is beyond is missing in all tables, and check says so
// ----------------

/// Machines on one segment that are looked at as neighbours of each other.
constexpr std::size_t speakers_on_segment = 1'000;
/// OSPF: pairs of neighbours; ways of routers to each other in one area; summaries and external
/// routes.
constexpr std::size_t ospf_pairs = 2'000'000;
constexpr std::size_t ospf_ways = 450'000'000;
constexpr std::size_t ospf_adverts = 20'000'000;
/// RIP: pairs of neighbours, and times that one hears of a prefix.
constexpr std::size_t rip_pairs = 2'000'000;
constexpr std::size_t rip_news = 200'000'000;
/// BGP: paths that are looked at.
constexpr std::size_t bgp_paths = 50'000'000;
/// Routes that are looked through for what is redistributed.
constexpr std::size_t redistributed = 50'000'000;
/// Times that protocols hand routes to each other before it counts as a dispute.
constexpr int handover_rounds = 16;

// --- packets and questions
// ------------------------------------------------------------------------

/// Tunnels inside tunnels. Whoever sends a tunnel's outer packets into that tunnel gets no further.
constexpr int nested_tunnels = 4;
/// Pairs that one expectation covers; more must be split.
constexpr std::size_t expected_pairs = 1'000'000;
/// Causes and places of missing replies that check explains.
constexpr std::size_t explained_gaps = 200;
/// Pairs of machines that check asks one by one: if it has a matrix of all; if it has none; and if
/// it has one of the guests. Addresses whose matrix it has, and those of guests if all are more.
/// Pairs of subnets that one row of sites asks.
constexpr std::size_t checked_pairs = 5'000'000;
constexpr std::size_t checked_walks = 250'000;
constexpr std::size_t checked_others = 25'000;
constexpr std::size_t checked_ends = 4'000;
constexpr std::size_t checked_guests = 12'000;
constexpr std::size_t site_pairs = 10'000;
/// Words of 64 pairs of a matrix of all pairs, and pairs of it that are walked.
constexpr std::size_t matrix_words = 32 << 20;
constexpr std::uint64_t walked_pairs = 2'000'000;
/// Cells of a grid of pairs, pairs in it of machines that are like no other, and pairs without a
/// reply that are looked into.
constexpr std::size_t grid_cells = 1'000'000;
constexpr std::size_t grid_counts = 10'000'000;
constexpr std::size_t gap_walks = 100'000;
/// Ranges of ports that rules tell apart, where each is asked for by itself.
constexpr std::size_t service_classes = 500;
/// Sites, subnets and NICs whose reach is written as expectations.
constexpr std::size_t frozen_ends = 2'000;
/// Cuts, or pairs of cuts, that one sweep looks into.
constexpr std::size_t sweep_cuts = 200'000;
/// Of one cut, and of all of a sweep: pairs of subnets whose losses are kept.
constexpr std::size_t cut_losses = 1'000;
constexpr std::size_t sweep_losses = 10'000'000;
/// Labs that are built to mend one ping, or one finding.
constexpr std::size_t mending_labs = 60;
/// Cards of a picture; what is further from its middle is left out, and the picture says so.
constexpr std::size_t drawn_cards = 150;
/// Rows of one of its cards; the others become one.
constexpr std::size_t drawn_rows = 60;
/// Ends whose pairs a page tells of one by one, and pings that it asks under cuts.
constexpr std::size_t page_ends = 120;
constexpr std::size_t page_walks = 100'000;
/// Pings that the script of a lab asks.
constexpr std::size_t script_pings = 10'000;
/// Machines of a lab in which each one's hosts(5) lists all others.
constexpr std::size_t machines_in_hosts = 250;

} // namespace jackal::limits
