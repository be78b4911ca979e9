// Who gets an answer from a class: its column of requests, the filters on their ways, and what
// becomes of the answers.
#pragma once

#include "reach/engine/columns.h"
#include "reach/engine/filter_sets.h"

namespace jackal::reach {

/// Refers to what it is made from. It never changes, so threads may share one.
class Rows {
  public:
    Rows(const lab::Lab& lab, const std::vector<EndClass>& classes, const Packets& packets,
         const Columns& columns, unsigned threads);

    /// A row: a bit for each class that sends.
    struct Row {
        Bits answered;
        Bits unsettled; ///< only walks tell
        bool self = false;
    };

    /// What is worked out of one row after another, each in a thread of its own.
    class Worker {
      public:
        explicit Worker(const Rows& rows) : passing(rows.filters_, rows.columns_.points()) {}

      private:
        friend class Rows;
        PassingSets passing;
        Row row;
        // Of two lists: what is asked of the answer beside the request's way.
        std::unordered_map<std::uint64_t, std::vector<FilterCheck>> beside;
    };
    const Row& row(std::uint32_t to, Worker& worker) const;

  private:
    // Classes side by side that send from one entrance past the same filters.
    struct Run {
        std::uint32_t first = 0;
        std::uint32_t last = 0; // behind it
        std::uint32_t entrance = Columns::nowhere;
    };
    enum class Verdict : std::uint8_t { no, yes, unsettled };

    void find_runs();
    void turn_answers(unsigned threads);
    void fill_run(const Run& run, std::uint32_t to, Worker& worker) const;
    void fill_near(std::uint32_t to, Worker& worker) const;
    void judge_answers(const Run& run, const Fate& request, std::uint32_t to, Worker& worker) const;
    Verdict answer(std::uint32_t from, std::uint32_t to, const Fate& request,
                   std::uint32_t answer_code, Worker& worker) const;
    bool is_open(const EndClass& target) const;

    const lab::Lab& lab_;
    const std::vector<EndClass>& classes_;
    const Packets& packets_;
    const Columns& columns_;
    const FilterSets filters_;
    std::vector<std::vector<FilterCheck>> start_checks_; // by class; not of what is for neighbours
    std::vector<Run> runs_;
    std::vector<std::uint32_t> answers_; // codes of fates: a row for each entrance
    std::vector<std::uint32_t> walked_;  // classes
};

} // namespace jackal::reach
