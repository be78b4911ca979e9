#include "jackal/routing/settled.h"

jackal::routing::Settled settled(const jackal::lab::Lab& lab) {
    jackal::routing::Condition condition(lab);
#ifdef MISTAKE
    return jackal::routing::settle(jackal::lab::Lab(lab), condition);
#else
    return jackal::routing::settle(lab, condition);
#endif
}
