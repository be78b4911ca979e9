#include "export/drawing/layout.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <functional>
#include <graphviz/gvc.h>
#include <memory>
#include <mutex>
#include <numeric>
#include <stdexcept>

namespace jackal::exports::drawing {

double CardSize::height() const {
    return std::accumulate(rows.begin(), rows.end(), head);
}

std::size_t letters(std::string_view text) {
    return static_cast<std::size_t>(
        std::ranges::count_if(text, [](char c) { return (c & 0xc0) != 0x80; }));
}

std::string_view first_letters(std::string_view text, std::size_t count) {
    std::size_t at = 0;
    for (; at < text.size(); ++at)
        if ((text[at] & 0xc0) != 0x80 && count-- == 0)
            break;
    return text.substr(0, at);
}

std::string escaped(std::string_view text) {
    std::string line(text);
    std::ranges::replace_if(
        line, [](char c) { return c == '\n' || c == '\t'; }, ' ');
    std::string safe;
    for (char c : plan::printable(line)) // XML has no control characters
        switch (c) {
        case '&': safe += "&amp;"; break;
        case '<': safe += "&lt;"; break;
        case '>': safe += "&gt;"; break;
        case '"': safe += "&quot;"; break;
        default: safe += c;
        }
    return safe;
}

std::string badge_text(const Badge& badge) {
    switch (badge.kind) {
    case Badge::Kind::warning:
    case Badge::Kind::error: return fmt::format("!{}", badge.number);
    case Badge::Kind::out: return fmt::format("\u2192{}", badge.number);
    case Badge::Kind::back: return fmt::format("\u2190{}", badge.number);
    case Badge::Kind::end: return "\u2715 ends here";
    }
    return {};
}

double width_of(const std::vector<Badge>& badges) {
    double width = 0;
    for (const Badge& badge : badges)
        width += measure::badge_gap * 3
                 + measure::letter * static_cast<double>(letters(badge_text(badge)));
    return width;
}

namespace {

double width_of(std::string_view text, double letter = measure::letter) {
    return letter * static_cast<double>(letters(text));
}

} // namespace

CardSize size_of(const Card& card) {
    using namespace measure;
    CardSize size;
    double label = 0;
    double value = 0;
    double note = 0;
    for (const Row& row : card.rows) {
        label = std::max(label, width_of(row.label));
        for (const std::string& text : row.values)
            value = std::max(value, width_of(text));
        double end = width_of(row.note);
        double badges = width_of(row.badges);
        note = std::max(note, end + (badges > 0 && end > 0 ? gap : 0) + badges);
        size.rows.push_back(line * static_cast<double>(std::max<std::size_t>(1, row.values.size()))
                            + row_gap);
    }
    size.value = pad + label + (label > 0 && value > 0 ? gap : 0);
    size.note = size.value + value + (note > 0 ? gap : 0);
    double title_width = width_of(card.title, big_letter)
                         + (card.says.empty() ? 0 : gap + width_of(card.says)) + gap
                         + width_of(card.badges);
    double widest = std::max(title_width, 60.0);
    for (const std::string& text : card.below)
        widest = std::max(widest, width_of(text));
    size.width = std::ceil(std::max(widest + 2 * pad, size.note + note + pad));
    size.head = title + below * static_cast<double>(card.below.size()) + row_gap;
    return size;
}

std::vector<std::size_t> outwards(const Picture& picture, bool from_outside) {
    std::vector<std::vector<std::size_t>> joined(picture.cards.size());
    for (const Line& line : picture.lines)
        for (int end : {0, 1})
            joined[line.ends[end].card].push_back(line.ends[1 - end].card);
    std::vector<std::size_t> roots(picture.cards.size());
    std::iota(roots.begin(), roots.end(), std::size_t{0});
    std::ranges::stable_sort(roots, std::greater{}, [&](std::size_t card) {
        return std::pair(from_outside && picture.cards[card].outside, joined[card].size());
    });
    std::vector<std::size_t> order;
    std::vector<bool> seen(picture.cards.size());
    auto reach = [&](std::size_t card) {
        if (!seen[card])
            order.push_back(card);
        seen[card] = true;
    };
    for (std::size_t root : roots) {
        std::size_t at = order.size();
        for (reach(root); at < order.size(); ++at)
            std::ranges::for_each(joined[order[at]], reach);
    }
    return order;
}

// --- what Graphviz is told --------------------------------------------------------------------

namespace {

std::string quoted(std::string_view text) {
    std::string safe = "\"";
    for (char c : text) {
        if (c == '"' || c == '\\')
            safe += '\\';
        safe += c;
    }
    return safe + "\"";
}

std::string cell(std::string_view port, double width, double height, std::string_view text) {
    return fmt::format("<TR><TD PORT=\"{}\" FIXEDSIZE=\"TRUE\" WIDTH=\"{}\" HEIGHT=\"{}\" "
                       "ALIGN=\"LEFT\">{}</TD></TR>",
                       port, static_cast<int>(width), static_cast<int>(height), escaped(text));
}

std::string table(std::string_view rows) {
    return fmt::format("<<TABLE BORDER=\"0\" CELLBORDER=\"0\" CELLSPACING=\"0\" "
                       "CELLPADDING=\"0\">{}</TABLE>>",
                       rows);
}

// With words, for people; without, where only sizes count.
std::string node_text(const Card& card, bool with_words) {
    CardSize size = size_of(card);
    if (!with_words) {
        std::string rows = cell("t", size.width, size.head, "");
        for (std::size_t i = 0; i < card.rows.size(); ++i)
            rows += cell(fmt::format("r{}", i), size.width, size.rows[i], "");
        return table(rows);
    }
    std::string title = card.title;
    for (const std::string& text : card.below)
        title += "  " + text;
    std::string rows = cell("t", size.width, size.head, title);
    for (std::size_t i = 0; i < card.rows.size(); ++i) {
        std::string text = card.rows[i].label;
        for (const std::string& value : card.rows[i].values)
            text += "  " + value;
        if (!card.rows[i].note.empty())
            text += "  " + card.rows[i].note;
        rows += cell(fmt::format("r{}", i), size.width, size.rows[i], text);
    }
    return table(rows);
}

// Lines go from what is nearer to where the picture begins, and none goes back.
std::vector<std::size_t> ranks(const Picture& picture) {
    std::vector<std::size_t> rank(picture.cards.size());
    std::size_t next = 0;
    for (std::size_t card : outwards(picture, true))
        rank[card] = next++;
    return rank;
}

std::string end_text(const LineEnd& end, char side) {
    return end.row == LineEnd::title ? fmt::format("c{}:t:{}", end.card, side)
                                     : fmt::format("c{}:r{}:{}", end.card, end.row, side);
}

constexpr double frame_title = 22;

std::string graph_text(const Picture& picture, bool with_words) {
    auto words = [&](const std::string& text) { return with_words ? text : std::string(); };
    std::string text = fmt::format(
        "graph {} {{\n"
        "  graph [rankdir=LR, nodesep=0.3, ranksep=0.55, fontname=\"monospace\", fontsize=12]\n"
        "  node [shape=plain, fontname=\"monospace\", fontsize=12]\n"
        "  edge [fontname=\"monospace\", fontsize=12]\n",
        quoted(picture.title));
    auto add_cards = [&](std::size_t frame, std::string_view indent) {
        for (std::size_t i = 0; i < picture.cards.size(); ++i)
            if (picture.cards[i].frame == frame)
                text += fmt::format("{}c{} [label={}]\n", indent, i,
                                    node_text(picture.cards[i], with_words));
    };
    for (std::size_t i = 0; i < picture.frames.size(); ++i) {
        double width = width_of(picture.frames[i].title, measure::big_letter) + 2 * measure::pad;
        text +=
            fmt::format("  subgraph cluster_{} {{\n    graph [margin=12, labeljust=l, label={}]\n",
                        i, table(cell("t", width, frame_title, words(picture.frames[i].title))));
        add_cards(i, "    ");
        text += "  }\n";
    }
    add_cards(Card::no_frame, "  ");
    std::vector<std::size_t> rank = ranks(picture);
    for (std::size_t i = 0; i < picture.lines.size(); ++i) {
        const Line& line = picture.lines[i];
        bool turned = rank[line.ends[0].card] > rank[line.ends[1].card];
        std::string label;
        if (!line.label.empty())
            label = ", label="
                    + table(cell("t", width_of(line.label) + measure::pad, measure::line + 4,
                                 words(line.label)));
        text += fmt::format("  {} -- {} [key=\"l{}\"{}{}]\n", end_text(line.ends[turned], 'e'),
                            end_text(line.ends[!turned], 'w'), i, label,
                            line.state == State::works ? "" : ", style=dashed");
    }
    return text + "}\n";
}

} // namespace

std::string dot(const Picture& picture) {
    return graph_text(picture, true);
}

// --- what Graphviz answers --------------------------------------------------------------------

namespace {

// Graphviz keeps what it works on in variables of its own.
std::mutex one_at_a_time;

struct FreeGraph {
    GVC_t* context;
    void operator()(Agraph_t* graph) const {
        gvFreeLayout(context, graph);
        agclose(graph);
    }
};

class Reader {
  public:
    Reader(const Picture& picture, Agraph_t* graph) : picture_(picture), graph_(graph) {
        boxf all = GD_bb(graph);
        left_ = all.LL.x;
        top_ = all.UR.y;
        layout_.width = all.UR.x - all.LL.x;
        layout_.height = all.UR.y - all.LL.y;
        layout_.lines.resize(picture.lines.size());
        layout_.labels.resize(picture.lines.size());
    }

