// From the text of a plan file to a Plan.
//
//     plan::Reading reading = plan::read_file("demo/skerry.yaml");
//     for (const plan::Problem& p : reading.problems)
//         std::cerr << plan::to_string(p.at, reading.source) << ": " << p.message << '\n';
//     if (reading.plan) …
//
// The format is described in docs/plan-file.md. Scalars are typed by the key they stand under.
// A text with any problem gives no plan; all its problems are reported, up to `most_problems`.
#pragma once

#include "jackal/api.h"
#include "jackal/limits.h"
#include "jackal/plan/complete.h"

#include <iosfwd>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace jackal::plan {

struct Reading {
    std::string source;
    std::optional<Complete> plan;  ///< set if and only if problems is empty
    std::vector<Problem> problems; ///< in the order of their lines

    static constexpr std::size_t most_problems = limits::problems;
};

/// Values for a plan's `params`, by name, in the place of the defaults written there.
using Settings = std::vector<std::pair<std::string, std::string>>;

/// Reads a plan from YAML or JSON text (UTF-8). `source` is the name that messages give it.
JACKAL_API Reading read(std::string_view text, std::string source, const Settings& settings = {});

/// The text of a plan, for read(): what is beyond the most for one (limits::plan_bytes) stays
/// unread, and read() refuses it. O(bytes).
JACKAL_API std::string text_of(std::istream& stream);

/// Reads a plan from a file; a file that cannot be opened is a problem too.
JACKAL_API Reading read_file(const std::string& path, const Settings& settings = {});

} // namespace jackal::plan
