// Pictures of labs, and the command that draws them.
#include "files.h"
#include "jackal/jackal.h"
#include "lab_of.h"
#include "program.h"

#include <boost/property_tree/xml_parser.hpp>
#include <doctest/doctest.h>
#include <sstream>

using namespace jackal;
using namespace jackal::exports::drawing;

namespace {

const std::string tool = TOOL " draw ";
const std::string demo = SOURCE_DIR "/demo/skerry.yaml";
const std::string mistakes = SOURCE_DIR "/demo/mistakes/";

const Card& card_of(const Picture& picture, const std::string& title) {
    auto at = std::ranges::find(picture.cards, title, &Card::title);
    REQUIRE(at != picture.cards.end());
    return *at;
}

const Row& row_of(const Card& card, const std::string& label) {
    auto at = std::ranges::find(card.rows, label, &Row::label);
    REQUIRE(at != card.rows.end());
    return *at;
}

// The lines between two cards.
std::vector<Line> between(const Picture& picture, const std::string& one,
                          const std::string& other) {
    std::vector<Line> lines;
    for (const Line& line : picture.lines) {
        const std::string& first = picture.cards[line.ends[0].card].title;
        const std::string& second = picture.cards[line.ends[1].card].title;
        if ((first == one && second == other) || (first == other && second == one))
            lines.push_back(line);
    }
    return lines;
}

// The texts of a picture; it must be XML, or this throws.
std::string texts_of(const std::string& svg) {
    std::istringstream stream(svg);
    boost::property_tree::ptree tree;
    boost::property_tree::read_xml(stream, tree);
    std::string texts;
    auto add = [&](auto& self, const boost::property_tree::ptree& at) -> void {
        for (const auto& [name, below] : at) {
            if (name == "text")
                texts += below.data() + "\n";
            self(self, below);
        }
    };
    add(add, tree);
    return texts;
}

} // namespace

TEST_CASE("every machine, NIC, address and segment of the demo stands in its picture") {
    auto reading = plan::read_file(demo);
    REQUIRE(reading.plan);
    const lab::Lab lab = lab::build(*reading.plan);
    const routing::Settled settled = routing::settle(lab);
    for (View view : {View::routes, View::wires}) {
        const Picture picture = exports::drawing::picture(settled, {.view = view});
        const std::string words[] = {texts_of(svg(picture)), tree(picture, 400), dot(picture)};
        for (const std::string& text : words) {
            for (const lab::Machine& machine : lab.machines)
                CHECK_MESSAGE(has(text, machine.name), machine.name);
            for (lab::NicId nic : lab.nics.ids()) {
                bool is_on_port = view == View::wires && !lab.plugs_of(nic).empty();
                for (lab::AddressId address : lab.addresses_of(nic))
                    if (!is_on_port)
                        CHECK_MESSAGE(has(text, net::to_string(lab.addresses[address].address)),
                                      lab.nic_name(nic));
            }
            for (const lab::Subnet& subnet : lab.subnets)
                if (view == View::routes)
                    CHECK_MESSAGE(has(text, subnet.name), subnet.name);
        }
    }
}

TEST_CASE("a word that is longer than a picture is wide goes on in the next line") {
    std::string word;
    for (int i = 0; i < 2000; ++i)
        word += "é";
    const lab::Lab lab = lab_of("lab: t\nsubnets: {a: {prefix: 10.1.0.0/24}}\n");
    const routing::Settled settled = routing::settle(lab);
    Picture picture = exports::drawing::picture(settled, {});
    picture.about = word + " word";
    std::istringstream texts(texts_of(svg(picture)));
    std::string found;
    for (std::string line; std::getline(texts, line);) {
        CHECK(line.size() < 2 * 200);
        if (has(line, "é") || has(line, "word"))
            found += line;
    }
    std::erase(found, ' ');
    CHECK(found == word + "word");
}

