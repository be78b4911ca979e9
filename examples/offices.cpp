// Plans the addresses of an organisation of 200 offices from one /12, without a plan file: for each
// office a network for desks, one for printers, and a link to the head office.
#include "jackal/net/place.h"

#include <iostream>

using namespace jackal;

int main() {
    const net::Prefix space = *net::parse_prefix("172.16.0.0/12");
    const net::Prefix old_network = *net::parse_prefix("172.16.4.0/22"); // stays where it is

    std::vector<net::PlaceWish> wishes;
    for (unsigned office = 0; office < 200; ++office) {
        unsigned desks = 20 + office * 7 % 180;
        wishes.push_back({net::Family::ipv4, net::length_for_hosts(desks * 3 / 2 + 1)});
        wishes.push_back({net::Family::ipv4, net::length_for_hosts(12)});
        wishes.push_back({net::Family::ipv4, 31}); // RFC 3021
    }
    net::Placements placed = net::place({&space, 1}, {&old_network, 1}, wishes);

    for (std::size_t office : {0, 1, 2, 199})
        std::cout << "office " << office << ": desks "
                  << net::to_string(*placed.prefixes[3 * office]) << ", printers "
                  << net::to_string(*placed.prefixes[3 * office + 1]) << ", link "
                  << net::to_string(*placed.prefixes[3 * office + 2]) << '\n';
    std::cout << placed.shortages.size() << " wishes without room\nfree:";
    for (const net::Prefix& block : placed.free)
        std::cout << ' ' << net::to_string(block);
    std::cout << '\n';
}
