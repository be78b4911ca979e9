#include "jackal/export/drawing.h"

#include "export/drawing/curve.h"
#include "export/drawing/layout.h"

#include <algorithm>
#include <array>
#include <fmt/format.h>
#include <functional>

namespace jackal::exports::drawing {

namespace {

// A rule of the style sheet, in light and in dark.
struct Rule {
    std::string_view of;
    std::string_view light;
    std::string_view dark;
};

constexpr Rule rules[] = {
    {".paper", "fill:#ffffff", "fill:#15191d"},
    {"text", "fill:#1c2126", "fill:#dbe1e6"},
    {".faint", "fill:#5b6670", "fill:#98a4ae"},
    {".segment", "fill:#e9f4f2;stroke:#1f6a62", "fill:#17302d;stroke:#7cc4ba"},
    {".segment-rail", "fill:#1f6a62", "fill:#7cc4ba"},
    {".router", "fill:#efedf8;stroke:#4a4192", "fill:#272342;stroke:#aaa2ee"},
    {".guest", "fill:#f3f4f5;stroke:#59636c", "fill:#23282d;stroke:#98a4ae"},
    {".switch", "fill:#faf3e3;stroke:#7b5a0e", "fill:#33290f;stroke:#d8b35c"},
    {".switch-rail", "fill:#7b5a0e", "fill:#d8b35c"},
    {".site", "fill:#eef3fa;stroke:#2c5788", "fill:#1b2a3c;stroke:#8fb8e6"},
    {".frame", "fill:none;stroke:#9aa4ad", "fill:none;stroke:#57626c"},
    {".rule", "stroke:#c5ccd2", "stroke:#3b444c"},
    {".line", "fill:none;stroke:#4b565f", "fill:none;stroke:#a9b4bd"},
    {".inner", "fill:none;stroke:#ffffff", "fill:none;stroke:#15191d"},
    {".sign", "fill:none;stroke:#a3123f", "fill:none;stroke:#ff8fa8"},
    {".out", "fill:none;stroke:#1668b8", "fill:none;stroke:#6db4f5"},
    {".back", "fill:none;stroke:#b4530a", "fill:none;stroke:#f0a45c"},
    {".out-tip", "fill:#1668b8", "fill:#6db4f5"},
    {".back-tip", "fill:#b4530a", "fill:#f0a45c"},
    {".badge-error", "fill:#a3123f;stroke:#a3123f", "fill:#ff8fa8;stroke:#ff8fa8"},
    {".badge-warning", "fill:#ffffff;stroke:#8a5a00", "fill:#15191d;stroke:#e8b64c"},
    {".badge-out", "fill:#ffffff;stroke:#1668b8", "fill:#15191d;stroke:#6db4f5"},
    {".badge-back", "fill:#ffffff;stroke:#b4530a", "fill:#15191d;stroke:#f0a45c"},
    {".badge-end", "fill:#ffffff;stroke:#a3123f", "fill:#15191d;stroke:#ff8fa8"},
    {".on-error", "fill:#ffffff", "fill:#15191d"},
};

// What both have.
constexpr std::string_view shapes =
    "text{font-family:'DejaVu Sans Mono',ui-monospace,Menlo,Consolas,monospace;font-size:12px}"
    ".title{font-size:14px;font-weight:bold}.heading{font-size:18px;font-weight:bold}"
    ".card{stroke-width:1.5}.outside{stroke-dasharray:8 3}.off{stroke-dasharray:2 4}"
    ".frame{stroke-width:1.2}.attached{stroke-width:1.4}.link{stroke-width:3}"
    ".tunnel{stroke-width:5}.inner{stroke-width:2}.peering{stroke-width:2.5;stroke-dasharray:14 4 "
    "3 4}"
    ".cable{stroke-width:2}.down{stroke-dasharray:3 5}.open{stroke-dasharray:1 "
    "6;stroke-linecap:round}"
    ".sign{stroke-width:2.5}.out{stroke-width:6}.back{stroke-width:3;stroke-dasharray:9 6}"
    ".badge{stroke-width:1.5}";

std::string style_sheet(Theme theme) {
    std::string text(shapes);
    auto add = [&](bool dark, std::string_view before, std::string_view after) {
        text += before;
        for (const Rule& rule : rules)
            text += fmt::format("{}{{{}}}", rule.of, dark ? rule.dark : rule.light);
        text += after;
    };
    add(theme == Theme::dark, "", "");
    if (theme == Theme::automatic)
        add(true, "@media screen and (prefers-color-scheme:dark){", "}");
    return text;
}

std::string_view class_of(Card::Kind kind) {
    switch (kind) {
    case Card::Kind::segment: return "segment";
    case Card::Kind::router: return "router";
    case Card::Kind::guest: return "guest";
    case Card::Kind::switch_: return "switch";
    case Card::Kind::site: return "site";
    }
    return "";
}

std::string_view class_of(Line::Kind kind) {
    switch (kind) {
    case Line::Kind::attached: return "attached";
    case Line::Kind::link: return "link";
    case Line::Kind::tunnel: return "tunnel";
    case Line::Kind::peering: return "peering";
    case Line::Kind::cable: return "cable";
    }
    return "";
}

std::string_view class_of(Badge::Kind kind) {
    switch (kind) {
    case Badge::Kind::warning: return "warning";
    case Badge::Kind::error: return "error";
    case Badge::Kind::out: return "out";
    case Badge::Kind::back: return "back";
    case Badge::Kind::end: return "end";
    }
    return "";
}

// Lines of at most so many letters, broken between words where those are not longer; all but the
// first are indented.
std::vector<std::string> broken(std::string_view text, std::size_t most) {
    std::vector<std::string> lines(1);
    for (std::size_t at = 0; at < text.size();) {
        std::size_t end = std::min(text.find(' ', at), text.size());
        std::string_view word = text.substr(at, end - at);
        if (!lines.back().empty() && letters(lines.back()) + 1 + letters(word) > most)
            lines.emplace_back("    ");
        else if (at != 0)
            lines.back() += ' ';
        for (std::size_t left = letters(word), taken = letters(lines.back());
             taken + left > most;) {
            const std::size_t room = most - std::min(taken, most - 1);
            const std::string_view part = first_letters(word, room);
            lines.back() += part;
            word.remove_prefix(part.size());
            left -= room;
            lines.emplace_back("    ");
            taken = lines.back().size();
        }
        lines.back() += word;
        at = end + 1;
    }
    return lines;
}

class Writer {
  public:
    Writer(const Picture& picture, Theme theme) : p(picture), layout_(lay_out(picture)) {
        width_ = std::max(layout_.width + 2 * margin, 860.0);
        text_columns_ = static_cast<std::size_t>((width_ - 2 * margin) / measure::letter);
        theme_ = theme;
    }