TEST_CASE("many links between two sites are one line of the picture of sites") {
    for (const int count : {6, 7}) {
        std::string plan = "lab: t\n"
                           "sites: {shore: {space: 10.1.0.0/16}, isle: {space: 10.2.0.0/16}}\n"
                           "subnets: {hall: {site: shore}, tank: {site: isle}}\n"
                           "routers: {a: {nics: [{subnet: hall}]}, b: {nics: [{subnet: tank}]}}\n"
                           "links: [{between: [a, b], state: down}";
        for (int i = 1; i < count; ++i)
            plan += ", {between: [a, b]}";
        const lab::Lab lab = lab_of(plan + "]\n");
        const routing::Settled settled = routing::settle(lab);
        const Picture sites = exports::drawing::picture(settled, {.view = View::sites});
        const std::vector<Line> lines = between(sites, "shore", "isle");
        REQUIRE(lines.size() == (count == 6 ? 6 : 1));
        CHECK(lines.front().label == (count == 6 ? "down" : "7 links, 1 down"));
        CHECK(lines.front().state == (count == 6 ? State::down : State::works));
    }
}

TEST_CASE("a picture shows what is down, half, cut and found") {
    const std::string plan =
        "lab: t\n"
        "sites: {shore: {space: 10.1.0.0/16}, isle: {space: 10.2.0.0/16}}\n"
        "subnets: {hall: {site: shore}, tank: {site: isle}}\n"
        "guests: {desk: {count: 20, nics: [{subnet: hall}]}, pump: {nics: [{subnet: tank}]}}\n"
        "routers: {a: {nics: [{subnet: hall}]}, b: {nics: [{subnet: tank, state: down}]}}\n"
        "links: [{between: [a, b], delay: 4ms, cost: 7}]\n"
        "peerings: [{between: [shore, isle], shore: {accept: true, border: a}}]\n";
    const lab::Lab lab = lab_of(plan);
    const routing::Settled settled = routing::settle(lab);
    const std::vector<lab::Finding> findings = lab::findings(lab);
    const Picture picture = exports::drawing::picture(settled, {.findings = findings});

    const Card& hall = card_of(picture, "hall");
    CHECK(hall.kind == Card::Kind::segment);
    CHECK(picture.frames[hall.frame].title == "shore");
    REQUIRE(hall.rows.size() == 1);
    CHECK(hall.rows[0].label == "desk-1 to -20");
    CHECK(hall.rows[0].note == "20 guests");
    CHECK(row_of(card_of(picture, "b"), "eth0").state == State::down);
    CHECK(row_of(card_of(picture, "b"), "eth0").note == "down");
    REQUIRE(between(picture, "b", "tank").size() == 1);
    CHECK(between(picture, "b", "tank")[0].state == State::down);
    REQUIRE(between(picture, "a", "b").size() == 1);
    CHECK(between(picture, "a", "b")[0].label == "4 ms");
    bool is_marked = !row_of(card_of(picture, "b"), "eth0").badges.empty();
    CHECK(is_marked);
    CHECK(has(picture.notes[0], "!1 "));

    const Picture all = exports::drawing::picture(settled, {.all_guests = true});
    CHECK(card_of(all, "hall").rows.size() == 20);

    const Picture sites = exports::drawing::picture(settled, {.view = View::sites});
    std::vector<Line> joints = between(sites, "shore", "isle");
    REQUIRE(joints.size() == 2);
    CHECK(joints[0].kind == Line::Kind::peering);
    CHECK(joints[0].state == State::half);
    CHECK(sites.cards[joints[0].ends[joints[0].open_end].card].title == "isle");

    routing::Condition condition(lab);
    condition.cut(lab, "a--b");
    const routing::Settled without = routing::settle(lab, condition);
    const Picture cut = exports::drawing::picture(without, {.whole = &settled});
    CHECK(between(cut, "a", "b")[0].state == State::down);
    CHECK(has(between(cut, "a", "b")[0].label, "cut"));
    CHECK(has(card_of(cut, "a").says, "loses 1"));

    const Picture part =
        exports::drawing::picture(settled, {.around = lab.machine("pump"), .hops = 1});
    CHECK(part.cards.size() == 2); // tank and b
}

