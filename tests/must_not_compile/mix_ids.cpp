#include "jackal/lab/lab.h"

bool is_up(const jackal::lab::Lab& lab, jackal::lab::MachineId machine) {
#ifdef MISTAKE
    return lab.nics[machine].up;
#else
    return lab.machines[machine].up;
#endif
}