    std::string text() {
        write_heading();
        left_ = margin;
        top_ = y_;
        write_frames();
        for (std::size_t i = 0; i < p.lines.size(); ++i)
            write_line(p.lines[i], layout_.lines[i], fmt::format("data-line=\"{}\" ", i));
        for (std::size_t i = 0; i < p.cards.size(); ++i)
            write_card(p.cards[i], layout_.cards[i]);
        for (std::size_t i = 0; i < p.lines.size(); ++i)
            if (!p.lines[i].label.empty())
                write_label(p.lines[i].label, layout_.labels[i]);
        y_ = top_ + layout_.height + 30;
        write_legend();
        write_notes();
        return fmt::format("<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{0:.0f}\" "
                           "height=\"{1:.0f}\" viewBox=\"0 0 {0:.0f} {1:.0f}\" "
                           "role=\"graphics-document document\" aria-labelledby=\"name about\">\n"
                           "<title id=\"name\">{2}</title>\n<desc id=\"about\">{3}</desc>\n"
                           "<style>{4}</style>\n"
                           "<rect class=\"paper\" width=\"100%\" height=\"100%\"/>\n",
                           width_, y_, escaped(heading()), escaped(about()), style_sheet(theme_))
               + body_ + "</svg>\n";
    }

  private:
    static constexpr double margin = 24;

    std::string heading() const { return fmt::format("{}: {}", p.title, to_string(p.view)); }

    std::string about() const {
        std::string text = fmt::format("{} cards and {} lines.", p.cards.size(), p.lines.size());
        for (const Line& line : p.lines) {
            auto end = [&](int i) {
                const Card& card = p.cards[line.ends[i].card];
                return line.ends[i].row == LineEnd::title
                           ? card.title
                           : fmt::format("{} {}", card.title, card.rows[line.ends[i].row].label);
            };
            text += fmt::format(
                " {} to {}{}{}{}.", end(0), end(1),
                line.kind == Line::Kind::attached ? "" : fmt::format(", {}", class_of(line.kind)),
                line.label.empty() ? "" : ", " + line.label,
                line.state == State::works ? "" : ", does not work");
        }
        return text;
    }

