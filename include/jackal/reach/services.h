// Which services get through between subnets, sites or machines, whether or not anything listens.
//
//     for (const reach::Through& through : grid.cell(from, to).through)
//         … through.pairs pairs are let have through.services
//
// A service gets through if its packet arrives, and an answer would. Ports are not tried one by
// one: the rules of filters and translations name ranges of them, and what no rule tells apart is
// one service class, asked once (reach/matrix.h). So the answer is exact for every port.
#pragma once

#include "jackal/api.h"
#include "jackal/reach/grid.h"

namespace jackal::reach {

/// Echo requests, or a range of ports.
struct ServiceRange {
    net::Protocol protocol = net::Protocol::icmp; ///< icmp, tcp or udp
    net::Ports ports;                             ///< of tcp and udp

    friend bool operator==(const ServiceRange&, const ServiceRange&) = default;
};

/// "icmp, tcp, udp/53-67": by protocol and port, ranges side by side joined. "everything" for all
/// of icmp, TCP and UDP; "nothing" for none.
JACKAL_API std::string to_string(const std::vector<ServiceRange>& services);

/// The classes of services that no rule of the lab tells apart: echo requests, then TCP, then UDP.
JACKAL_API std::vector<ServiceRange> service_classes(const lab::Lab& lab);

/// Pairs between which the same gets through.
struct Through {
    std::uint64_t pairs = 0;
    std::vector<ServiceRange> services; ///< joined, in order
};

struct ServicesCell {
    std::vector<Through> through; ///< that of most pairs first; empty if there are no pairs
};

struct ServicesGrid {
    std::vector<std::string> rows;    ///< who asks
    std::vector<std::string> columns; ///< who is asked
    std::vector<ServicesCell> cells;  ///< row by row

    const ServicesCell& cell(std::size_t row, std::size_t column) const {
        return cells[row * columns.size() + column];
    }
};

/// What gets through; `question.service` is not asked. Throws as grid() does, and std::length_error
/// if the rules tell more than limits::service_classes apart.
JACKAL_API ServicesGrid
services(const routing::Settled& settled, const GridQuestion& question,
         const std::function<void(std::size_t, std::size_t)>& progress = {});

} // namespace jackal::reach
