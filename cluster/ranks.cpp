#include "ranks.h"

#include "process.h"
#include "share.h"

#include <algorithm>
#include <bit>
#include <chrono>
#include <fmt/format.h>
#include <future>
#include <mpi.h>
#include <mutex>
#include <thread>

namespace jackal::cluster {

using reach::CutEffect;
using Words = std::vector<std::uint64_t>;
using Clock = std::chrono::steady_clock;

namespace {

enum Tag { effects_tag = 1, alive_tag, work_tag };
constexpr auto pause = std::chrono::microseconds(200);
constexpr auto sign_of_life = std::chrono::seconds(1);
constexpr auto patience = std::chrono::seconds(10);

bool lost_ranks = false;

// Cuts side by side.
struct Stretch {
    std::uint64_t first = 0;
    std::uint64_t count = 0; // 0: there is no more; `first` is not 0 if ranks are lost
};

constexpr std::uint64_t never = ~std::uint64_t{0};

// What came of the cut of that number, as words for a message; without the cut itself.
Words packed(std::size_t number, const CutEffect& effect) {
    Words words{number,
                effect.lost,
                effect.own,
                effect.gained,
                effect.moved,
                effect.more_losses,
                effect.settles_after ? std::bit_cast<std::uint64_t>(effect.settles_after->count())
                                     : never,
                effect.expectations.size(),
                effect.losses.size()};
    words.insert(words.end(), effect.expectations.begin(), effect.expectations.end());
    for (const reach::CutLoss& loss : effect.losses)
        words.insert(words.end(), {std::uint64_t{loss.from} << 32 | loss.to, loss.lost, loss.moved});
    return words;
}

// Reads it back; `at` is where it begins, and then where it ends.
std::pair<std::size_t, CutEffect> unpacked(const Words& words, std::size_t& at) {
    auto next = [&] { return words.at(at++); };
    std::size_t number = next();
    CutEffect effect;
    effect.lost = next();
    effect.own = next();
    effect.gained = next();
    effect.moved = next();
    effect.more_losses = next();
    if (std::uint64_t time = next(); time != never)
        effect.settles_after = routing::Duration(std::bit_cast<double>(time));
    std::uint64_t expectations = next();
    std::uint64_t losses = next();
    for (std::uint64_t i = 0; i < expectations; ++i)
        effect.expectations.push_back(next());
    for (std::uint64_t i = 0; i < losses; ++i) {
        std::uint64_t ends = next();
        reach::CutLoss loss{static_cast<std::uint32_t>(ends >> 32),
                            static_cast<std::uint32_t>(ends)};
        loss.lost = next();
        loss.moved = next();
        effect.losses.push_back(loss);
    }
    return {number, std::move(effect)};
}

// --- rank 0 ------------------------------------------------------------------------------------

class Giver {
  public:
    Giver(const reach::Sweeping& sweeping,
          const std::function<bool(std::size_t, std::size_t)>& progress)
        : sweeping_(sweeping), progress_(progress), effects_(sweeping.size()) {
        MPI_Comm_size(MPI_COMM_WORLD, &ranks_);
        at_.resize(static_cast<std::size_t>(ranks_));
        heard_.assign(at_.size(), Clock::now());
        state_.assign(at_.size(), State::working);
        left_.push_back({0, effects_.size()});
    }

    reach::Sweep run() {
        std::jthread own([&] { work(); });
        while (!is_done()) {
            take_messages();
            find_lost();
            tell_progress();
            std::this_thread::sleep_for(pause);
        }
        own.join();
        let_go();
        return sweeping_.sum_up(std::move(effects_));
    }

  private:
    enum class State : std::uint8_t { working, waiting, gone };

    Stretch take() {
        std::scoped_lock alone(mutex_);
        if (left_.empty() || stopped_)
            return {};
        std::uint64_t count = 0;
        for (const Stretch& stretch : left_)
            count += stretch.count;
        Stretch& from = left_.back();
        Stretch taken{
            from.first,
            std::min(share(count, static_cast<std::uint64_t>(ranks_)), from.count)};
        from.first += taken.count;
        from.count -= taken.count;
        if (from.count == 0)
            left_.pop_back();
        return taken;
    }

    // What rank 0 does itself, beside giving: that goes on until nobody else may still be lost.
    void work() {
        while (!is_done()) {
            Stretch stretch = take();
            for (std::uint64_t i = 0; i < stretch.count && !stopped_; ++i)
                keep(stretch.first + i, sweeping_.effect(stretch.first + i));
            if (stretch.count == 0)
                std::this_thread::sleep_for(pause);
        }
    }

    void keep(std::size_t number, CutEffect effect) {
        std::scoped_lock alone(mutex_);
        if (effects_[number])
            return;
        effect.cut = sweeping_.cut(number).cut;
        effect.kind = sweeping_.cut(number).kind;
        effects_[number] = std::move(effect);
        ++done_;
    }

    bool is_done() {
        std::scoped_lock alone(mutex_);
        return stopped_ || done_ == effects_.size();
    }

