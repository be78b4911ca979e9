// What becomes of the packets that all machines send to one address.
#pragma once

#include "reach/engine/packets.h"
#include "reach/engine/points.h"

namespace jackal::reach {

/// What becomes of a packet in front of a machine.
struct Fate {
    enum class Kind : std::uint8_t {
        unknown,
        lost,
        delivered,
        varies, ///< with its source, or it is changed on the way: only a walk tells
    };
    Kind kind = Kind::unknown;
    bool is_uneven = false;    ///< by some of equal next hops fewer machines pass it on
    std::uint8_t passes = 0;   ///< machines that pass it on, at most
    std::uint32_t points = 0;  ///< those of them that filter, and its sender, if it does
    std::uint32_t door = none; ///< of delivered: by which it comes in; none at its sender
    std::uint64_t way = 0;     ///< stands for the machines that pass it on, and the NICs they use,
                               ///< but for that of the last

    static constexpr std::uint32_t none = ~std::uint32_t{0};
    static constexpr std::uint32_t only = none - 1; ///< of a target with one NIC: that
    friend bool operator==(const Fate&, const Fate&) = default;
};

/// Where packets stand in front of machines: behind a NIC that they came in by, where NICs that do
/// not differ to a packet are one door; at their sender; or at the sender of an answer. Refers to
/// what it is made from. Threads may share one.
class Doors {
  public:
    Doors(const routing::Settled& settled, const Packets& packets);

    using Place = std::uint32_t;
    Place door(lab::NicId in) const { return doors_[in.row]; }
    Place sender(lab::MachineId machine) const { return nics_ + machine.row; }
    /// Of the machine that took the request by this door.
    Place answerer(Place door) const {
        lab::MachineId machine = lab_->nics[lab::NicId{door}].machine;
        return answers_by_door_[machine.row] ? nics_ + machines_ + door : sender(machine);
    }
    std::size_t count() const { return nics_ + machines_ + nics_; }

    bool is_door(Place place) const { return place < nics_; }
    lab::MachineId machine(Place place) const;
    /// By which the request came that is answered; none at other places.
    lab::NicId asked_by(Place place) const {
        return {place >= nics_ + machines_ ? place - nics_ - machines_ : lab::NicId::no_row};
    }
    /// True if a rule may give what the machine sends out by the NIC another source.
    bool masks_sources(lab::NicId out) const;

  private:
    const lab::Lab* lab_;
    std::uint32_t nics_;
    std::uint32_t machines_;
    std::vector<Place> doors_;          // by NIC
    std::vector<bool> answers_by_door_; // by machine
};

/// See above. Makes one destination after another.
class Column {
  public:
    Column(const routing::Settled& settled, const Packets& packets, const Doors& doors,
           Points& points);

    /// From now on goes by other tables of the same lab.
    void go_by(const routing::Settled& settled) { settled_ = &settled; }
    /// From now on tells of requests to the address, or of answers to it.
    void aim_at(net::Address destination, bool is_answer);

    Fate fate(Doors::Place place);

    /// The only way on from a place, to another.
    struct Onward {
        Doors::Place to = 0;
        lab::NicId out;
        bool is_passed_on = false;
    };
    /// What need not be looked for.
    class Known {
      public:
        virtual ~Known() = default;
        /// Null if it is not known.
        virtual const Fate* find(Doors::Place place) const = 0;
        virtual std::optional<Onward> onward(Doors::Place place) const = 0;
        /// What was looked for.
        virtual void keep(Doors::Place place, const Onward& onward) const = 0;
    };
    /// Until it aims at another: these are known already. Null for none.
    void know(const Known* known) { before_ = known; }

    /// True if answers may fare otherwise than requests.
    bool differs_for_answers() const { return differs_; }

  private:
    // A place whose fate is being looked for.
    struct Visit {
        Doors::Place place = 0;
        std::uint32_t ways = 1; // of equal next hops
        std::uint32_t next_way = 0;
        Fate all; // of those that were followed
        // The way that is being followed.
        bool is_passed_on = false;
        lab::NicId in;
        lab::NicId out;
    };
    // Where one way leads.
    struct Branch {
        Fate end;      // if it ends here
        Onward onward; // else
        std::uint32_t ways = 1;
    };
    Branch first_branch(Doors::Place place);
    Branch branch(Doors::Place place, std::uint32_t way);
    void follow(Visit& visit);
    void take(Visit& visit, Fate fate);
    Fate behind(const Visit& visit, Fate fate);
    Fate& known(Doors::Place place);

    const routing::Settled* settled_;
    const lab::Lab& lab_;
    const Packets& packets_;
    const Doors& doors_;
    Points& points_;
    packet::Header header_; // in front of any machine
    bool is_answer_ = false;
    bool differs_ = false;
    packet::Decision decision_;
    const Known* before_ = nullptr;
    std::uint32_t turn_ = 0;           // counts destinations
    std::vector<std::uint32_t> turns_; // by place: of its fate
    std::vector<Fate> fates_;          // by place
    std::vector<bool> open_;           // by place: being looked for
    std::size_t open_forks_ = 0;
    std::vector<Visit> visits_;
};

} // namespace jackal::reach
