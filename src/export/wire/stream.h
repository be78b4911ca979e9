// One end of a TCP connection (RFC 9293), with as little of it as a relay needs: bytes in their
// order, one timer, windows, no options but the segment size.
#pragma once

#include "jackal/export/wire.h"

#include <deque>

namespace jackal::exports {

class Stream {
  public:
    struct Segment {
        std::uint32_t seq = 0;
        std::uint32_t ack = 0;
        bool syn = false;
        bool fin = false;
        bool rst = false;
        std::uint16_t window = 0;
        Bytes data = {};
    };

    static constexpr std::uint16_t segment_bytes = 1220; ///< fits IPv6's least MTU

    /// Of who sent a SYN with that number. It is answered once it is accepted, or refused if the
    /// stream is reset before.
    explicit Stream(std::uint32_t peer_number) : next_in_(peer_number + 1) {}

    void accept() { is_accepted_ = true; }

    /// A segment of the peer.
    void take(const Segment& segment, probe::Microseconds now);

    /// Bytes of this end's program, at most room(); then it has no more, or breaks off.
    void send(std::span<const std::uint8_t> bytes) {
        out_.insert(out_.end(), bytes.begin(), bytes.end());
    }
    std::size_t room() const { return most_kept - std::min(most_kept, out_.size()); }
    void finish() { wants_fin_ = true; }
    void reset() { is_reset_ = true; }

    /// What is to be sent now.
    std::vector<Segment> due(probe::Microseconds now);
    /// When something is to be sent again; nothing if all is acknowledged.
    std::optional<probe::Microseconds> wakes() const;

    /// What the peer has sent since, in order.
    Bytes received() {
        owes_ack_ = owes_ack_ || window() < segment_bytes; // it opens again
        return std::exchange(in_, {});
    }
    bool peer_has_finished() const { return peer_fin_; }
    /// Both ends have said all, or one has broken off.
    bool is_over() const { return is_broken_ || (peer_fin_ && fin_acknowledged_); }

  private:
    std::uint16_t window() const;
    Segment segment(std::uint32_t seq) const;

    static constexpr std::size_t most_kept = 65'535;
    static constexpr std::uint32_t first_number = 1000;

    std::deque<std::uint8_t> out_; // from unacknowledged_ on
    Bytes in_;
    std::uint32_t unacknowledged_ = first_number;
    std::uint32_t next_out_ = first_number;
    std::uint32_t next_in_;
    std::uint32_t peer_window_ = 0;
    bool is_accepted_ = false;
    bool is_open_ = false; // the SYN is acknowledged
    bool owes_ack_ = false;
    bool wants_fin_ = false;
    bool fin_acknowledged_ = false;
    bool peer_fin_ = false;
    bool is_reset_ = false;
    bool is_broken_ = false;
    int tries_ = 0;
    std::optional<probe::Microseconds> again_;
};

} // namespace jackal::exports
