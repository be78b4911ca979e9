#include "command.h"

#include <algorithm>
#include <cctype>
#include <fmt/format.h>

namespace jackal::cli {

namespace {

struct ReachOptions {
    PlanOptions plan;
    std::string by = "subnet";
    std::vector<std::string> from;
    std::vector<std::string> to;
    PairsOptions pairs;
    std::string as;
};

constexpr std::size_t page_columns = 100;
constexpr std::string_view any_service = "any";

// --- the grid as marks -------------------------------------------------------------------------

// What a cell is, in a letter.
constexpr char all_mark = '=';
constexpr char none_mark = '.';
constexpr char no_pairs_mark = ' ';

char mark_of(const reach::Cell& cell) {
    if (cell.pairs == 0)
        return no_pairs_mark;
    if (cell.replies == cell.pairs)
        return all_mark;
    if (cell.replies == 0)
        return none_mark;
    auto tenths = static_cast<char>(cell.replies * 10 / cell.pairs);
    return static_cast<char>('0' + std::max<char>(tenths, 1));
}

// Rows or columns that are alike, where both have pairs.
struct Block {
    std::vector<std::size_t> lines;
    std::string marks;
};

// Blocks of lines with the same marks. Lines without pairs in a place go with any.
std::vector<Block> blocks(const std::vector<std::string>& lines, bool merges) {
    std::vector<Block> found;
    for (std::size_t i = 0; i < lines.size(); ++i) {
        auto goes_with = [&](const Block& block) {
            return std::ranges::equal(block.marks, lines[i], [](char one, char other) {
                return one == other || one == no_pairs_mark || other == no_pairs_mark;
            });
        };
        auto block = merges ? std::ranges::find_if(found, goes_with) : found.end();
        if (block == found.end())
            block = found.insert(found.end(), {{}, lines[i]});
        block->lines.push_back(i);
        for (std::size_t c = 0; c < lines[i].size(); ++c)
            if (block->marks[c] == no_pairs_mark)
                block->marks[c] = lines[i][c];
    }
    return found;
}

std::vector<std::string> turned(const std::vector<Block>& rows, std::size_t width) {
    std::vector<std::string> columns(width);
    for (const Block& row : rows)
        for (std::size_t c = 0; c < width; ++c)
            columns[c] += row.marks[c];
    return columns;
}

std::string name_of(const Block& block, const std::vector<std::string>& names) {
    const std::string& first = names[block.lines.front()];
    return block.lines.size() == 1 ? first
                                   : fmt::format("{} and {} more", first, block.lines.size() - 1);
}

std::vector<std::string> names_of(const Block& block, const std::vector<std::string>& names) {
    std::vector<std::string> all;
    for (std::size_t line : block.lines)
        all.push_back(names[line]);
    return all;
}

std::string coloured(const Style& style, char mark) {
    std::string text(1, mark);
    if (mark == all_mark)
        return style.good(text);
    return mark == none_mark || std::isdigit(mark) ? style.bad(text) : text;
}

// A mark for every cell: rows by name and columns by number, in as many tables as the page takes
// side by side. `Cells` is a Grid or a ServicesGrid.
template <class Cells, class MarkOf>
std::string marks_text(const Style& style, const Cells& grid, MarkOf mark) {
    constexpr std::size_t most_unmerged = 30;
    std::vector<std::string> lines(grid.rows.size());
    for (std::size_t r = 0; r < grid.rows.size(); ++r)
        for (std::size_t c = 0; c < grid.columns.size(); ++c)
            lines[r] += mark(grid.cell(r, c));
    bool merges = std::max(grid.rows.size(), grid.columns.size()) > most_unmerged;
    std::vector<Block> rows = blocks(lines, merges);
    std::vector<Block> columns = blocks(turned(rows, grid.columns.size()), merges);
    std::size_t digits = fmt::format("{}", columns.size()).size();
    // Rows bear the number of the column that is the same.
    std::vector<std::string> titles;
    std::string others;
    for (const Block& row : rows)
        titles.push_back(std::string(digits + 1, ' ') + name_of(row, grid.rows));
    for (std::size_t c = 0; c < columns.size(); ++c) {
        auto names = names_of(columns[c], grid.columns);
        auto row = std::ranges::find_if(
            rows, [&](const Block& r) { return names_of(r, grid.rows) == names; });
        std::string title =
            fmt::format("{:>{}} {}", c + 1, digits, name_of(columns[c], grid.columns));
        if (row != rows.end())
            titles[static_cast<std::size_t>(row - rows.begin())] = title;
        else
            others += title + '\n';
    }
    std::size_t title_width = std::string_view("from \\ to").size();
    for (const std::string& title : titles)
        title_width = std::max(title_width, title.size());
    std::size_t room = page_columns - std::min(title_width, page_columns / 2);
    std::size_t most = std::max<std::size_t>(room / (digits + 1), 1);
    std::string text;
    for (std::size_t first = 0; first < columns.size(); first += most) {
        std::size_t last = std::min(first + most, columns.size());
        text += fmt::format("{:{}}", "from \\ to", title_width);
        for (std::size_t c = first; c < last; ++c)
            text += fmt::format(" {:>{}}", c + 1, digits);
        text += '\n';
        for (std::size_t r = 0; r < rows.size(); ++r) {
            text += style.strong(titles[r]) + std::string(title_width - titles[r].size(), ' ');
            for (std::size_t c = first; c < last; ++c)
                text += std::string(digits, ' ') + coloured(style, columns[c].marks[r]);
            text += '\n';
        }
        if (last < columns.size())
            text += '\n';
    }
    if (!others.empty())
        text += '\n' + others;
    return text;
}

std::string tenths_text(const Style& style, const reach::Grid& grid) {
    return marks_text(style, grid, mark_of)
           + fmt::format("\n{} all get a reply, 1-9 so many tenths, {} none, blank: no pairs\n",
                         all_mark, none_mark);
}

// --- the grid in numbers -------------------------------------------------------------------------

std::string numbers_text(const Style& style, const reach::Grid& grid) {
    std::vector<std::string> headings{"from \\ to"};
    headings.insert(headings.end(), grid.columns.begin(), grid.columns.end());
    Table table(headings);
    for (std::size_t r = 0; r < grid.rows.size(); ++r) {
        std::vector<std::string> row{style.strong(grid.rows[r])};
        for (std::size_t c = 0; c < grid.columns.size(); ++c) {
            const reach::Cell& cell = grid.cell(r, c);
            std::string text = fmt::format("{}/{}", cell.replies, cell.pairs);
            row.push_back(cell.pairs == 0              ? style.faint("-")
                          : cell.replies == cell.pairs ? style.good(text)
                                                       : style.bad(text));
        }
        table.add(row);
    }
    return table.text(style);
}

bool fits_in_numbers(const reach::Grid& grid) {
    std::size_t width = 9;
    for (const std::string& name : grid.rows)
        width = std::max(width, name.size());
    for (std::size_t c = 0; c < grid.columns.size(); ++c) {
        std::size_t column = grid.columns[c].size();
        for (std::size_t r = 0; r < grid.rows.size(); ++r)
            column = std::max(
                column,
                fmt::format("{}/{}", grid.cell(r, c).replies, grid.cell(r, c).pairs).size());
        width += column + 2;
    }
    return width <= page_columns;
}

std::string gaps_text(const Style& style, const Opened& opened, const reach::Grid& grid) {
    std::string text;
    for (const reach::GridGap& gap : grid.gaps) {
        const probe::Diagnosis& d = gap.first;
        text += fmt::format("\n{}  {}  {}\n", style.strong(plan::slug(d.cause)),
                            style.faint(plan::to_string(d.at, opened.lab.source)),
                            gap.pairs == 1 ? fmt::format("{} to {}", gap.from, gap.to)
                                           : fmt::format("{} pairs, the first {} to {}", gap.pairs,
                                                         gap.from, gap.to))
                + style.paragraph(d.explanation, 4) + "\n";
        for (const std::string& line : lab::to_lines(d.remedy))
            text += style.paragraph(fmt::format("{} {}", style.good("remedy"), line), 4) + "\n";
    }
    if (grid.unexplained != 0)
        text += fmt::format("\n{} without a reply: mend these first, and ask again\n",
                            counted(grid.unexplained, "more pair"));
    return text;
}

std::string_view words_of(reach::Kind kind) {
    switch (kind) {
    case reach::Kind::guests: return "guests";
    case reach::Kind::infrastructure: return "routers";
    case reach::Kind::all: break;
    }
    return "all machines";
}

std::string reach_text(const Style& style, const Opened& opened,
                       const reach::GridQuestion& question, const reach::Grid& grid) {
    reach::Cell total = grid.total();
    std::string replies = fmt::format("{} of {}", total.replies, total.pairs);
    return fmt::format("{}, {} by {}: {} pairs get {}\n\n",
                       question.service ? net::to_string(*question.service) : "pings",
                       words_of(question.kind), reach::to_string(question.by),
                       total.replies == total.pairs ? style.good(replies) : style.bad(replies),
                       question.service ? "an answer" : "a reply")
           + (fits_in_numbers(grid) ? numbers_text(style, grid) : tenths_text(style, grid))
           + gaps_text(style, opened, grid);
}

// --- what gets through
// -----------------------------------------------------------------------------

// Letters for what gets through, in the order in which they are met.
class Letters {
  public:
    char of(const reach::ServicesCell& cell) {
        if (cell.through.empty())
            return no_pairs_mark;
        std::string words = words_of(cell);
        if (words == "everything")
            return all_mark;
        if (words == "nothing")
            return none_mark;
        auto known = std::ranges::find(words_, words);
        if (known == words_.end())
            known = words_.insert(known, words);
        auto number = static_cast<std::size_t>(known - words_.begin());
        return number < letters.size() ? letters[number] : '?';
    }