    void write(std::string_view text) { body_ += text; }

    void write_text(double x, double y, std::string_view text, std::string_view kind = "") {
        write(fmt::format("<text x=\"{:.1f}\" y=\"{:.1f}\"{}>{}</text>\n", x, y,
                          kind.empty() ? "" : fmt::format(" class=\"{}\"", kind), escaped(text)));
    }

    void write_heading() {
        y_ = margin + 18;
        write_text(margin, y_, heading(), "heading");
        y_ += 6;
        for (const std::string& line : broken(p.about, text_columns_))
            if (!line.empty())
                write_text(margin, y_ += 16, line, "faint");
        y_ += 20;
    }

    void write_frames() {
        for (std::size_t i = 0; i < p.frames.size(); ++i) {
            const Box& box = layout_.frames[i];
            if (box.width == 0)
                continue;
            write(fmt::format("<rect class=\"frame{}\" x=\"{:.1f}\" y=\"{:.1f}\" width=\"{:.1f}\" "
                              "height=\"{:.1f}\" rx=\"6\"/>\n",
                              p.frames[i].outside ? " outside" : "", left_ + box.left,
                              top_ + box.top, box.width, box.height));
            write_text(left_ + box.left + 8, top_ + box.top + 17, p.frames[i].title, "title");
        }
    }

    std::string shifted() const {
        return fmt::format("transform=\"translate({:.1f} {:.1f})\"", left_, top_);
    }

    void write_path(std::string_view kind, const Curve& curve) {
        write(fmt::format("<path class=\"{}\" d=\"{}\"/>\n", kind, path_text(curve)));
    }

    // Two strokes across a way: one over the other for what does not work, side by side for what
    // is refused.
    void write_sign(const OnCurve& on, State state) {
        std::string_view strokes =
            state == State::refused ? "M-4 -8L-4 8M4 -8L4 8" : "M-6 -6L6 6M-6 6L6 -6";
        write(fmt::format("<path class=\"sign\" transform=\"translate({:.1f} {:.1f}) "
                          "rotate({:.0f})\" d=\"{}\"/>\n",
                          on.at.x, on.at.y, on.degrees, strokes));
    }

    void write_line(const Line& line, const Curve& curve, std::string_view more = "") {
        if (curve.size() < 4)
            return;
        write(fmt::format("<g {}{}>\n", more, shifted()));
        auto has = [&](bool is_back) {
            return std::ranges::any_of(
                line.passages, [&](const Passage& passage) { return passage.is_back == is_back; });
        };
        if (has(false))
            write_path("out", curve);
        std::string kind = fmt::format("line {}", class_of(line.kind));
        if (line.state == State::half) {
            auto [first, second] = halves(curve);
            write_path(kind + (line.open_end == 0 ? " open" : ""), first);
            write_path(kind + (line.open_end == 1 ? " open" : ""), second);
        } else {
            write_path(line.state == State::down ? kind + " down" : kind, curve);
        }
        if (line.kind == Line::Kind::tunnel)
            write_path("inner", curve);
        if (has(true))
            write_path("back", curve);
        if (line.state == State::down || line.state == State::refused)
            write_sign(along(curve, 0.3), line.state);
        for (const Passage& passage : line.passages) {
            OnCurve on = along(curve, passage.is_back ? 0.75 : 0.25);
            write(fmt::format("<path class=\"{}-tip\" transform=\"translate({:.1f} {:.1f}) "
                              "rotate({:.0f})\" d=\"M-8 -8L10 0L-8 8z\"/>\n",
                              passage.is_back ? "back" : "out", on.at.x, on.at.y,
                              on.degrees + (passage.is_reversed ? 180 : 0)));
        }
        write("</g>\n");
    }

    void write_label(std::string_view label, Point middle) {
        double width = measure::letter * static_cast<double>(letters(label)) + 6;
        write(fmt::format("<rect class=\"paper\" x=\"{:.1f}\" y=\"{:.1f}\" width=\"{:.1f}\" "
                          "height=\"16\" opacity=\"0.85\"/>\n",
                          left_ + middle.x - width / 2, top_ + middle.y - 8, width));
        write_text(left_ + middle.x - width / 2 + 3, top_ + middle.y + 4, label);
    }

