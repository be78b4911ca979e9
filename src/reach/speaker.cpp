#include "speaker.h"

namespace jackal::reach {

using lab::Lab;
using lab::NicId;

std::optional<NicId> speaker(const routing::Settled& settled, const lab::Subnet& subnet) {
    const Lab& lab = settled.lab();
    std::optional<NicId> other;
    for (NicId nic : lab.segments[subnet.segment].nics) {
        if (!settled.is_usable(nic) || lab.nics[nic].address_count == 0)
            continue;
        if (is_guest(lab, nic))
            return nic;
        if (!other)
            other = nic;
    }
    return other;
}

} // namespace jackal::reach