    void take_messages() {
        for (;;) {
            int is_there = 0;
            MPI_Status status;
            if (MPI_Iprobe(MPI_ANY_SOURCE, MPI_ANY_TAG, MPI_COMM_WORLD, &is_there, &status)
                    != MPI_SUCCESS
                || is_there == 0)
                return;
            int count = 0;
            MPI_Get_count(&status, MPI_UINT64_T, &count);
            Words words(static_cast<std::size_t>(count));
            if (MPI_Recv(words.data(), count, MPI_UINT64_T, status.MPI_SOURCE, status.MPI_TAG,
                         MPI_COMM_WORLD, MPI_STATUS_IGNORE)
                != MPI_SUCCESS)
                return;
            auto rank = static_cast<std::size_t>(status.MPI_SOURCE);
            heard_[rank] = Clock::now();
            if (status.MPI_TAG != effects_tag)
                continue;
            for (std::size_t at = 0; at < words.size();) {
                auto [number, effect] = unpacked(words, at);
                keep(number, std::move(effect));
            }
            at_[rank] = {};
            state_[rank] = State::waiting;
        }
    }

    // Gives work to those who wait, and looks for those who say nothing any more.
    void find_lost() {
        for (std::size_t rank = 1; rank < at_.size(); ++rank) {
            if (state_[rank] == State::waiting) {
                if (Stretch stretch = take(); stretch.count != 0)
                    give(rank, stretch);
            } else if (state_[rank] == State::working && Clock::now() - heard_[rank] > patience) {
                state_[rank] = State::gone;
                lost_ranks = true;
                cli::complain(fmt::format("rank {} is silent: {} of its cuts go to others", rank,
                                          at_[rank].count));
                std::scoped_lock alone(mutex_);
                if (at_[rank].count != 0)
                    left_.push_back(at_[rank]);
            }
        }
    }

    void give(std::size_t rank, const Stretch& stretch) {
        const std::uint64_t words[] = {stretch.first, stretch.count};
        at_[rank] = stretch;
        state_[rank] = State::working;
        heard_[rank] = Clock::now();
        MPI_Request request;
        MPI_Isend(words, 2, MPI_UINT64_T, static_cast<int>(rank), work_tag, MPI_COMM_WORLD,
                  &request);
        MPI_Request_free(&request); // small enough to be gone at once
    }

    void tell_progress() {
        std::size_t done = 0;
        {
            std::scoped_lock alone(mutex_);
            done = done_;
        }
        if (progress_ && !progress_(done, effects_.size()))
            stopped_ = true;
    }

    // Nobody has anything more to do; who is at something yet is heard once more.
    void let_go() {
        auto end = Clock::now() + patience;
        for (;;) {
            take_messages();
            bool is_anybody_left = false;
            for (std::size_t rank = 1; rank < at_.size(); ++rank) {
                if (state_[rank] == State::waiting) {
                    give(rank, {lost_ranks ? std::uint64_t{1} : 0, 0});
                    state_[rank] = State::gone;
                }
                is_anybody_left = is_anybody_left || state_[rank] == State::working;
            }
            if (!is_anybody_left)
                return;
            if (Clock::now() > end) {
                lost_ranks = true;
                return;
            }
            std::this_thread::sleep_for(pause);
        }
    }

    const reach::Sweeping& sweeping_;
    const std::function<bool(std::size_t, std::size_t)>& progress_;
    int ranks_ = 1;
    std::vector<Stretch> at_;              // by rank: what it was given
    std::vector<Clock::time_point> heard_; // by rank
    std::vector<State> state_;             // by rank
    std::mutex mutex_;                     // for what stands below
    std::vector<std::optional<CutEffect>> effects_;
    std::vector<Stretch> left_;
    std::size_t done_ = 0;
    std::atomic<bool> stopped_ = false;
};

// --- other ranks -------------------------------------------------------------------------------

void send(const Words& words, Tag tag) {
    MPI_Send(words.data(), static_cast<int>(words.size()), MPI_UINT64_T, 0, tag, MPI_COMM_WORLD);
}

Stretch next_stretch() {
    int is_there = 0;
    while (is_there == 0) {
        MPI_Iprobe(0, work_tag, MPI_COMM_WORLD, &is_there, MPI_STATUS_IGNORE);
        if (is_there == 0)
            std::this_thread::sleep_for(pause);
    }
    std::uint64_t words[2] = {};
    MPI_Recv(words, 2, MPI_UINT64_T, 0, work_tag, MPI_COMM_WORLD, MPI_STATUS_IGNORE);
    return {words[0], words[1]};
}

void take_work(const reach::Sweeping& sweeping) {
    send({}, effects_tag);
    Stretch stretch = next_stretch();
    for (; stretch.count != 0; stretch = next_stretch()) {
        auto work = std::async(std::launch::async, [&] {
            Words words;
            for (std::uint64_t i = stretch.first; i < stretch.first + stretch.count; ++i) {
                Words more = packed(i, sweeping.effect(i));
                words.insert(words.end(), more.begin(), more.end());
            }
            return words;
        });
        while (work.wait_for(sign_of_life) != std::future_status::ready)
            send({}, alive_tag);
        send(work.get(), effects_tag);
    }
    lost_ranks = stretch.first != 0;
}

} // namespace

reach::Sweep sweep(const routing::Settled& settled, const reach::SweepQuestion& question,
                   const std::function<bool(std::size_t, std::size_t)>& progress) {
    reach::SweepQuestion own = question;
    own.threads = 1; // there is a rank for every core
    const reach::Sweeping sweeping(settled, own);
    int rank = 0;
    MPI_Comm_rank(MPI_COMM_WORLD, &rank);
    if (rank == 0)
        return Giver(sweeping, progress).run();
    take_work(sweeping);
    return {};
}

bool has_lost_ranks() {
    return lost_ranks;
}

} // namespace jackal::cluster