    // The outline of a card, each kind its own.
    void write_shape(Card::Kind kind, const Box& b, std::string_view more) {
        std::string name = fmt::format("card {}{}", class_of(kind), more);
        double right = b.left + b.width;
        double bottom = b.top + b.height;
        switch (kind) {
        case Card::Kind::router: {
            double c = std::min(8.0, b.height / 4);
            write(fmt::format("<path class=\"{}\" d=\"M{:.1f} {:.1f}H{:.1f}L{:.1f} {:.1f}V{:.1f}"
                              "L{:.1f} {:.1f}H{:.1f}L{:.1f} {:.1f}V{:.1f}z\"/>\n",
                              name, b.left + c, b.top, right - c, right, b.top + c, bottom - c,
                              right - c, bottom, b.left + c, b.left, bottom - c, b.top + c));
            return;
        }
        case Card::Kind::guest: write_rect(name, b, 9); return;
        case Card::Kind::segment:
            write_rect(name, b, 0);
            write_rect("segment-rail", {b.left - 5, b.top - 2, b.width + 10, 4}, 2);
            return;
        case Card::Kind::switch_:
            write_rect(name, b, 0);
            for (double x = b.left + 6; x + 6 < right; x += 12)
                write_rect("switch-rail", {x, b.top - 3, 6, 5}, 0);
            return;
        case Card::Kind::site:
            write_rect(name, b, 0);
            write_rect(name, {b.left - 3, b.top - 3, b.width + 6, b.height + 6}, 0, "fill:none");
            return;
        }
    }

    void write_rect(std::string_view kind, const Box& b, double round,
                    std::string_view style = "") {
        write(fmt::format("<rect class=\"{}\" x=\"{:.1f}\" y=\"{:.1f}\" width=\"{:.1f}\" "
                          "height=\"{:.1f}\" rx=\"{}\"{}/>\n",
                          kind, b.left, b.top, b.width, b.height, round,
                          style.empty() ? "" : fmt::format(" style=\"{}\"", style)));
    }

    // Marks side by side, the last one ending at `right`.
    void write_badges(const std::vector<Badge>& badges, double right, double baseline) {
        double x = right - width_of(badges);
        for (const Badge& badge : badges) {
            std::string text = badge_text(badge);
            double width =
                measure::letter * static_cast<double>(letters(text)) + 2 * measure::badge_gap;
            x += measure::badge_gap;
            write_rect(fmt::format("badge badge-{}", class_of(badge.kind)),
                       {x, baseline - 11, width, 14}, 4);
            write_text(x + measure::badge_gap, baseline, text,
                       badge.kind == Badge::Kind::error ? "on-error" : "");
            x += width;
        }
    }

    static std::string words(const Card& card) {
        std::string text = fmt::format("{}, {}", card.title, card.says);
        for (const Row& row : card.rows) {
            text += "; " + row.label;
            for (const std::string& value : row.values)
                text += " " + value;
            if (!row.note.empty())
                text += " " + row.note;
        }
        return text;
    }

    void write_card(const Card& card, Box box) {
        using namespace measure;
        box.left += left_;
        box.top += top_;
        CardSize size = size_of(card);
        write(fmt::format("<g id=\"{}\" role=\"graphics-symbol img\" aria-label=\"{}\">\n",
                          escaped(card.id), escaped(words(card))));
        write_shape(card.kind, box,
                    card.state == State::down ? " off"
                    : card.outside            ? " outside"
                                              : "");
        double right = box.left + box.width - pad;
        write_text(box.left + pad, box.top + 17, card.title, "title");
        if (!card.says.empty())
            write_text(box.left + pad + big_letter * static_cast<double>(letters(card.title)) + gap,
                       box.top + 17, card.says, "faint");
        write_badges(card.badges, right, box.top + 17);
        double y = box.top + title;
        for (const std::string& text : card.below)
            write_text(box.left + pad, (y += below) - 2, text);
        y = box.top + size.head;
        for (std::size_t i = 0; i < card.rows.size(); ++i) {
            const Row& row = card.rows[i];
            write(fmt::format("<line class=\"rule\" x1=\"{0:.1f}\" x2=\"{1:.1f}\" y1=\"{2:.1f}\" "
                              "y2=\"{2:.1f}\"/>\n",
                              box.left + 4, box.left + box.width - 4, y));
            double baseline = y + 14;
            write_text(box.left + pad, baseline, row.label);
            for (std::size_t v = 0; v < row.values.size(); ++v)
                write_text(box.left + size.value, baseline + line * static_cast<double>(v),
                           row.values[v]);
            if (!row.note.empty())
                write_text(box.left + size.note, baseline, row.note, "faint");
            write_badges(row.badges, right, baseline);
            y += size.rows[i];
        }
        write("</g>\n");
    }

