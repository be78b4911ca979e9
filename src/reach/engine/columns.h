// The columns of all classes of ends.
#pragma once

#include "net/hash.h"
#include "reach/engine/classes.h"
#include "reach/engine/column.h"

#include <map>
#include <memory>
#include <span>

namespace jackal::reach {

/// What becomes of packets to every class. Classes send from entrances: plain ones what is not for
/// their neighbours from the door of their gateway, others from their own machine. Refers to what
/// it is made from. It never changes, so threads may share one.
class Columns {
  public:
    static constexpr std::uint32_t nowhere = ~std::uint32_t{0};

    /// What becomes of packets from classes near to the target, whose way is not that of their
    /// entrance.
    using Near = std::vector<std::pair<std::uint32_t, Fate>>;

    using Fates = std::vector<Fate>; ///< by entrance
    struct OfClass {
        std::shared_ptr<const Fates> fates; ///< null for a class that is walked
        Near near;                          ///< ascending
        Fate self;                          ///< of what a member sends to itself
    };

    Columns(const routing::Settled& settled, const std::vector<EndClass>& classes,
            const Packets& packets, unsigned threads);

    /// In front of whom senders put their packets.
    const std::vector<Doors::Place>& entrances() const { return entrances_; }
    const Doors& doors() const { return doors_; }
    /// Where a class sends from, or nowhere.
    std::uint32_t entrance(std::uint32_t end_class) const { return entrance_of_[end_class]; }
    /// That, as a range of one.
    std::span<const std::uint32_t> entrance_range(std::uint32_t end_class) const {
        return {&entrance_of_[end_class], 1};
    }
    /// Where it answers from what came by the door, or nowhere.
    std::uint32_t answers_from(std::uint32_t end_class, Doors::Place door) const;

    const OfClass& requests_to(std::uint32_t c) const { return columns_[0][c]; }
    const OfClass& answers_to(std::uint32_t c) const {
        return columns_[1][c].fates ? columns_[1][c] : columns_[0][c];
    }
    /// What becomes of the answers of a class to those near to it.
    const Near& near_answers(std::uint32_t c) const { return near_answers_[c]; }
    /// What becomes of requests between classes near to each other, and of answers to them; null if
    /// they fare as all from the entrance of the sender.
    const Fate* near_request(std::uint32_t from, std::uint32_t to) const;
    const Fate* near_answer(std::uint32_t from, std::uint32_t to) const;

    /// Of what the target answers to such a request, by a column of answers.
    Fate answer_from(std::uint32_t to, const Fate& request, const Fates& fates) const;
    /// Of a request between two classes that are not walked, and of the answer to it.
    struct Between {
        Fate request;
        Fate answer; ///< lost if the request is
        bool is_near = false;

        /// See Matrix::way.
        std::uint64_t way() const { return net::spread(request.way + 1) ^ answer.way; }
    };
    Between between(std::uint32_t from, std::uint32_t to) const;
    /// The same, as if they were not near to each other.
    Between far_between(std::uint32_t from, std::uint32_t to) const;
    const Points& points() const { return points_; }
    /// Turns to what is sent to the class, and tells what becomes of it in front of a place.
    void aim_at(std::uint32_t c, bool is_answer, Column& column) const;
    Fate fate(std::uint32_t c, Doors::Place place, Column& column) const;
    const std::vector<EndClass>& classes() const { return classes_; }
    const Packets& packets() const { return packets_; }

  private:
    // The first class of a group of targets, and what becomes of packets in front of the machines
    // that are on link with it.
    struct Leader {
        std::uint32_t target = nowhere;
        std::vector<Doors::Place> places;
        Fates fates[2]; // of requests and answers, by place
        bool differs = false;
    };
    struct Worker;

    std::uint32_t add_entrance(Doors::Place place);
    void find_entrances();
    void find_leaders();
    void fill_all(unsigned threads);
    void merge(Worker& worker);
    void fill(std::uint32_t c, Worker& worker);
    bool follow(std::uint32_t c, const Leader& leader, Worker& worker);
    void fill_near(std::uint32_t c, bool is_answer, Worker& worker);
    lab::MachineId machine(lab::AddressId end) const {
        return lab_.nics[lab_.addresses[end].nic].machine;
    }

    const routing::Settled& settled_;
    const lab::Lab& lab_;
    const std::vector<EndClass>& classes_;
    const Packets& packets_;
    const Doors doors_;
    Points points_;
    std::vector<Doors::Place> entrances_;
    std::map<Doors::Place, std::uint32_t> entrance_numbers_;
    std::vector<std::uint32_t> entrance_of_;                  // by class
    std::map<net::Prefix, std::vector<std::uint32_t>> hosts_; // classes by the prefix of their NIC
    std::vector<int> host_lengths_;                           // of those
    std::vector<std::uint32_t> leader_of_;                    // by class, or nowhere
    std::vector<Leader> leaders_;
    std::vector<OfClass> columns_[2]; // by class: of requests; of answers, if they differ
    std::vector<Near> near_answers_;  // by class
};

} // namespace jackal::reach