    Layout read() {
        for (std::size_t i = 0; i < picture_.cards.size(); ++i) {
            Agnode_t* node = agnode(graph_, name("c", i).data(), 0);
            if (!node)
                throw std::runtime_error("Graphviz lost a card of the picture");
            CardSize size = size_of(picture_.cards[i]);
            Point middle = point(ND_coord(node));
            layout_.cards.push_back({middle.x - size.width / 2, middle.y - size.height() / 2,
                                     size.width, size.height()});
            for (Agedge_t* edge = agfstout(graph_, node); edge; edge = agnxtout(graph_, edge))
                read(edge);
        }
        for (std::size_t i = 0; i < picture_.frames.size(); ++i)
            if (Agraph_t* part = agsubg(graph_, name("cluster_", i).data(), 0)) {
                boxf box = GD_bb(part);
                Point corner = point({box.LL.x, box.UR.y});
                layout_.frames.push_back(
                    {corner.x, corner.y, box.UR.x - box.LL.x, box.UR.y - box.LL.y});
            } else {
                layout_.frames.push_back({});
            }
        return std::move(layout_);
    }

  private:
    static std::string name(std::string_view kind, std::size_t number) {
        return fmt::format("{}{}", kind, number);
    }

    Point point(pointf at) const { return {at.x - left_, top_ - at.y}; }

