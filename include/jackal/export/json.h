// Answers as JSON (RFC 8259), for programs. Keys are stable and described in docs/json.md.
//
// Every function gives one JSON text, indented by two spaces, without a final line break. Text
// that is not UTF-8 cannot occur, as plan files are UTF-8 throughout.
#pragma once

#include "jackal/lab/usage.h"
#include "jackal/probe/mend.h"
#include "jackal/probe/trace.h"
#include "jackal/probe/verify.h"
#include "jackal/reach/check.h"

namespace jackal::exports {

std::string check_json(const plan::Plan& plan, const lab::Lab& lab, const reach::Check& check);
std::string addresses_json(const lab::Lab& lab);
std::string machines_json(const lab::Lab& lab);
/// The routes of the machines; with `destination` only the one that each uses for it.
std::string routes_json(const routing::Settled& settled,
                        const std::vector<lab::MachineId>& machines,
                        std::optional<net::Address> destination);
/// `mending` is left out of the answer if it is null.
std::string ping_json(const plan::Plan& plan, const routing::Settled& settled,
                      const probe::PingAnswer& answer, const probe::Mending* mending);
std::string trace_json(const plan::Plan& plan, const routing::Settled& settled,
                       const probe::TraceAnswer& answer, const probe::Mending* mending);
std::string verify_json(const lab::Lab& lab, const std::vector<probe::Verdict>& verdicts);

} // namespace jackal::exports
