// The whole of Jackal: plan a network lab, and ask what its packets would do.
//
//     auto reading = jackal::plan::read_file("demo/skerry.yaml");
//     jackal::lab::Lab lab = jackal::lab::build(*reading.plan);
//     jackal::routing::Settled settled = jackal::routing::settle(lab);
//     auto answer = jackal::probe::ping(settled, *jackal::probe::question(lab, "helm", "kettle"));
//
// Each stage is a value made from the one before: a plan is what the builder wrote, a lab what it
// means, settled what each machine knows under one condition, an answer what happens to packets.
// Nothing here prints, reads a clock, or touches a file, but for plan::read_file.
#pragma once

#include "jackal/editor/completion.h"
#include "jackal/editor/outline.h"
#include "jackal/editor/position.h"
#include "jackal/editor/view.h"
#include "jackal/export/changes.h"
#include "jackal/export/csv.h"
#include "jackal/export/drawing.h"
#include "jackal/export/json.h"
#include "jackal/export/namespaces.h"
#include "jackal/export/pin.h"
#include "jackal/export/reports.h"
#include "jackal/export/starter.h"
#include "jackal/export/words.h"
#include "jackal/lab/build.h"
#include "jackal/lab/finding.h"
#include "jackal/lab/peering.h"
#include "jackal/lab/place.h"
#include "jackal/lab/start_order.h"
#include "jackal/lab/usage.h"
#include "jackal/lab/why.h"
#include "jackal/lab/wiring.h"
#include "jackal/mend/remedies.h"
#include "jackal/mend/search.h"
#include "jackal/net/place.h"
#include "jackal/net/special_use.h"
#include "jackal/packet/decide.h"
#include "jackal/packet/icmp.h"
#include "jackal/packet/source.h"
#include "jackal/packet/tunnel.h"
#include "jackal/packet/walk.h"
#include "jackal/plan/complete.h"
#include "jackal/plan/edit.h"
#include "jackal/plan/read.h"
#include "jackal/plan/rewrite.h"
#include "jackal/plan/sites.h"
#include "jackal/plan/validate.h"
#include "jackal/probe/question.h"
#include "jackal/probe/timeline.h"
#include "jackal/probe/trace.h"
#include "jackal/reach/check.h"
#include "jackal/reach/compare.h"
#include "jackal/reach/expectations.h"
#include "jackal/reach/grid.h"
#include "jackal/reach/matrix.h"
#include "jackal/reach/services.h"
#include "jackal/reach/sites.h"
#include "jackal/reach/sweep.h"
#include "jackal/reach/verify.h"
#include "jackal/reach/ways.h"
#include "jackal/routing/discord.h"
#include "jackal/routing/settled.h"
#include "jackal/version.h"
