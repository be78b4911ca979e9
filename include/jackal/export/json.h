// Answers as JSON (RFC 8259), for programs. Keys are stable and described in docs/json.md.
//
// Every function gives one JSON text, indented by two spaces, without a final line break. Text
// that is not UTF-8 cannot occur, as plan files are UTF-8 throughout.
#pragma once

#include "jackal/api.h"
#include "jackal/export/pin.h"
#include "jackal/export/words.h"
#include "jackal/mend/remedies.h"
#include "jackal/probe/question.h"
#include "jackal/probe/timeline.h"
#include "jackal/probe/trace.h"
#include "jackal/reach/check.h"
#include "jackal/reach/compare.h"
#include "jackal/reach/drift.h"
#include "jackal/reach/grid.h"
#include "jackal/reach/services.h"
#include "jackal/reach/sites.h"
#include "jackal/reach/sweep.h"
#include "jackal/reach/verify.h"
#include "jackal/reach/ways.h"

namespace jackal::exports {

/// Where a JSON text that others wrote nests deeper than limits::document_depth, counted from 0, or
/// nothing: deeper ones are attacks on a stack, and are not to be parsed.
JACKAL_API std::optional<std::size_t> too_deep_at(std::string_view text);

/// The answer under a cut, an object, with that of the whole lab as its key `whole`.
JACKAL_API std::string with_whole(const std::string& answer, const std::string& whole);

/// `difference` is that of the plan file, and `written` whether it has been carried out there.
JACKAL_API std::string mend_json(const plan::Plan& plan, const mend::Outcome& outcome,
                                 std::string_view difference, bool written);

JACKAL_API std::string check_json(const lab::Lab& lab, const reach::Check& check);
JACKAL_API std::string addresses_json(const lab::Lab& lab);
JACKAL_API std::string rooms_json(const lab::Lab& lab, const std::vector<lab::Room>& rooms);
JACKAL_API std::string whose_json(const lab::Lab& lab, net::Address address,
                                  const lab::Whose& whose);
JACKAL_API std::string machines_json(const lab::Lab& lab);
/// `peerings`: those to tell of.
JACKAL_API std::string peerings_json(const routing::Settled& settled,
                                     const std::vector<lab::PeeringId>& peerings);
JACKAL_API std::string sites_json(const lab::Lab& lab, const reach::SiteReach& reach);
JACKAL_API std::string compare_json(const lab::Lab& before, const lab::Lab& after,
                                    const reach::Comparison& comparison);
/// The cuts in their order; all of them, harmful or not.
JACKAL_API std::string drift_json(const lab::Lab& lab, const reach::Drift& drift);
JACKAL_API std::string sweep_json(const lab::Lab& lab, const reach::SweepQuestion& question,
                                  const reach::Sweep& sweep);
/// Cells without pairs are left out.
JACKAL_API std::string grid_json(const lab::Lab& lab, const reach::GridQuestion& question,
                                 const reach::Grid& grid);
/// The same of services.
JACKAL_API std::string services_json(const lab::Lab& lab, const reach::GridQuestion& question,
                                     const reach::ServicesGrid& grid);
JACKAL_API std::string ways_json(const lab::Lab& lab, lab::SiteId one, lab::SiteId other,
                                 const std::vector<reach::Way>& ways);
JACKAL_API std::string start_order_json(const lab::Lab& lab);
/// `written` tells whether the plan file has been changed.
JACKAL_API std::string renumbering_json(const Renumbering& renumbering, bool written);
JACKAL_API std::string why_json(const plan::Plan& plan, const std::string& name,
                                const std::vector<Why>& whys);
/// The routes of the machines; with `destination` only the one that each uses for it.
JACKAL_API std::string routes_json(const routing::Settled& settled,
                                   const std::vector<lab::MachineId>& machines,
                                   std::optional<net::Address> destination);
/// How the machine came to know its route to the destination.
JACKAL_API std::string provenance_json(const routing::Settled& settled, lab::MachineId machine,
                                       net::Address destination,
                                       const routing::Provenance& provenance,
                                       const mend::Mending* mending);
/// Who exchanges routes with whom, and why others do not.
JACKAL_API std::string neighbours_json(const routing::Settled& settled,
                                       const std::vector<routing::Neighbour>& neighbours);
/// What each machine announces to the neighbour; by RIP and BGP.
JACKAL_API std::string announced_json(const routing::Settled& settled,
                                      const std::vector<routing::Neighbour>& neighbours);
/// The link-state databases of the machines.
JACKAL_API std::string link_states_json(const routing::Settled& settled,
                                        const std::vector<lab::MachineId>& machines);
/// The stretches of a continuous ping, the events, and when machines went by new tables.
JACKAL_API std::string timeline_json(const lab::Lab& lab, const probe::TimelineQuestion& question,
                                     const probe::Timeline& timeline);
/// The answers by all combinations of equal next hops (probe::ping_every_way).
JACKAL_API std::string ways_of_ping_json(const routing::Settled& settled,
                                         const std::vector<probe::PingAnswer>& answers);
/// `mending` is left out of the answer if it is null.
JACKAL_API std::string ping_json(const routing::Settled& settled, const probe::PingAnswer& answer,
                                 const mend::Mending* mending);
JACKAL_API std::string trace_json(const routing::Settled& settled, const probe::TraceAnswer& answer,
                                  const mend::Mending* mending);
JACKAL_API std::string verify_json(const lab::Lab& lab,
                                   const std::vector<reach::Verdict>& verdicts);

} // namespace jackal::exports
