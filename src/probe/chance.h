// What becomes of packets by chance on the links that they cross.
#pragma once

#include "jackal/probe/exchange.h"
#include "probe/links.h"

#include <vector>

namespace jackal::probe {

/// A link that a packet crosses, or is lost on.
struct Crossed {
    bool lost = false;
    Microseconds jitter{0};
};

/// SplitMix64 (Steele, Lea, Flood 2014): small, seeded by any number.
class Chance {
  public:
    explicit Chance(std::uint64_t seed) : state_(seed) {}

    /// What becomes of the next packet on the journey, in the order of each_link().
    std::vector<Crossed> draw(const lab::Lab& lab, const packet::Journey& journey) {
        std::vector<Crossed> crossed;
        each_link(lab, journey, [&](const lab::Link& link) { crossed.push_back(cross(link)); });
        return crossed;
    }

    /// The same for who only asks whether it gets there; its jitter is added to `time`.
    bool pass(const lab::Lab& lab, const packet::Journey& journey, Microseconds& time) {
        bool arrives = true;
        each_link(lab, journey, [&](const lab::Link& link) {
            const Crossed crossed = cross(link);
            arrives = arrives && !crossed.lost;
            time += crossed.jitter;
        });
        return arrives;
    }

  private:
    Crossed cross(const lab::Link& link) {
        const bool lost = next() < link.loss;
        return {lost, Microseconds(link.jitter) * next()};
    }

    // Uniform in [0, 1).
    double next() {
        std::uint64_t z = state_ += 0x9e3779b97f4a7c15;
        z = (z ^ z >> 30) * 0xbf58476d1ce4e5b9;
        z = (z ^ z >> 27) * 0x94d049bb133111eb;
        return static_cast<double>((z ^ z >> 31) >> 11) * 0x1.0p-53;
    }

    std::uint64_t state_;
};

} // namespace jackal::probe
