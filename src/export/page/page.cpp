#include "jackal/export/page.h"

#include "export/page/assets.h"
#include "jackal/export/drawing.h"
#include "jackal/export/json.h"
#include "jackal/export/words.h"
#include "jackal/probe/question.h"
#include "jackal/reach/sweep.h"

#include <algorithm>
#include <array>
#include <fmt/format.h>
#include <map>
#include <nlohmann/json.hpp>

namespace jackal::exports {

using nlohmann::json;

namespace {

// Values that stand once and are meant by their number.
template <class Value>
class Numbered {
  public:
    int of(const Value& value) {
        auto [at, is_new] = numbers_.try_emplace(value, static_cast<int>(values_.size()));
        if (is_new)
            values_.push_back(value);
        return at->second;
    }
    const std::vector<Value>& values() const { return values_; }

  private:
    std::map<Value, int> numbers_;
    std::vector<Value> values_;
};

// A step of a journey and the number of the one behind it, or -1. Journeys that end alike share
// their ends, so each way to somewhere stands once.
struct Node {
    std::array<int, 6> parts; // machine, NIC in, NIC out, action, detail, next

    friend auto operator<=>(const Node&, const Node&) = default;
};

// Why pairs get no reply.
struct Why {
    std::string cause;
    std::string text;
    std::uint32_t line = 0;
    int finding = -1; // its number among those of the check

    friend auto operator<=>(const Why&, const Why&) = default;
};

class PageMaker {
  public:
    PageMaker(const plan::Plan& plan, const routing::Settled& settled, const reach::Check& check,
              const PageOptions& options)
        : plan_(plan), settled_(settled), lab_(settled.lab()), check_(check), options_(options) {}

    std::string text() {
        choose_ends();
        draw();
        if (options_.with_cuts)
            choose_cuts();
        ask();
        ask_under_cuts();
        json data = tables();
        data["ends"] = json::array();
        for (const End& end : ends_)
            data["ends"].push_back(
                {{"machine", lab_.machines[end.machine].name}, {"label", end.label}});
        data["pairs"] = pairs_;
        json nodes = json::array();
        for (const Node& node : nodes_.values())
            for (int part : node.parts)
                nodes.push_back(part);
        data["steps"] = std::move(nodes);
        data["words"] = words_.values();
        for (const Why& why : whys_.values())
            data["whys"].push_back(
                {{"cause", why.cause},
                 {"text", why.text},
                 {"line", why.line},
                 {"finding", why.finding < 0 ? json(nullptr) : json(why.finding)}});
        data["cuts"] = cuts_json_;
        data["notes"] = notes_;
        return filled(data);
    }

  private:
    struct End {
        lab::MachineId machine;
        std::string label;
    };

    bool is_asked(lab::MachineId id) const {
        const lab::Machine& machine = lab_.machines[id];
        bool is_host = machine.kind == plan::MachineKind::guest;
        return machine.nic_count != 0 && (!machine.outside || is_host);
    }

    void choose_ends() {
        std::size_t asked = 0;
        for (lab::MachineId id : lab_.machines.ids())
            asked += is_asked(id);
        if (asked <= limits::page_ends) {
            for (lab::MachineId id : lab_.machines.ids())
                if (is_asked(id))
                    ends_.push_back({id, lab_.machines[id].name});
            std::ranges::stable_sort(ends_, {}, [&](const End& end) {
                return lab_.nics[lab_.machines[end.machine].first_nic].segment;
            });
            return;
        }
        for (lab::SubnetId subnet : lab_.subnets.ids()) {
            auto on = probe::endpoints_on(lab_, subnet);
            if (on.empty() || ends_.size() == limits::page_ends)
                continue;
            ends_.push_back({on.front().machine, lab_.subnets[subnet].name});
        }
        notes_.push_back(fmt::format(
            "The lab has {} machines: one of each segment stands for it in the matrix, {} of {} "
            "segments.",
            lab_.machines.size(), ends_.size(), lab_.subnets.size()));
    }

    void choose_cuts() {
        std::size_t walks = std::max<std::size_t>(1, ends_.size() * ends_.size());
        std::size_t most = limits::page_walks / walks;
        if (lab_.machines.size() > limits::page_ends || most == 0) {
            notes_.emplace_back("Single cuts are left out of a page of so many machines: jackal "
                                "sweep tells of them.");
            return;
        }
        reach::SweepQuestion question{.what = {reach::CutKind::link, reach::CutKind::machine},
                                      .kind = reach::Kind::all};
        reach::Sweep sweep = reach::sweep(settled_, question);
        if (sweep.cuts.size() > most)
            notes_.push_back(fmt::format("The {} most harmful of {} single cuts are told.", most,
                                         sweep.cuts.size()));
        sweep.cuts.resize(std::min(sweep.cuts.size(), most));
        for (const reach::CutEffect& effect : sweep.cuts)
            cuts_.push_back(effect.cut);
        steps_ = ends_.size() * (1 + cuts_.size());
    }

