// Whether pings get their replies, from a matrix instead of a walk each.
#pragma once

#include "jackal/probe/exchange.h"
#include "jackal/reach/matrix.h"

#include <map>

namespace jackal::reach {

/// Refers to what it is made from.
class Foreseen {
  public:
    /// False where chance has a say: on links that lose packets.
    static bool is_possible(const lab::Lab& lab);

    /// For questions between machines of `ones` and of `others`, for the service or for pings.
    Foreseen(const routing::Settled& settled, const std::vector<probe::Endpoint>& ones,
             const std::vector<probe::Endpoint>& others, std::optional<net::Service> service,
             unsigned threads);

    /// Whether the question gets its reply; nothing if only a walk tells.
    std::optional<bool> reaches(const probe::PingQuestion& question) const;

    /// Where in the matrix of the family the addresses of a machine stand, or those of `nic` if it
    /// is given: one of them is meant whoever asks. Empty if there are none, or not all are there.
    std::vector<std::size_t> ends(lab::MachineId machine, lab::NicId nic, net::Family family) const;
    const Matrix& matrix(net::Family family) const { return matrices_[family]; }

  private:
    void add_matrix(net::Family family, const std::vector<lab::AddressId>& all,
                    const Asking& asking);
    std::optional<std::size_t> place(lab::MachineId machine, net::Address address) const;

    const routing::Settled& settled_;
    const lab::Lab& lab_;
    std::vector<std::size_t> places_; // by address, in the matrix of its family
    lab::PerFamily<Matrix> matrices_;
};

} // namespace jackal::reach