    void read(Agedge_t* edge) {
        std::size_t number = std::stoul(agnameof(edge) + 1);
        if (const splines* curves = ED_spl(edge); curves && curves->size > 0)
            for (std::size_t i = 0; i < static_cast<std::size_t>(curves->list[0].size); ++i)
                layout_.lines[number].push_back(point(curves->list[0].list[i]));
        if (const textlabel_t* label = ED_label(edge))
            layout_.labels[number] = point(label->pos);
        bool turned = agnameof(agtail(edge)) != name("c", picture_.lines[number].ends[0].card);
        if (turned)
            std::ranges::reverse(layout_.lines[number]);
    }

    const Picture& picture_;
    Agraph_t* graph_;
    Layout layout_;
    double left_ = 0;
    double top_ = 0;
};

} // namespace

Layout lay_out(const Picture& picture) {
    std::string text = graph_text(picture, false);
    std::lock_guard lock(one_at_a_time);
    static const std::unique_ptr<GVC_t, int (*)(GVC_t*)> context(gvContext(), gvFreeContext);
    agseterr(AGMAX); // it has nothing to say to anybody here
    std::unique_ptr<Agraph_t, FreeGraph> graph(agmemread(text.c_str()), {context.get()});
    if (!graph || gvLayout(context.get(), graph.get(), "dot") != 0)
        throw std::runtime_error("Graphviz finds no places for the cards of the picture");
    return Reader(picture, graph.get()).read();
}

} // namespace jackal::exports::drawing
