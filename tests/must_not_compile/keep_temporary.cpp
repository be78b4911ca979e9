#include "jackal/lab/usage.h"

void keep(const jackal::lab::Lab& lab) {
#ifdef MISTAKE
    jackal::lab::AddressMap map{jackal::lab::Lab(lab)};
#else
    jackal::lab::AddressMap map{lab};
#endif
}
