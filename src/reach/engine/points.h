// The machines that filter what passes them, as lists along packets' ways.
#pragma once

#include "jackal/lab/lab.h"

#include <array>
#include <unordered_map>
#include <vector>

namespace jackal::reach {

/// A filter that a packet must pass, and in which way.
struct FilterCheck {
    lab::FilterId filter;
    plan::Way way = plan::Way::in;

    friend auto operator<=>(const FilterCheck&, const FilterCheck&) = default;
};

/// Lists of the filtering machines that a packet passes, the nearest first. Equal lists have equal
/// numbers; 0 is the empty one. A list has a larger number than the rest of it.
class Points {
  public:
    /// A machine that filters anything, and what it asks of this packet: perhaps nothing, but it
    /// has seen it then.
    struct Point {
        lab::MachineId machine;
        bool is_sender = false;
        std::vector<FilterCheck> checks;
    };

    explicit Points(const lab::Lab& lab);

    /// `rest` behind the machine, which the packet enters and leaves by these NICs; `in` is none at
    /// its sender.
    std::uint32_t with(lab::MachineId machine, lab::NicId in, lab::NicId out, std::uint32_t rest);

    const Point& first(std::uint32_t list) const { return points_[lists_[list].point]; }
    std::uint32_t rest(std::uint32_t list) const { return lists_[list].rest; }
    std::size_t size() const { return lists_.size(); }

    /// What the machines of the one list ask, but for those that are in the other, and for senders.
    std::vector<FilterCheck> beside(std::uint32_t list, std::uint32_t other) const;

    /// True if a list of these is one of the others.
    bool is_same(std::uint32_t list, const Points& others, std::uint32_t other) const;

    /// Takes in the lists of another, of the same lab: their numbers here.
    std::vector<std::uint32_t> merge(const Points& other);

    /// What is asked of a packet that the machine takes, if it came in by that NIC.
    static std::vector<FilterCheck> at_end(const lab::Lab& lab, lab::NicId in);
    /// What is asked of a packet that it sends by that NIC.
    static std::vector<FilterCheck> at_start(const lab::Lab& lab, lab::NicId out);

  private:
    using PointKey = std::array<std::uint32_t, 3>; // machine, guards on the way in and out
    struct List {
        std::uint32_t point;
        std::uint32_t rest;
    };
    struct Hash {
        std::size_t operator()(const std::array<std::uint32_t, 3>& key) const;
    };
    std::uint32_t with(const PointKey& key, bool is_sender, std::uint32_t rest);

    const lab::Lab* lab_;
    std::vector<bool> filters_; // by machine
    std::vector<Point> points_;
    std::vector<PointKey> keys_;                                         // of the points
    std::unordered_map<PointKey, std::uint32_t, Hash> point_numbers_[2]; // on the way; at senders
    std::vector<List> lists_;
    std::unordered_map<PointKey, std::uint32_t, Hash> list_numbers_; // by point and rest
};

} // namespace jackal::reach
