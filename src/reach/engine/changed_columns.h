// What becomes of the columns where little of the lab changes: the machines whose next hops for a
// target are others now, those upstream of them, and nobody else, are followed anew.
#pragma once

#include "reach/engine/columns.h"
#include "routing/table_changes.h"

#include <atomic>
#include <mutex>
#include <unordered_map>

namespace jackal::reach {

/// What is looked up for every change. Refers to what it is made from; threads may share one.
class ColumnIndex {
  public:
    /// Of what becomes of packets for some prefixes besides, it is told where machines send them
    /// otherwise.
    ColumnIndex(const routing::Settled& settled, const Columns& columns,
                const std::vector<lab::AddressId>& ends,
                const std::vector<std::uint32_t>& more_prefixes);

    const routing::Settled& settled() const { return settled_; }
    const Columns& columns() const { return columns_; }
    /// Prefixes that lead to targets which are not walked, ascending; and the targets of one.
    const std::vector<std::uint32_t>& prefixes() const { return prefixes_; }
    std::span<const std::uint32_t> targets(std::uint32_t prefix) const {
        return prefix < targets_.size() ? targets_[prefix] : std::span<const std::uint32_t>();
    }
    /// Machines that packets may pass, or that send from entrances of their own; by machine.
    const std::vector<bool>& counted() const { return counted_; }
    /// Who of them sends packets for a target to whom.
    class Senders {
      public:
        std::span<const lab::MachineId> to(lab::MachineId machine) const {
            return std::span(senders_).subspan(first_[machine.row],
                                               first_[machine.row + 1] - first_[machine.row]);
        }
        /// Where requests to the target go on from an entrance, if that was kept.
        std::optional<Column::Onward> onward(std::uint32_t entrance) const;
        void keep(std::uint32_t entrance, const Column::Onward& onward) const;

      private:
        friend class ColumnIndex;
        std::vector<std::uint32_t> first_; // by machine, and the end
        std::vector<lab::MachineId> senders_;
        mutable std::vector<std::atomic<std::uint64_t>> onward_; // by entrance; 0 is not known
    };
    std::shared_ptr<const Senders> senders(std::uint32_t target) const;
    /// The entrance at a place, or nowhere.
    std::uint32_t entrance_at(Doors::Place place) const { return entrance_at_[place]; }
    /// Entrances in front of a machine.
    const std::vector<std::uint32_t>& entrances(lab::MachineId machine) const {
        return entrances_[machine.row];
    }
    /// Classes that are at a machine, but for those that are hosts.
    const std::vector<std::uint32_t>& others(lab::MachineId machine) const {
        return others_[machine.row];
    }
    /// Classes of hosts whose first member is the machine.
    const std::vector<std::uint32_t>& hosts(lab::MachineId machine) const {
        return hosts_[machine.row];
    }
    bool is_host(lab::MachineId machine) const { return is_host_[machine.row]; }
    /// Equal for targets that share what becomes of packets to them.
    std::uint32_t column(std::uint32_t target) const { return column_of_[target]; }
    /// Entrances that a class which is no host may answer from.
    const std::vector<std::uint32_t>& answering(std::uint32_t c) const { return answering_[c]; }
    /// Classes that may answer from the entrance.
    const std::vector<std::uint32_t>& answerers(std::uint32_t entrance) const {
        return answerers_[entrance];
    }

  private:
    std::shared_ptr<const Senders> senders_to(const routing::Aim& aim) const;

    const routing::Settled& settled_;
    const Columns& columns_;
    std::vector<std::uint32_t> prefixes_;
    std::vector<std::vector<std::uint32_t>> targets_; // by prefix
    std::vector<bool> counted_;
    // By the column that targets share: as many as are worth keeping.
    mutable std::mutex kept_mutex_;
    mutable std::unordered_map<const Columns::Fates*, std::shared_ptr<const Senders>> kept_;
    mutable std::size_t kept_words_ = 0;
    std::vector<std::uint32_t> entrance_at_;            // by place
    std::vector<std::vector<std::uint32_t>> entrances_; // by machine
    std::vector<std::vector<std::uint32_t>> others_;    // by machine
    std::vector<std::vector<std::uint32_t>> hosts_;     // by machine
    std::vector<bool> is_host_;                         // by machine
    std::vector<std::uint32_t> column_of_;              // by class; hosts share them alone
    std::vector<std::vector<std::uint32_t>> answering_; // by class
    std::vector<std::vector<std::uint32_t>> answerers_; // by entrance
};

/// See above. Refers to what it is made from.
class ChangedColumns {
  public:
    static constexpr std::uint32_t none = ~std::uint32_t{0};

    /// `column` makes columns; its lists of points go on from those of the index.
    ChangedColumns(const ColumnIndex& index, const routing::Settled& without, Column& column);

    /// False if the classes may be others, or the wiring: all has to be worked out anew.
    bool is_known() const { return is_known_; }

