// All prefixes that any machine of a lab may have a route for, numbered in ascending order.
#pragma once

#include "jackal/lab/lab.h"
#include "jackal/net/prefix_table.h"

namespace jackal::routing {

class PrefixNumbers {
  public:
    static constexpr std::uint32_t none = net::PrefixTable::none;

    explicit PrefixNumbers(const lab::Lab& lab);

    std::uint32_t size() const { return static_cast<std::uint32_t>(prefixes_.size()); }
    const net::Prefix& operator[](std::uint32_t number) const { return prefixes_[number]; }
    /// The longest shorter one that holds it, or none.
    std::uint32_t around(std::uint32_t number) const { return shorter_[number]; }
    /// The longest that holds the address, or none.
    std::uint32_t lookup(net::Address address) const { return table_.lookup(address); }
    /// The number of that prefix, from `first` on; it must be there.
    std::uint32_t find(const net::Prefix& prefix, std::uint32_t first = 0) const;
    /// The number of that prefix, or none.
    std::uint32_t number(const net::Prefix& prefix) const;

  private:
    std::vector<net::Prefix> prefixes_;
    std::vector<std::uint32_t> shorter_;
    net::PrefixTable table_;
};

} // namespace jackal::routing
