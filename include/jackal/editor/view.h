// What can be said of a plan while it is being written: marks beside lines, words about the thing
// under the cursor, addresses that the planner chose, and changes that mend something.
//
//     editor::View view(text, "lab.yaml");
//     if (view.settled() != nullptr) {
//         const reach::Check check = reach::check(*view.settled());
//         for (const editor::Note& note : editor::notes(view, &check)) …
//     }
#pragma once

#include "jackal/editor/outline.h"
#include "jackal/plan/complete.h"
#include "jackal/plan/edit.h"
#include "jackal/reach/check.h"
#include "jackal/routing/settled.h"

#include <functional>

namespace jackal::editor {

/// A text as far as it could be read. It never changes, so threads may share one.
class JACKAL_API View {
  public:
    /// Reads the text, and if it is a plan builds its lab and works the tables out.
    View(std::string text, std::string source);
    View(const View&) = delete;
    View& operator=(const View&) = delete;
    ~View();

    const std::string& text() const { return text_; }
    const std::string& source() const { return source_; }
    const std::vector<plan::Problem>& problems() const { return problems_; }
    /// Null if the text is no YAML.
    const Outline* outline() const { return outline_ ? &*outline_ : nullptr; }
    /// All null if the text has problems.
    const plan::Plan* plan() const { return plan_ ? &*plan_ : nullptr; }
    const lab::Lab* lab() const { return lab_.get(); }
    const routing::Settled* settled() const { return settled_.get(); }

  private:
    const std::string text_;
    const std::string source_;
    std::vector<plan::Problem> problems_;
    std::optional<Outline> outline_;
    std::optional<plan::Plan> plan_;
    std::unique_ptr<const lab::Lab> lab_;
    std::unique_ptr<const routing::Settled> settled_;
};

/// Something wrong at a place.
struct Note {
    Span at;
    lab::Severity severity = lab::Severity::error;
    std::string code; ///< the slug of a cause, or "unreadable"
    std::string message;
    std::vector<std::pair<Span, std::string>> related; ///< other places it has to do with
};

/// The problems of the text; with `check`, that of its lab, the findings and the expectations that
/// are not met.
JACKAL_API std::vector<Note> notes(const View& view, const reach::Check* check);

/// What stands at a place, in Markdown (CommonMark).
struct Words {
    Span at;
    std::string text;
};

/// What is known of the thing at `mark`: of a subnet its prefixes and how full they are, of a NIC
/// its addresses, of a rule what it drops, of an expectation whether it is met and the way of its
/// packets; of a key what it is for. Nothing where there is nothing to say. With `check`, that of
/// the view's lab, expectations are answered from it.
JACKAL_API std::optional<Words> hover(const View& view, const reach::Check* check, plan::Mark mark);

/// Something the plan leaves to the planner, to be shown behind what is written.
struct Hint {
    plan::Mark at;
    std::string text;
};

/// Addresses of NICs, prefixes of subnets, and addresses at the ends of links that the plan does
/// not write, in the order of the text.
JACKAL_API std::vector<Hint> hints(const View& view);

/// What can be done about a finding or an expectation, or about everything.
struct Action {
    enum class Sort : std::uint8_t {
        remedy, ///< of a finding, as it was tried
        line,   ///< whatever mends what stands on a line
        everything,
    };
    Sort sort = Sort::everything;
    std::string title;
    std::size_t finding = 0;       ///< of remedy: position in Check::findings
    std::uint32_t line = 0;        ///< of line
    std::optional<Note> note = {}; ///< that it is about
};

/// The actions for notes on the lines, and if anything is wrong the one for everything.
JACKAL_API std::vector<Action> actions(const View& view, const reach::Check& check,
                                       std::uint32_t first_line, std::uint32_t last_line);

/// The changes that an action makes in the text of `view`; `goes_on` is asked now and then, as the
/// search may take long (see mend::search). Throws std::runtime_error if there are none; the
/// message says why.
JACKAL_API std::vector<TextChange> changes(const View& view, const reach::Check& check,
                                           const Action& action, unsigned threads,
                                           const std::function<bool()>& goes_on);

} // namespace jackal::editor
