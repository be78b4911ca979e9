// Made-up labs: routers in some shape, subnets on them, guests on those, routes that work, and then
// some of the mistakes that builders make.
#pragma once

#include "json.h"

#include <cstdint>

namespace judge {

/// Small, seeded, and the same on every machine: SplitMix64 (Steele, Lea, Flood 2014).
class Random {
  public:
    explicit Random(std::uint64_t seed) : state_(seed) {}

    std::uint64_t next() {
        std::uint64_t z = state_ += 0x9e3779b97f4a7c15;
        z = (z ^ z >> 30) * 0xbf58476d1ce4e5b9;
        z = (z ^ z >> 27) * 0x94d049bb133111eb;
        return z ^ z >> 31;
    }
    /// From 0 to n - 1.
    int below(std::size_t n) { return static_cast<int>(next() % n); }
    /// From low to high.
    int between(int low, int high) { return low + below(static_cast<std::size_t>(high - low + 1)); }
    bool percent(int chance) { return below(100) < chance; }
    template <class List>
    auto& any_of(List& list) {
        return list[static_cast<std::size_t>(below(list.size()))];
    }

  private:
    std::uint64_t state_;
};

/// A plan of 4 to 20 machines, as JSON, which is YAML. The same seed gives the same plan. With
/// `with_protocols` the routers speak routing protocols, else those of about every third plan do.
Json random_lab(std::uint64_t seed, bool with_protocols = false);

/// Has the routers r0, r1, … of a plan speak routing protocols, and makes some mistakes in them.
/// `quick`: with short intervals, so that real daemons settle soon.
void add_protocols(Json& plan, Random& random, bool quick);

/// The same of several sites.
Json random_sites(std::uint64_t seed);

/// One of these. Some have on every subnet a few guests more that are alike.
Json random_any(std::uint64_t seed);

} // namespace judge