    // Of each kind of thing that is drawn, what it is.
    void write_legend() {
        double x = margin;
        y_ += 8;
        auto item = [&](std::string_view text, const std::function<void(double, double)>& sample) {
            double width = 46 + measure::letter * static_cast<double>(letters(text)) + 18;
            if (x + width > width_ - margin && x > margin) {
                x = margin;
                y_ += 24;
            }
            sample(x, y_);
            write_text(x + 46, y_ + 4, text, "faint");
            x += width;
        };
        auto has_card = [&](auto wanted) { return std::ranges::any_of(p.cards, wanted); };
        auto has_line = [&](auto wanted) { return std::ranges::any_of(p.lines, wanted); };
        for (auto [kind, text] :
             {std::pair(Card::Kind::segment, "segment, guests on it"),
              std::pair(Card::Kind::router, "router"), std::pair(Card::Kind::guest, "guest"),
              std::pair(Card::Kind::switch_, "switch"), std::pair(Card::Kind::site, "site")})
            if (has_card([&](const Card& card) { return card.kind == kind; }))
                item(text, [&](double at, double y) {
                    write_shape(kind, {at + 4, y - 8, 30, 16}, "");
                });
        if (has_card([](const Card& card) { return card.outside; }))
            item("not in the plan", [&](double at, double y) {
                write_shape(Card::Kind::guest, {at + 4, y - 8, 30, 16}, " outside");
            });
        if (has_card([](const Card& card) { return card.state == State::down; }))
            item("off", [&](double at, double y) {
                write_shape(Card::Kind::guest, {at + 4, y - 8, 30, 16}, " off");
            });
        for (auto [kind, text] :
             {std::pair(Line::Kind::attached, "on a segment or port"),
              std::pair(Line::Kind::link, "link"), std::pair(Line::Kind::tunnel, "tunnel"),
              std::pair(Line::Kind::peering, "peering"), std::pair(Line::Kind::cable, "cable")})
            if (has_line([&](const Line& line) { return line.kind == kind; }))
                item(text, [&](double at, double y) { write_sample({.kind = kind}, at, y); });
        for (auto [state, text] : {std::pair(State::down, "down or cut"),
                                   std::pair(State::half, "one side does not consent"),
                                   std::pair(State::refused, "refused or blocked")})
            if (has_line([&](const Line& line) { return line.state == state; }))
                item(text, [&](double at, double y) {
                    Line::Kind kind = state == State::down ? Line::Kind::link : Line::Kind::peering;
                    write_sample({.kind = kind, .state = state}, at, y);
                });
        for (auto [is_back, text] :
             {std::pair(false, "the way there, step by step"), std::pair(true, "the way back")})
            if (has_line([&](const Line& line) {
                    return std::ranges::any_of(line.passages, [&](const Passage& passage) {
                        return passage.is_back == is_back;
                    });
                }))
                item(text, [&](double at, double y) {
                    Line line;
                    line.passages.push_back({.is_back = is_back});
                    write_sample(line, at, y);
                });
        y_ += 22;
    }

    void write_sample(const Line& line, double x, double y) {
        double left = left_;
        double top = top_;
        left_ = 0;
        top_ = 0;
        write_line(line, {{x, y}, {x + 12, y}, {x + 24, y}, {x + 36, y}});
        left_ = left;
        top_ = top;
    }

    void write_notes() {
        y_ += 4;
        for (const std::string& note : p.notes) {
            for (const std::string& line : broken(note, text_columns_))
                write_text(margin, y_ += 17, line);
            y_ += 3;
        }
        y_ += margin;
    }

    const Picture& p;
    Layout layout_;
    Theme theme_ = Theme::automatic;
    std::string body_;
    double width_ = 0;
    std::size_t text_columns_ = 0;
    double y_ = 0;    // where the next thing goes
    double left_ = 0; // where the layout begins
    double top_ = 0;
};

} // namespace

std::string svg(const Picture& picture, Theme theme) {
    return Writer(picture, theme).text();
}

} // namespace jackal::exports::drawing
