#include "jackal/plan/edit.h"

jackal::plan::Edit edit() {
#ifdef MISTAKE
    return jackal::plan::Edit(jackal::plan::Machine{});
#else
    return jackal::plan::Edit(jackal::plan::set_forwards(jackal::plan::Plan{}, "ridge-r1", true));
#endif
}
