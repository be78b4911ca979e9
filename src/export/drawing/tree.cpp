#include "jackal/export/drawing.h"

#include "export/drawing/layout.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::exports::drawing {

namespace {

// A line of a tree and what hangs on it.
struct Branch {
    std::string text;
    std::vector<Branch> below;
};

class Planter {
  public:
    explicit Planter(const Picture& picture) : p_(picture), joined_(picture.cards.size()) {
        for (std::size_t i = 0; i < p_.lines.size(); ++i)
            for (int end : {0, 1})
                joined_[p_.lines[i].ends[end].card].push_back({i, end});
    }

    std::vector<Branch> plant() const {
        std::vector<Branch> branches;
        for (std::size_t i = 0; i < p_.frames.size(); ++i)
            if (Branch branch{p_.frames[i].title, cards(i)}; !branch.below.empty())
                branches.push_back(std::move(branch));
        for (Branch& card : cards(Card::no_frame))
            branches.push_back(std::move(card));
        return branches;
    }

  private:
    struct Joint {
        std::size_t line;
        int end;
    };

    std::vector<Branch> cards(std::size_t frame) const {
        std::vector<Branch> branches;
        for (std::size_t i = 0; i < p_.cards.size(); ++i)
            if (p_.cards[i].frame == frame)
                branches.push_back(card(i));
        return branches;
    }

    static void say(std::string& text, std::string_view more) {
        if (!more.empty())
            text += fmt::format("  {}", more);
    }

    static void say(std::string& text, const std::vector<Badge>& badges) {
        for (const Badge& badge : badges)
            say(text, badge_text(badge));
    }

    // "-- quay-r1 eth0, 4 ms"
    std::string joint_text(const Joint& joint) const {
        const Line& line = p_.lines[joint.line];
        const LineEnd& far = line.ends[1 - joint.end];
        std::string text = "\u2500\u2500 " + p_.cards[far.card].title;
        if (far.row != LineEnd::title)
            text += " " + p_.cards[far.card].rows[far.row].label;
        if (!line.label.empty())
            text += ", " + line.label;
        if (line.state == State::down && line.label.empty())
            text += ", down";
        return text;
    }

    Branch card(std::size_t number) const {
        const Card& card = p_.cards[number];
        Branch branch{card.title, {}};
        say(branch.text, card.says);
        for (const std::string& text : card.below)
            say(branch.text, text);
        say(branch.text, card.badges);
        for (std::size_t i = 0; i < card.rows.size(); ++i) {
            const Row& row = card.rows[i];
            Branch leaf{row.label, {}};
            for (const std::string& value : row.values)
                say(leaf.text, value);
            say(leaf.text, row.note);
            say(leaf.text, row.badges);
            for (const Joint& joint : joined_[number])
                if (p_.lines[joint.line].ends[joint.end].row == i)
                    say(leaf.text, joint_text(joint));
            branch.below.push_back(std::move(leaf));
        }
        for (const Joint& joint : joined_[number])
            if (p_.lines[joint.line].ends[joint.end].row == LineEnd::title)
                branch.below.push_back({joint_text(joint), {}});
        return branch;
    }

    const Picture& p_;
    std::vector<std::vector<Joint>> joined_; // by card
};

// The text in at most so many letters.
std::string shortened(std::string text, std::size_t most) {
    if (letters(text) <= most)
        return text;
    return std::string(first_letters(text, most - 1)) + "\u2026";
}

void write(const std::vector<Branch>& branches, const std::string& indent, std::size_t columns,
           std::string& out) {
    for (const Branch& branch : branches) {
        bool is_last = &branch == &branches.back();
        out +=
            shortened(indent + (is_last ? "\u2514\u2500 " : "\u251c\u2500 ") + branch.text, columns)
            + "\n";
        write(branch.below, indent + (is_last ? "   " : "\u2502  "), columns, out);
    }
}

} // namespace

std::string tree(const Picture& picture, std::size_t columns) {
    std::string text = fmt::format("{}: {}\n", picture.title, to_string(picture.view));
    write(Planter(picture).plant(), "", columns, text);
    for (const std::string& note : picture.notes)
        text += "\n" + note + "\n";
    return text;
}

} // namespace jackal::exports::drawing
