// Finds the row of a table by the name in it.
//
// Open addressing with linear probing over pairs of a hash and a row number; the names themselves
// stay in the table. 8 bytes a slot, at most half of them taken; find and add cost O(1).
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string_view>
#include <vector>

namespace jackal::plan {

/// See above. Threads may share one that none of them changes.
class NameIndex {
  public:
    /// Enters `row` under `name`, unless a row of that name is there already; then nothing
    /// happens and false comes back. `name_of(row)` gives the name of a row entered before.
    template <class NameOf>
    bool add(std::uint32_t row, std::string_view name, NameOf name_of) {
        if (2 * (count_ + 1) > slots_.size())
            grow();
        std::uint32_t hash = hash_of(name);
        std::size_t at = hash & (slots_.size() - 1);
        for (; slots_[at].row != empty; at = (at + 1) & (slots_.size() - 1))
            if (slots_[at].hash == hash && name_of(slots_[at].row) == name)
                return false;
        slots_[at] = {hash, row};
        ++count_;
        return true;
    }

    /// The row with that name, or nothing.
    template <class NameOf>
    std::optional<std::uint32_t> find(std::string_view name, NameOf name_of) const {
        if (slots_.empty())
            return std::nullopt;
        std::uint32_t hash = hash_of(name);
        std::size_t at = hash & (slots_.size() - 1);
        for (; slots_[at].row != empty; at = (at + 1) & (slots_.size() - 1))
            if (slots_[at].hash == hash && name_of(slots_[at].row) == name)
                return slots_[at].row;
        return std::nullopt;
    }

  private:
    static constexpr std::uint32_t empty = ~std::uint32_t{0};

    struct Slot {
        std::uint32_t hash = 0;
        std::uint32_t row = empty;
    };

    static std::uint32_t hash_of(std::string_view name) {
        return static_cast<std::uint32_t>(std::hash<std::string_view>{}(name));
    }

    void grow() {
        std::vector<Slot> old(slots_.empty() ? 16 : 2 * slots_.size());
        old.swap(slots_);
        for (const Slot& slot : old) {
            if (slot.row == empty)
                continue;
            std::size_t at = slot.hash & (slots_.size() - 1);
            while (slots_[at].row != empty)
                at = (at + 1) & (slots_.size() - 1);
            slots_[at] = slot;
        }
    }

    std::vector<Slot> slots_; // their number is a power of two
    std::size_t count_ = 0;
};

} // namespace jackal::plan
