#include "export/wire/stream.h"

#include <algorithm>

namespace jackal::exports {

using probe::Microseconds;

namespace {

// RFC 9293 section 3.4: numbers go round.
bool is_after(std::uint32_t one, std::uint32_t other) {
    return static_cast<std::int32_t>(one - other) > 0;
}

constexpr std::chrono::milliseconds first_wait{300};
constexpr int most_tries = 8;

} // namespace

std::uint16_t Stream::window() const {
    return static_cast<std::uint16_t>(most_kept - std::min(most_kept, in_.size()));
}

Stream::Segment Stream::segment(std::uint32_t seq) const {
    return {.seq = seq, .ack = next_in_, .window = window()};
}

void Stream::take(const Segment& segment, Microseconds now) {
    if (segment.rst) {
        is_broken_ = true;
        return;
    }
    peer_window_ = segment.window;
    if (segment.syn) { // again: the answer was lost
        next_out_ = unacknowledged_;
        return;
    }
    const bool fin_is_out = wants_fin_ && is_open_;
    const std::uint32_t last = unacknowledged_ + (is_open_ ? 0 : 1)
                               + static_cast<std::uint32_t>(out_.size()) + (fin_is_out ? 1 : 0);
    if (is_after(segment.ack, unacknowledged_) && !is_after(segment.ack, last)) {
        std::uint32_t count = segment.ack - unacknowledged_;
        if (!is_open_) {
            is_open_ = true;
            --count;
        }
        const auto bytes = std::min<std::uint32_t>(count, static_cast<std::uint32_t>(out_.size()));
        out_.erase(out_.begin(), out_.begin() + bytes);
        fin_acknowledged_ = fin_acknowledged_ || count > bytes;
        unacknowledged_ = segment.ack;
        if (is_after(unacknowledged_, next_out_))
            next_out_ = unacknowledged_;
        tries_ = 0;
        again_ = unacknowledged_ == next_out_ ? std::nullopt : std::optional(now + first_wait);
    }
    if (segment.data.empty() && !segment.fin)
        return;
    owes_ack_ = true;
    const std::uint32_t known = next_in_ - segment.seq; // of what it bears
    if (peer_fin_ || known > segment.data.size()
        || segment.data.size() - known > window()) // a gap, old, or more than there is room for
        return;
    in_.insert(in_.end(), segment.data.begin() + known, segment.data.end());
    next_in_ += static_cast<std::uint32_t>(segment.data.size() - known);
    if (segment.fin) {
        peer_fin_ = true;
        ++next_in_;
    }
}

std::vector<Stream::Segment> Stream::due(Microseconds now) {
    std::vector<Segment> segments;
    if (is_broken_)
        return segments;
    if (is_reset_) {
        is_broken_ = true;
        segments.push_back(segment(next_out_));
        segments.back().rst = true;
        return segments;
    }
    if (again_ && *again_ <= now) {
        if (++tries_ > most_tries) {
            is_broken_ = true;
            return segments;
        }
        next_out_ = unacknowledged_;
    }
    if (!is_open_) {
        if (is_accepted_ && next_out_ == unacknowledged_) {
            segments.push_back(segment(next_out_++));
            segments.back().syn = true;
        }
    } else {
        const std::uint32_t all = static_cast<std::uint32_t>(out_.size());
        const std::uint32_t may = std::min(all, std::max<std::uint32_t>(peer_window_, 1));
        while (next_out_ - unacknowledged_ < may) {
            const std::uint32_t first = next_out_ - unacknowledged_;
            const std::uint32_t count = std::min<std::uint32_t>(segment_bytes, may - first);
            segments.push_back(segment(next_out_));
            segments.back().data.assign(out_.begin() + first, out_.begin() + first + count);
            next_out_ += count;
        }
        if (wants_fin_ && !fin_acknowledged_ && next_out_ - unacknowledged_ == all) {
            segments.push_back(segment(next_out_++));
            segments.back().fin = true;
        }
    }
    if (segments.empty() && owes_ack_)
        segments.push_back(segment(next_out_));
    owes_ack_ = false;
    if (next_out_ != unacknowledged_ && (!again_ || *again_ <= now))
        again_ = now + first_wait * (1 << tries_);
    return segments;
}

std::optional<Microseconds> Stream::wakes() const {
    return is_broken_ ? std::nullopt : again_;
}

} // namespace jackal::exports