    std::string legend() const {
        std::string text =
            fmt::format("\n{} everything, {} nothing, blank: no pairs\n", all_mark, none_mark);
        for (std::size_t i = 0; i < words_.size(); ++i)
            text += fmt::format("{} {}\n", i < letters.size() ? letters[i] : '?', words_[i]);
        return text;
    }

    static std::string words_of(const reach::ServicesCell& cell) {
        if (cell.through.size() == 1)
            return reach::to_string(cell.through.front().services);
        std::string words;
        for (const reach::Through& through : cell.through)
            words +=
                fmt::format("{}{} {}", words.empty() ? "" : "; ", counted(through.pairs, "pair"),
                            reach::to_string(through.services));
        return words;
    }

  private:
    static constexpr std::string_view letters =
        "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz";
    std::vector<std::string> words_;
};

std::string services_text(const Style& style, const reach::GridQuestion& question,
                          const reach::ServicesGrid& grid) {
    Letters letters;
    std::string text = fmt::format("what gets through between {} by {}, whether or not anything "
                                   "listens\n\n",
                                   words_of(question.kind), reach::to_string(question.by));
    text +=
        marks_text(style, grid, [&](const reach::ServicesCell& cell) { return letters.of(cell); });
    return text + letters.legend();
}

std::vector<std::vector<std::string>> services_rows(const reach::ServicesGrid& grid) {
    std::vector<std::vector<std::string>> rows;
    for (std::size_t r = 0; r < grid.rows.size(); ++r)
        for (std::size_t c = 0; c < grid.columns.size(); ++c)
            if (!grid.cell(r, c).through.empty())
                rows.push_back({grid.rows[r], grid.columns[c], Letters::words_of(grid.cell(r, c))});
    return rows;
}

// --- asking --------------------------------------------------------------------------------------

reach::GridQuestion question_of(const ReachOptions& options) {
    reach::GridQuestion question{.kind = kind_of(options.pairs),
                                 .from = options.from,
                                 .to = options.to,
                                 .family = family_of(options.pairs),
                                 .threads = threads()};
    for (reach::By by : {reach::By::subnet, reach::By::site, reach::By::machine})
        if (options.by == reach::to_string(by))
            question.by = by;
    if (options.pairs.service != any_service)
        question.service = service_of(options.pairs, ", or any");
    return question;
}

constexpr const char* less = ": ask by site, or narrow it with --from and --to";

std::vector<std::vector<std::string>> grid_rows(const reach::Grid& grid) {
    std::vector<std::vector<std::string>> rows;
    for (std::size_t r = 0; r < grid.rows.size(); ++r)
        for (std::size_t c = 0; c < grid.columns.size(); ++c)
            if (const reach::Cell& cell = grid.cell(r, c); cell.pairs != 0)
                rows.push_back({grid.rows[r], grid.columns[c],
                                fmt::format("{}/{}", cell.replies, cell.pairs)});
    return rows;
}

// The answer in the format that is asked for. `Maker` has the grid, its rows, and the words for it.
template <class Maker>
Outcome answer(const Style& style, const Opened& opened, const PlanOptions& options,
               const Maker& maker) {
    routing::Settled settled = settle(opened, options);
    auto grid = maker.grid(settled);
    auto grid_under = [&](const routing::Settled& other) {
        return &other == &settled ? grid : maker.grid(other);
    };
    if (options.json())
        return {json_of(opened, options, settled,
                        [&](const auto& other) { return maker.json(grid_under(other)); })};
    if (options.format == Format::csv)
        return {maker.csv(grid)};
    Rows rows{{"from", "to", maker.heading}, 2, [&](const routing::Settled& other) {
                  return maker.rows(grid_under(other));
              }};
    return {maker.text(grid) + changes_text(style, opened, options, settled, rows)};
}

struct GridMaker {
    const Style& style;
    const Opened& opened;
    const reach::GridQuestion& question;
    Progress& progress;
    std::string heading = "replies";