    void draw() {
        for (drawing::View view :
             {drawing::View::routes, drawing::View::wires, drawing::View::sites})
            if ((view != drawing::View::wires || lab_.has_wiring())
                && (view != drawing::View::sites || lab_.sites.size() > 1))
                pictures_.push_back(
                    drawing::picture(settled_, {.view = view, .findings = check_.findings}));
    }

    void tick() {
        if (options_.progress)
            options_.progress(++done_, steps_);
    }

    std::optional<probe::PingQuestion> question(std::size_t from, std::size_t to) const {
        return probe::question(lab_, lab_.machines[ends_[from].machine].name,
                               lab_.machines[ends_[to].machine].name);
    }

    int nic_word(lab::NicId nic) { return nic ? words_.of(lab_.nics[nic].name) : -1; }

    std::string detail(const packet::Journey& journey, std::size_t step) const {
        std::string text = step_detail(settled_, journey, step);
        auto add = [&](const std::string& more) {
            if (!more.empty())
                text += (text.empty() ? "" : "; ") + more;
        };
        add(switch_text(settled_, journey, step));
        for (const std::string& filter : filter_texts(settled_, journey, step))
            add(filter);
        for (const std::string& rewrite : rewrite_texts(journey, step))
            add(rewrite);
        if (const packet::Crossing* crossing = crossing_at(journey, step))
            add(crossing_text(lab_, *crossing));
        return text;
    }

    // The number of the first step, or -1.
    int keep(const std::optional<packet::Journey>& journey) {
        int next = -1;
        if (journey)
            for (std::size_t i = journey->steps.size(); i-- > 0;) {
                const packet::Step& step = journey->steps[i];
                next = nodes_.of(
                    {{words_.of(lab_.machines[step.machine].name), nic_word(step.in),
                      nic_word(step.out), words_.of(std::string(packet::to_string(step.action))),
                      words_.of(detail(*journey, i)), next}});
            }
        return next;
    }

    int keep(const probe::Diagnosis& diagnosis) {
        Why why{std::string(plan::slug(diagnosis.cause)), diagnosis.explanation, diagnosis.at.line};
        for (std::size_t i = 0; i < check_.findings.size(); ++i)
            if (check_.findings[i].cause == diagnosis.cause
                && check_.findings[i].at.line == diagnosis.at.line)
                why.finding = static_cast<int>(i);
        return whys_.of(why);
    }

    // Of many pairs without a reply only the first are diagnosed each by itself.
    int keep_cause(const probe::Exchange& exchange, probe::Diagnoser& diagnoser) {
        constexpr std::size_t most_diagnosed = 2'000;
        if (++diagnosed_ > most_diagnosed) {
            probe::Diagnosis alike = diagnoser.of(exchange);
            alike.explanation = "as of another pair: " + alike.explanation;
            return keep(alike);
        }
        auto diagnosis = probe::diagnose(settled_, exchange);
        return diagnosis ? keep(*diagnosis) : -1;
    }

    // Three numbers for each pair: the way there, the way back, and why there is no reply, or -1.
    void ask() {
        probe::Diagnoser diagnoser(settled_);
        for (std::size_t from = 0; from < ends_.size(); ++from) {
            for (std::size_t to = 0; to < ends_.size(); ++to) {
                auto asked = question(from, to);
                if (!asked) {
                    pairs_.insert(pairs_.end(), {-1, -1, -1});
                    replies_.push_back(false);
                    continue;
                }
                asked->count = 1;
                probe::Exchange exchange = probe::exchange(settled_, *asked);
                replies_.push_back(exchange.reaches);
                int there = keep(exchange.out);
                int back = keep(exchange.back);
                int why = -1;
                if (!exchange.reaches)
                    why = keep_cause(exchange, diagnoser);
                pairs_.insert(pairs_.end(), {there, back, why});
            }
            tick();
        }
    }

    void ask_under_cuts() {
        for (const std::vector<routing::Cut>& cut : cuts_) {
            routing::Condition condition = settled_.condition();
            std::string name;
            for (const routing::Cut& one : cut) {
                condition.apply(one);
                name += (name.empty() ? "" : " + ") + routing::to_string(lab_, one);
            }
            const routing::Settled without = routing::resettle(settled_, condition);
            json lost = json::array();
            for (std::size_t from = 0; from < ends_.size(); ++from) {
                for (std::size_t to = 0; to < ends_.size(); ++to) {
                    std::size_t pair = from * ends_.size() + to;
                    if (!replies_[pair])
                        continue;
                    auto asked = question(from, to);
                    asked->count = 1;
                    if (!probe::exchange(without, *asked).reaches)
                        lost.push_back(pair);
                }
                tick();
            }
            cuts_json_.push_back(
                {{"cut", name}, {"lost", std::move(lost)}, {"drawn", drawn(without)}});
        }
    }

