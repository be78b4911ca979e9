// Work in shares, on several threads.
#pragma once

#include <algorithm>
#include <atomic>
#include <exception>
#include <thread>
#include <vector>

namespace jackal::reach {

/// How many threads a whole answer takes, unless it is told.
inline unsigned useful_threads() {
    constexpr unsigned most = 8;
    return std::clamp(std::thread::hardware_concurrency(), 1U, most);
}

/// Calls work(worker, first, last) for stretches of 0 to `count`, `stretch` long each, on so many
/// threads; `worker` counts those from 0. The first exception that comes out of one ends the work,
/// and is thrown.
template <class Work>
void in_parallel(std::size_t count, std::size_t stretch, unsigned threads, Work work) {
    std::atomic<std::size_t> next = 0;
    std::vector<std::exception_ptr> failures(threads);
    auto run = [&](unsigned worker) {
        try {
            for (std::size_t first; (first = next.fetch_add(stretch)) < count;)
                work(worker, first, std::min(first + stretch, count));
        } catch (...) {
            failures[worker] = std::current_exception();
            next = count;
        }
    };
    {
        std::vector<std::jthread> others;
        for (unsigned worker = 1; worker < threads; ++worker)
            others.emplace_back(run, worker);
        run(0);
    }
    for (const std::exception_ptr& failure : failures)
        if (failure)
            std::rethrow_exception(failure);
}

} // namespace jackal::reach
