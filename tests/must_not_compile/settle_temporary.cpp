#include "jackal/lab/build.h"
#include "jackal/routing/settled.h"

jackal::routing::Settled settled(const jackal::plan::Plan& plan) {
    jackal::lab::Lab lab = jackal::lab::build(plan);
#ifdef MISTAKE
    return jackal::routing::settle(jackal::lab::build(plan));
#else
    return jackal::routing::settle(lab);
#endif
}
