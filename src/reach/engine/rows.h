// Who gets an answer from a class: its column of requests, the filters on their ways, and what
// becomes of the answers.
#pragma once

#include "reach/engine/changed_columns.h"
#include "reach/engine/filter_sets.h"

namespace jackal::reach {

/// Refers to what it is made from. It never changes, so threads may share one.
class Rows {
  public:
    Rows(const lab::Lab& lab, const std::vector<EndClass>& classes, const Packets& packets,
         const Columns& columns);

    /// A row: a bit for each class that sends.
    struct Row {
        Bits answered;
        Bits unsettled; ///< only walks tell
        bool self = false;
    };

    class Worker;
    /// Valid until the worker is asked again.
    const Row& row(std::uint32_t to, Worker& worker) const;

    /// A row under a change.
    struct ChangedRow {
        Bits looked_at; ///< senders for whom it may differ; of all others nothing is told
        std::vector<std::size_t> words; ///< that those stand in, in no order
        Row now;
        Bits moved; ///< those of them whose packets go another way, there or back
    };
    /// Null if the row stays as it is; `answered` is how that was. Nothing is told of senders of
    /// which only walks tell.
    const ChangedRow* changed_row(std::uint32_t to, const ChangedColumns& now,
                                  const std::uint64_t* answered, Worker& worker) const;

  private:
    // Classes side by side that send from one entrance past the same filters, and get answers
    // alike.
    struct Run {
        std::uint32_t first = 0;
        std::uint32_t last = 0; // behind it
        std::uint32_t entrance = Columns::nowhere;
        const Columns::Fates* answers = nullptr;
    };
    // What becomes of requests and their answers, but for the filters that requests meet.
    struct Outcome {
        enum class Kind : std::uint8_t { lost, varies, answered };
        Kind kind = Kind::lost;
        Fate request;
        const std::vector<FilterCheck>* asked_of_answer = nullptr; ///< beside the request's way
    };

    // Classes side by side for whom a change comes to the same.
    struct Piece {
        std::uint32_t first = 0;
        std::uint32_t last = 0; // behind it
        bool is_moved = false;
        bool is_as_before = false; // the same of them get answers
        Outcome outcome;
    };

    void find_runs();
    void collect_checks();
    void look_ahead(std::uint32_t to, Worker& worker) const;
    Outcome outcome(const Fate& request, const Fate& answer, Worker& worker) const;
    bool is_unfiltered(Worker& worker) const;
    void fill_runs(std::uint32_t to, Worker& worker) const;
    void fill_run(const Run& run, const Outcome& outcome, std::uint32_t to, Worker& worker) const;
    void fill_near(std::uint32_t to, Worker& worker) const;
    void fill(std::uint32_t first, std::uint32_t last, const Outcome& outcome, std::uint32_t to,
              Row& row, Worker& worker) const;
    void ask(std::uint32_t first, std::uint32_t last, const std::vector<FilterCheck>& checks,
             Row& row, Worker& worker) const;
    void ask_of_answers(std::uint32_t first, std::uint32_t last, const Outcome& outcome,
                        std::uint32_t to, Row& row) const;
    static void look_at(std::uint32_t first, std::uint32_t last, bool is_moved, Worker& worker);
    void fill_few(std::uint32_t first, std::uint32_t last, const Outcome& outcome, std::uint32_t to,
                  Worker& worker) const;
    const std::vector<Piece>& pieces(std::uint32_t to, const ChangedColumns& now,
                                     Worker& worker) const;
    void add_pieces(std::uint32_t to, const ChangedColumns& now, Worker& worker,
                    std::vector<Piece>& into) const;
    void add_piece(std::uint32_t first, std::uint32_t last, std::uint32_t to,
                   const ChangedColumns& now, Worker& worker, std::vector<Piece>& into) const;
    void look_at_near(std::uint32_t to, const ChangedColumns& now, Worker& worker) const;
    std::vector<FilterCheck> end_checks(std::uint32_t to, const Fate& request) const;
    bool is_open(const EndClass& target) const;

    const lab::Lab& lab_;
    const std::vector<EndClass>& classes_;
    const Packets& packets_;
    const Columns& columns_;
    const FilterSets filters_;
    std::vector<std::vector<FilterCheck>> start_checks_; // by class; not of what is for neighbours
    std::vector<FilterCheck> checks_;                    // all that any request meets
    std::vector<Run> runs_;
    std::vector<std::uint32_t> run_of_;               // by class
    std::vector<std::vector<std::uint32_t>> runs_at_; // by entrance
    std::vector<std::uint32_t> walked_;               // classes
};

/// What is worked out of one row after another, in one thread.
class Rows::Worker {
  public:
    explicit Worker(const Rows& rows) : Worker(rows, rows.columns_.points()) {}
    /// Of lists that go on from those of the columns.
    Worker(const Rows& rows, const Points& lists) : points(lists), passing(rows.filters_, lists) {}

    /// From now on it is asked about another change.
    void begin() { pieces.clear(); }

  private:
    friend class Rows;
    const Points& points;
    PassingSets passing;
    Row row;
    ChangedRow changed;
    // By the column of a target, its unit and its entrance, of one change.
    struct PieceHash {
        std::size_t operator()(const std::array<std::uint64_t, 2>& key) const {
            return net::spread(key[0] ^ net::spread(key[1]));
        }
    };
    std::unordered_map<std::array<std::uint64_t, 2>, std::vector<Piece>, PieceHash> pieces;
    std::vector<Piece> own_pieces; // of a target that shares none
    Bits seen;                     // of the target whose pieces are found
    std::vector<std::size_t> seen_words;
    // Of two lists: what is asked of the answer beside the request's way.
    std::unordered_map<std::uint64_t, std::vector<FilterCheck>> beside;
    // By run, for all targets that have these fates of requests and answer from there.
    std::vector<Outcome> outcomes;
    const Columns::Fates* requests = nullptr;
    std::uint32_t entrance = Columns::nowhere;
    std::optional<Row> unfiltered; // what the outcomes come to where no filter denies anything
};

} // namespace jackal::reach