TEST_CASE("the way of a ping is drawn there and back, and where it ends") {
    struct Row {
        std::string file;
        std::string from;
        std::string to;
        std::string ends_at; // empty if it gets its reply
    };
    for (const Row& row : {Row{demo, "chart-desk", "kettle", ""},
                           Row{mistakes + "no-return-route.yaml", "desk", "pump", "tank-r1"}}) {
        auto reading = plan::read_file(row.file);
        REQUIRE(reading.plan);
        const lab::Lab lab = lab::build(*reading.plan);
        const routing::Settled settled = routing::settle(lab);
        const probe::PingAnswer answer =
            probe::ping(settled, *probe::question(lab, row.from, row.to));
        const Picture picture = exports::drawing::picture(settled, {.answer = &answer});
        std::size_t steps[2] = {0, 0};
        std::string end;
        auto count = [&](const std::vector<Badge>& badges, const Card& card) {
            for (const Badge& badge : badges) {
                steps[0] += badge.kind == Badge::Kind::out;
                steps[1] += badge.kind == Badge::Kind::back;
                if (badge.kind == Badge::Kind::end)
                    end = card.title;
            }
        };
        for (const Card& card : picture.cards) {
            count(card.badges, card);
            for (const exports::drawing::Row& at : card.rows)
                count(at.badges, card);
        }
        CHECK(steps[0] == answer.out->steps.size());
        CHECK(steps[1] == answer.back->steps.size());
        CHECK(end == row.ends_at);
        // Each step but the last leaves by a line, or to a machine that is a row of the segment.
        for (const packet::Step& step : answer.out->steps)
            if (step.out && lab.machines[step.machine].kind == plan::MachineKind::router)
                CHECK(std::ranges::any_of(picture.lines, [&](const Line& line) {
                    return !line.passages.empty()
                           && (picture.cards[line.ends[0].card].title
                                   == lab.machines[step.machine].name
                               || picture.cards[line.ends[1].card].title
                                      == lab.machines[step.machine].name);
                }));
    }
}

TEST_CASE("a large lab is folded, and its picture says so") {
    const std::string text =
        exports::starter_plan({.shape = exports::Shape::tree, .size = 200, .lab = "large"});
    auto reading = plan::read(text, "large.yaml");
    REQUIRE(reading.plan);
    const lab::Lab lab = lab::build(*reading.plan);
    const Picture picture = exports::drawing::picture(routing::settle(lab));
    CHECK(picture.cards.size() <= limits::drawn_cards);
    std::string notes;
    for (const std::string& note : picture.notes)
        notes += note + "\n";
    CHECK(has(notes, "200 segments that one machine alone joins"));
    CHECK(has(notes, "150 of 200 cards are drawn"));
    CHECK(texts_of(svg(picture)).size() > 10'000);
}

TEST_CASE("draw writes each kind of file whole, and nothing over a file that is there") {
    const std::string folder = "/tmp/jackal-draw-test";
    run("rm -rf " + folder + " && mkdir " + folder);
    struct Row {
        std::string name;
        std::string begins;
    };
    for (const Row& row : {Row{"a.svg", "<svg"}, Row{"a.png", "\x89PNG"}, Row{"a.pdf", "%PDF"},
                           Row{"a.dot", "graph"}}) {
        CAPTURE(row.name);
        const std::string command = tool + demo + " -o " + folder + "/" + row.name;
        Printed first = run(command + " 2>&1");
        CHECK(first.status == 0);
        CHECK(has(first.text, "28 cards and 30 lines"));
        CHECK(text_of(folder + "/" + row.name).starts_with(row.begins));
        CHECK(run(command + " 2>/dev/null").status == 2);
        CHECK(run(command + " --replace").status == 0);
    }
    run("rm -r " + folder);

    struct Wrong {
        std::string words;
        std::string says;
    };
    for (const Wrong& wrong :
         {Wrong{"-o plan.yaml", "the name must end in .svg, .png, .pdf or .dot"},
          Wrong{"--view cables", "write routes, wires or sites"},
          Wrong{"--way chart-desk kettel -o a.svg", "kettle"}, Wrong{"--around quay-r2", "quay-r1"},
          Wrong{"--theme blue -o a.svg", "light or dark"}, Wrong{"--cut moon", "moon"},
          Wrong{"--scale 8 -o a.png", "too large"}}) {
        Printed refused = run(tool + demo + " " + wrong.words + " 2>&1");
        CAPTURE(refused.text);
        CHECK(refused.status == 2);
        CHECK(has(refused.text, wrong.says));
    }
    Printed tree = run(tool + demo);
    CHECK(tree.status == 0);
    CHECK(has(tree.text, "\u2502  \u251c\u2500 quay-r1  router"));
}