    reach::Grid grid(const routing::Settled& settled) const {
        return asked(less, [&] { return reach::grid(settled, question, std::ref(progress)); });
    }
    std::string json(const reach::Grid& grid) const {
        return exports::grid_json(opened.lab, question, grid);
    }
    std::string csv(const reach::Grid& grid) const { return exports::grid_csv(grid); }
    auto rows(const reach::Grid& grid) const { return grid_rows(grid); }
    std::string text(const reach::Grid& grid) const {
        return reach_text(style, opened, question, grid);
    }
};

struct ServicesMaker {
    const Style& style;
    const Opened& opened;
    const reach::GridQuestion& question;
    Progress& progress;
    std::string heading = "gets through";

    reach::ServicesGrid grid(const routing::Settled& settled) const {
        return asked(less, [&] { return reach::services(settled, question, std::ref(progress)); });
    }
    std::string json(const reach::ServicesGrid& grid) const {
        return exports::services_json(opened.lab, question, grid);
    }
    std::string csv(const reach::ServicesGrid& grid) const { return exports::services_csv(grid); }
    auto rows(const reach::ServicesGrid& grid) const { return services_rows(grid); }
    std::string text(const reach::ServicesGrid& grid) const {
        return services_text(style, question, grid);
    }
};

// The lab's reach as expectations.
Outcome frozen(const Opened& opened, const ReachOptions& options,
               const reach::GridQuestion& question) {
    if (options.pairs.service == any_service)
        throw NotAsked("--as expect: an expectation asks for one service, or pings");
    routing::Settled settled = settle(opened, options.plan);
    return {exports::expect_section(asked(less, [&] {
        return reach::expectations(settled,
                                   {.service = question.service, .threads = question.threads});
    }))};
}

} // namespace

void add_reach(CLI::App& app, Run& run) {
    auto options = std::make_shared<ReachOptions>();
    CLI::App* command = app.add_subcommand(
        "reach", "how many pairs of machines get a reply, and why the others do not");
    add_table_options(*command, options->plan);
    add_cuts(*command, options->plan);
    take_words(command->add_option("--by", options->by, "rows and columns; default: subnet"),
               {"subnet", "site", "machine"});
    command
        ->add_option("--from", options->from,
                     "only what is on this subnet or site, or this machine, asks; may be repeated")
        ->type_name("NAME")
        ->allow_extra_args(false);
    command->add_option("--to", options->to, "only such are asked; may be repeated")
        ->type_name("NAME")
        ->allow_extra_args(false);
    add_pairs_options(*command, options->pairs,
                      "a service instead of a ping, such as tcp/22; any: which services get "
                      "through, whether or not anything listens");
    take_words(command->add_option("--as", options->as,
                                   "what gets a reply today, and what not, as the expect section "
                                   "of a plan, in as few entries as possible"),
               {"expect"})
        ->excludes("--by", "--machines", "--from", "--to", "--family", "--format");
    command->footer("Examples:\n"
                    "  jackal reach skerry.yaml\n"
                    "  jackal reach skerry.yaml --by machine --from quay --service tcp/22\n"
                    "  jackal reach skerry.yaml --to sonar --service any\n"
                    "  jackal reach skerry.yaml --as expect\n"
                    "\n"
                    "Every machine asks every other, as it would by itself.");
    command->callback([&run, options] {
        run = [options](const Style& style) -> Outcome {
            reach::GridQuestion question = question_of(*options);
            Opened opened = open_plan(options->plan);
            Progress progress("asking");
            if (!options->as.empty())
                return frozen(opened, *options, question);
            if (options->pairs.service == any_service)
                return answer(style, opened, options->plan,
                              ServicesMaker{style, opened, question, progress});
            return answer(style, opened, options->plan,
                          GridMaker{style, opened, question, progress});
        };
    });
}

} // namespace jackal::cli