    /// Targets for which the same changes.
    struct Unit {
        std::vector<std::uint32_t> classes; ///< ascending
        /// The same, as first and behind the last of those side by side.
        std::vector<std::pair<std::uint32_t, std::uint32_t>> stretches;
        std::vector<lab::MachineId> moved; ///< machines that may send otherwise
        /// Of requests and of answers, by entrance: where it is another fate.
        std::vector<std::pair<std::uint32_t, Fate>> fates[2];
    };
    const std::vector<Unit>& units() const { return units_; }
    const routing::TableChanges& tables() const { return changes_; }
    /// That of a class, or none.
    std::uint32_t unit_of(std::uint32_t c) const { return unit_of_[c]; }
    /// Units whose answers from an entrance fare otherwise.
    std::vector<std::uint32_t> answered_otherwise(std::uint32_t entrance) const;
    /// Entrances that the class may answer from.
    std::span<const std::uint32_t> answering(std::uint32_t c) const {
        return columns_.classes()[c].is_host ? columns_.entrance_range(c) : index_.answering(c);
    }
    /// Classes that send from another entrance now, or nowhere.
    const std::vector<std::uint32_t>& elsewhere() const { return elsewhere_; }
    bool is_elsewhere(std::uint32_t c) const { return elsewhere_of_.contains(c); }
    /// True of targets for which it may be otherwise, there or back, for any sender.
    std::vector<bool> changed() const;
    /// Senders near to the target for which it is otherwise.
    std::vector<std::uint32_t> changed_near(std::uint32_t to) const;

    /// As Columns::between, under the change; with or without a look at who is near.
    Columns::Between between(std::uint32_t from, std::uint32_t to) const;
    Columns::Between far_between(std::uint32_t from, std::uint32_t to) const;

  private:
    // Of all but some machines it is known what becomes of packets in front of them.
    class Followed final : public Column::Known {
      public:
        explicit Followed(const ColumnIndex& index);
        void start() { ++turn_; }
        bool has(lab::MachineId machine) const { return turns_[machine.row] == turn_; }
        void add(lab::MachineId machine) { turns_[machine.row] = turn_; }
        void add_moved(lab::MachineId machine) { moved_[machine.row] = turn_; }
        void know(const Columns::Fates& fates) { fates_ = &fates; }
        void know(const ColumnIndex::Senders& ways, lab::MachineId target) {
            ways_ = &ways;
            target_ = target;
        }
        std::optional<Column::Onward> onward(Doors::Place place) const override {
            std::uint32_t entrance = unmoved_entrance(place);
            return entrance == Columns::nowhere ? std::nullopt : ways_->onward(entrance);
        }
        void keep(Doors::Place place, const Column::Onward& onward) const override {
            if (index_.columns().doors().machine(onward.to) == target_)
                return; // others share the ways of this target, but the last
            if (std::uint32_t entrance = unmoved_entrance(place); entrance != Columns::nowhere)
                ways_->keep(entrance, onward);
        }
        const Fate* find(Doors::Place place) const override {
            std::uint32_t entrance = index_.entrance_at(place);
            return entrance == Columns::nowhere || has(index_.columns().doors().machine(place))
                       ? nullptr
                       : &(*fates_)[entrance];
        }

      private:
        std::uint32_t unmoved_entrance(Doors::Place place) const {
            return moved_[index_.columns().doors().machine(place).row] == turn_
                       ? Columns::nowhere
                       : index_.entrance_at(place);
        }

        const ColumnIndex& index_;
        const Columns::Fates* fates_ = nullptr;
        const ColumnIndex::Senders* ways_ = nullptr;
        std::vector<std::uint32_t> turns_; // by machine: followed
        lab::MachineId target_;
        std::vector<std::uint32_t> moved_; // by machine: may send otherwise
        std::uint32_t turn_ = 0;
    };
    struct NearFate {
        std::uint32_t target = 0;
        std::uint32_t sender = 0;
        Fate fate;
    };

    bool find_gateways();
    void make_units();
    void add_to_unit(std::uint32_t c, std::uint64_t next_hops, bool is_alone,
                     const std::vector<lab::MachineId>& moved);
    void follow(Unit& unit, Column& column);
    void find_upstream(const Unit& unit, const ColumnIndex::Senders& senders);
    void follow_near(const Unit& unit, Column& column);
    std::uint32_t entrance(std::uint32_t c) const;
    Fate fate(std::uint32_t target, std::uint32_t entrance, bool is_answer) const;
    Fate answer(std::uint32_t from, std::uint32_t to, const Fate& request) const;
    static const Fate* find(const std::vector<NearFate>& list, std::uint32_t target,
                            std::uint32_t sender);

    const ColumnIndex& index_;
    const Columns& columns_;
    const routing::Settled& without_;
    const lab::Lab& lab_;
    routing::TableChanges changes_;
    bool is_known_ = false;
    std::vector<Unit> units_;
    std::vector<std::uint32_t> unit_of_; // by class
    struct UnitKey {
        std::uint32_t column = 0;
        std::uint32_t alone = none; // the class that shares with no other
        std::uint64_t next_hops = 0;

        friend bool operator==(const UnitKey&, const UnitKey&) = default;
    };
    struct UnitHash {
        std::size_t operator()(const UnitKey& key) const {
            return net::spread(net::spread(std::uint64_t{key.column} << 32 | key.alone)
                               ^ key.next_hops);
        }
    };
    std::unordered_map<UnitKey, std::uint32_t, UnitHash> known_;
    std::vector<std::pair<std::uint32_t, std::uint32_t>> answered_; // entrance and unit, ascending
    std::vector<std::uint32_t> elsewhere_;
    std::unordered_map<std::uint32_t, std::uint32_t> elsewhere_of_;   // class to entrance
    std::vector<NearFate> near_[2];                                   // by target, then sender
    std::vector<std::pair<std::uint32_t, std::uint32_t>> near_pairs_; // target and sender
    Followed followed_;
    std::vector<lab::MachineId> upstream_; // what find_upstream found
};

} // namespace jackal::reach
