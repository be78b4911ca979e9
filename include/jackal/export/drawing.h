// Pictures of a lab: what stands on which segment, what is wired to what, which sites are joined.
//
//     exports::drawing::Picture picture = exports::drawing::picture(settled, {.findings =
//     check.findings}); std::string image = exports::drawing::svg(picture);
//
// A picture is cards (segments, machines, switches, sites) with rows (a NIC each, a port, a guest)
// and lines between rows. Every name and address stands in a row, so none covers another, however
// the lines run. Where the cards stand is Graphviz's work (its layout `dot`); how they look is
// Jackal's own. No state is told by colour alone.
#pragma once

#include "jackal/api.h"
#include "jackal/lab/finding.h"
#include "jackal/probe/ping.h"

#include <cstdint>
#include <span>
#include <string>
#include <vector>

namespace jackal::exports::drawing {

/// What a picture is about.
enum class View : std::uint8_t {
    routes, ///< segments, the machines that join them, links
    wires,  ///< switches, their ports, and what is plugged into them
    sites,  ///< sites, and what joins them
};

/// "routes", "wires" or "sites".
JACKAL_API std::string_view to_string(View view);

/// Whether something that is drawn works.
enum class State : std::uint8_t {
    works,
    down,    ///< off or down by the plan, or cut
    half,    ///< one side consents, the other says nothing
    refused, ///< a side does not consent, or something is in the way
};

/// A mark on a card or row: a finding, or a packet's step there.
struct Badge {
    enum class Kind : std::uint8_t { warning, error, out, back, end };
    Kind kind = Kind::error;
    std::size_t number = 0; ///< of the note that tells of it, or of the step; from 1

    friend bool operator==(const Badge&, const Badge&) = default;
};

/// A line of a card.
struct Row {
    std::string label;               ///< `eth0`, `p9`, `tide-gauge/eth0`
    std::vector<std::string> values; ///< addresses, or what the port carries
    std::string note;                ///< "area 0, cost 10", "down"
    State state = State::works;
    std::vector<Badge> badges;
};

struct Card {
    enum class Kind : std::uint8_t { segment, router, guest, switch_, site };
    static constexpr std::size_t no_frame = ~std::size_t{0};

    Kind kind = Kind::segment;
    std::string id;                 ///< that of its shape in an SVG: `segment-quay`
    std::string title;              ///< its name
    std::string says;               ///< what it is: "router", "off"
    std::vector<std::string> below; ///< lines under the title: prefixes
    std::size_t frame = no_frame;   ///< the position of its site among the frames
    bool outside = false;           ///< not written in the plan
    State state = State::works;
    std::vector<Badge> badges;
    std::vector<Row> rows;
};

/// A packet that goes along a line.
struct Passage {
    bool is_back = false;     ///< what answers
    bool is_reversed = false; ///< from the line's second end to its first

    friend bool operator==(const Passage&, const Passage&) = default;
};

struct LineEnd {
    static constexpr std::size_t title = ~std::size_t{0};

    std::size_t card = 0;
    std::size_t row = title; ///< where on the card
};

/// What joins two cards.
struct Line {
    enum class Kind : std::uint8_t { attached, link, tunnel, peering, cable };
    Kind kind = Kind::attached;
    LineEnd ends[2];
    std::string label; ///< "4 ms", "VLAN 20"
    State state = State::works;
    std::size_t open_end = 0; ///< of half: which end does not consent
    std::vector<Passage> passages;
};

/// A site around its cards.
struct Frame {
    std::string title;
    bool outside = false;
};

struct Picture {
    std::string title;
    std::string about;
    View view = View::routes;
    std::vector<Frame> frames;
    std::vector<Card> cards;
    std::vector<Line> lines;
    std::vector<std::string> notes; ///< below: the finding of a badge's number, what is folded
};

struct PictureOptions {
    View view = View::routes;
    std::span<const lab::Finding> findings = {}; ///< to be marked
    const probe::PingAnswer* answer = nullptr;   ///< whose journeys are drawn
    const routing::Settled* whole = nullptr; ///< the lab without the cuts, to tell what they change
    std::optional<lab::MachineId> around = {}; ///< only what is near this machine
    std::size_t hops = 2;                      ///< how near: machines in a row
    bool all_guests = false;                   ///< none is folded into a count
};

/// What is drawn of the lab in the condition of `settled`. Machines of one NIC are rows of their
/// segment; those alike in name are one row, unless `all_guests` is set. In labs of many segments
/// those that one machine alone joins are rows of that machine. What is further from the middle
/// than limits::drawn_cards is left out, as are rows beyond limits::drawn_rows of a card. The notes
/// say what. Throws std::length_error if `whole` is given and the lab is too large for a matrix of
/// all pairs (reach::matrix).
JACKAL_API Picture picture(const routing::Settled& settled, const PictureOptions& options = {});

enum class Theme : std::uint8_t {
    automatic, ///< dark where the viewer asks for it, light on paper
    light,
    dark,
};

/// The picture as SVG 1.1, with titles and descriptions for screen readers. Throws
/// std::runtime_error if Graphviz finds no places for the cards. One thread at a time lays out.
JACKAL_API std::string svg(const Picture& picture, Theme theme = Theme::automatic);

/// The picture in Graphviz's language DOT, each card a table of its rows.
JACKAL_API std::string dot(const Picture& picture);

/// The picture as a tree of lines of at most `columns` letters: its frames, their cards, and the
/// rows of each with what they are joined to.
JACKAL_API std::string tree(const Picture& picture, std::size_t columns = 100);

} // namespace jackal::exports::drawing
