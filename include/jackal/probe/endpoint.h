// The ends of a question, by name.
#pragma once

#include "jackal/api.h"
#include "jackal/lab/lab.h"

namespace jackal::probe {

/// One end of a question: a machine, one NIC of it, or an address that may be nobody's.
struct Endpoint {
    std::string name;                    ///< as it was asked for
    lab::MachineId machine;              ///< none for an address that no machine has
    lab::NicId nic;                      ///< set if the question names the NIC or its address
    std::optional<net::Address> address; ///< set if the question gives the address
};

/// The end that `text` means: `MACHINE`, `MACHINE/NIC` or an address. Nothing if the lab has no
/// such machine or NIC; an address is always an end.
JACKAL_API std::optional<Endpoint> endpoint(const lab::Lab& lab, std::string_view text);

/// Why endpoint() gave nothing, with the nearest known name.
JACKAL_API std::string unknown_endpoint(const lab::Lab& lab, std::string_view text);

/// The address of the family that `to` means for whoever asks from `from`, or for anybody if that
/// is empty: where only a machine is named, one on a segment that both share, else the first that
/// is not on an uplink (of a machine of the lab), else the first, in the order of its NICs. One on
/// a way out of its own stands for no machine. Nothing if there is none.
JACKAL_API const lab::InterfaceAddress* address_for(const lab::Lab& lab, const Endpoint& from,
                                                    const Endpoint& to, net::Family family);

/// The first address of the family at an end, in the order of its NICs, or nothing.
JACKAL_API const lab::InterfaceAddress* address_at(const lab::Lab& lab, const Endpoint& end,
                                                   net::Family family);

/// Every machine that `text` means: one machine or NIC or address, all guests on a subnet (its
/// routers if it has no guests), or those of all subnets of a site. Empty if it means nothing.
JACKAL_API std::vector<Endpoint> endpoints(const lab::Lab& lab, std::string_view text);

/// The same of a subnet.
JACKAL_API std::vector<Endpoint> endpoints_on(const lab::Lab& lab, lab::SubnetId subnet);

/// Who asks whom for `ping: [FROM, TO]`: everyone whom the one name means everyone whom the other
/// does. A machine does not ask itself, unless both names are of no subnet or site.
struct Asked {
    std::vector<Endpoint> from; ///< those of a subnet or site each once, from whichever NIC
    std::vector<Endpoint> to;
    bool itself = false; ///< a machine may ask itself

    std::size_t most_pairs() const { return from.size() * to.size(); }
    template <class Use>
    void each(Use use) const {
        for (const Endpoint& one : from)
            for (const Endpoint& other : to)
                if (itself || one.machine != other.machine)
                    use(one, other);
    }
};

JACKAL_API Asked asked(const lab::Lab& lab, std::string_view from, std::string_view to);

} // namespace jackal::probe