    // By view: the lines and cards that are in another state than in the picture.
    json drawn(const routing::Settled& without) const {
        json changed = json::object();
        for (const drawing::Picture& before : pictures_) {
            const drawing::Picture after =
                drawing::picture(without, {.view = before.view, .findings = check_.findings});
            json lines = json::array();
            json cards = json::array();
            for (std::size_t i = 0; i < std::min(before.lines.size(), after.lines.size()); ++i)
                if (before.lines[i].state != after.lines[i].state)
                    lines.push_back(i);
            for (std::size_t i = 0; i < std::min(before.cards.size(), after.cards.size()); ++i)
                if (before.cards[i].state != after.cards[i].state)
                    cards.push_back(before.cards[i].id);
            changed[std::string(drawing::to_string(before.view))] = {{"lines", std::move(lines)},
                                                                     {"cards", std::move(cards)}};
        }
        return changed;
    }

    // What other answers say, as they say it.
    json tables() {
        json data;
        data["lab"] = lab_.name;
        data["about"] = plan::printable(plan_.about);
        data["plan"] = plan::printable(lab_.source);
        data["check"] = json::parse(check_json(lab_, check_));
        data["expectations"] = json::parse(verify_json(lab_, check_.verdicts))["expectations"];
        data["addresses"] = json::parse(addresses_json(lab_));
        data["machines"] = json::parse(machines_json(lab_))["machines"];
        data["routes"] = routes();
        data["whys"] = json::array();
        return data;
    }

    // By machine, five words for each route: to, kind, NIC, next hop, whom it was learned from.
    json routes() {
        json all = json::object();
        for (lab::MachineId id : lab_.machines.ids()) {
            if (lab_.machines[id].outside)
                continue;
            std::map<std::pair<net::Prefix, routing::RouteKind>, lab::MachineId> learned;
            for (const routing::Offer& offer : settled_.learned(id).offers(id))
                if (offer.lost_by == routing::Decision::best)
                    learned.try_emplace({offer.to, offer.kind}, offer.from);
            json rows = json::array();
            for (const routing::Route& route : settled_.routes(id)) {
                auto from = learned.find({route.to, route.kind});
                rows.push_back(words_.of(to_string(route.to)));
                rows.push_back(words_.of(std::string(routing::to_string(route.kind))));
                rows.push_back(nic_word(route.out));
                rows.push_back(route.has_next_hop() ? words_.of(to_string(route.via)) : -1);
                rows.push_back(from != learned.end() && from->second
                                   ? words_.of(lab_.machines[from->second].name)
                                   : -1);
            }
            all[lab_.machines[id].name] = std::move(rows);
        }
        return all;
    }

    std::string pictures() const {
        std::string all;
        for (const drawing::Picture& picture : pictures_)
            all += fmt::format("<div class=\"picture\" data-view=\"{}\" hidden>{}</div>\n",
                               drawing::to_string(picture.view), drawing::svg(picture));
        return all;
    }

    // Nothing in the data ends the element that it stands in.
    static std::string harmless(const std::string& text) {
        std::string safe;
        for (char c : text)
            if (c == '<')
                safe += "\\u003c";
            else
                safe += c;
        return safe;
    }

    std::string filled(const json& data) const {
        std::string page(page_frame);
        auto put = [&](std::string_view place, std::string_view text) {
            page.replace(page.find(place), place.size(), text);
        };
        // The last one first: what is put in stands behind all places that are looked for later.
        put("{{script}}", page_script);
        put("{{data}}", harmless(data.dump()));
        put("{{pictures}}", pictures());
        put("{{live}}", options_.is_live ? " data-live" : "");
        put("{{style}}", page_style);
        put("{{title}}", lab_.name);
        put("{{connect}}", options_.is_live ? "; connect-src 'self'" : "");
        return page;
    }

    const plan::Plan& plan_;
    const routing::Settled& settled_;
    const lab::Lab& lab_;
    const reach::Check& check_;
    const PageOptions& options_;
    std::size_t done_ = 0;
    std::size_t diagnosed_ = 0;
    std::size_t steps_ = 1;
    std::vector<End> ends_;
    std::vector<drawing::Picture> pictures_; // of the views that show something
    std::vector<std::vector<routing::Cut>> cuts_;
    std::vector<bool> replies_; // by pair
    std::vector<int> pairs_;
    Numbered<std::string> words_;
    Numbered<Node> nodes_;
    Numbered<Why> whys_;
    json cuts_json_ = json::array();
    std::vector<std::string> notes_;
};

} // namespace

std::string page(const plan::Plan& plan, const routing::Settled& settled, const reach::Check& check,
                 const PageOptions& options) {
    return PageMaker(plan, settled, check, options).text();
}

} // namespace jackal::exports
