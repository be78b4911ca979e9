// Where the cards and lines of a picture stand.
#pragma once

#include "jackal/export/drawing.h"

namespace jackal::exports::drawing {

/// Measures of the drawing, in pixels.
namespace measure {
constexpr double pad = 10;         ///< inside a card, left and right
constexpr double title = 20;       ///< the height of a title,
constexpr double below = 15;       ///< of a line under it,
constexpr double line = 15;        ///< of a line of a row,
constexpr double row_gap = 5;      ///< and of what is added to each row
constexpr double gap = 12;         ///< between the columns of a row
constexpr double letter = 7.3;     ///< the width of a letter of 12 pixels
constexpr double big_letter = 8.5; ///< of a title's letter, of 14
constexpr double badge_gap = 5;    ///< around the letters of a mark
} // namespace measure

struct Point {
    double x = 0;
    double y = 0;
};

struct Box {
    double left = 0;
    double top = 0;
    double width = 0;
    double height = 0;
};

/// How wide and high a card is, and the columns of its rows.
struct CardSize {
    double width = 0;
    double head = 0; ///< the height of the title and what is under it
    std::vector<double> rows;
    double value = 0; ///< where the second column begins
    double note = 0;  ///< and the third

    double height() const;
};

CardSize size_of(const Card& card);

/// `!3`, `>1`, `<2`, `x`: what a badge says.
std::string badge_text(const Badge& badge);
/// How wide badges side by side are, with a gap before each.
double width_of(const std::vector<Badge>& badges);
/// How many letters of UTF-8 a text has.
std::size_t letters(std::string_view text);
/// So many letters of a text from its start on.
std::string_view first_letters(std::string_view text, std::size_t count);

/// The cards of each connected part from one on outwards, what is joined to it first: from the one
/// with the most lines, or, if `from_outside`, from one that is not in the plan.
std::vector<std::size_t> outwards(const Picture& picture, bool from_outside);

/// The text with what means something in XML and HTML written as entities.
std::string escaped(std::string_view text);

/// Where all is. The origin is at the top left, x grows to the right and y downwards.
struct Layout {
    double width = 0;
    double height = 0;
    std::vector<Box> cards;
    std::vector<Box> frames;
    /// By line: a start and then Bezier curves of three points each. Empty if it has no way.
    std::vector<std::vector<Point>> lines;
    std::vector<Point> labels; ///< by line: the middle of its label
};

/// Throws std::runtime_error if Graphviz finds none.
Layout lay_out(const Picture& picture);

} // namespace jackal::exports::drawing
