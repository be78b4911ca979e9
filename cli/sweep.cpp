#include "command.h"
#include "process.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>

namespace jackal::cli {

namespace {

struct SweepOptions {
    PlanOptions plan;
    std::vector<std::string> what;
    int at_once = 1;
    PairsOptions pairs;
};

std::string name_of(const lab::Lab& lab, const reach::CutEffect& effect) {
    std::string name;
    for (const routing::Cut& cut : effect.cut)
        name += (name.empty() ? "" : " and ") + routing::to_string(lab, cut);
    return name;
}

// A guest that is off, or a NIC of it that is down, and takes no replies of others along.
bool is_only_a_guest(const lab::Lab& lab, const reach::CutEffect& effect) {
    if (effect.cut.size() != 1 || effect.lost != effect.own || effect.moved != 0)
        return false;
    const auto* nic = std::get_if<routing::NicCut>(&effect.cut.front());
    const auto* off = std::get_if<routing::MachineCut>(&effect.cut.front());
    lab::MachineId machine = nic != nullptr   ? lab.nics[nic->nic].machine
                             : off != nullptr ? off->machine
                                              : lab::MachineId{};
    return machine && lab.machines[machine].kind == plan::MachineKind::guest;
}

// Cuts that come to the same.
struct Alike {
    std::vector<const reach::CutEffect*> effects;
    std::string names;
};

bool is_same(const reach::CutEffect& one, const reach::CutEffect& other) {
    return one.losses == other.losses && one.gained == other.gained
           && one.expectations == other.expectations && one.settles_after == other.settles_after;
}

// `quay to hut 6, …`
std::string losses_text(const reach::Sweep& sweep, const reach::CutEffect& effect) {
    constexpr std::size_t most = 2;
    std::string text;
    std::size_t told = 0;
    for (const reach::CutLoss& loss : effect.losses)
        if (loss.lost != 0 && told++ < most)
            text += fmt::format("{}{} to {} {}", text.empty() ? "" : ", ", sweep.rows[loss.from],
                                sweep.columns[loss.to], loss.lost);
    told += effect.more_losses;
    return told > most ? fmt::format("{}, {} more", text, told - most) : text;
}

std::string time_text(const std::optional<routing::Duration>& time) {
    if (!time)
        return "";
    double seconds = time->count() / 1e6;
    return seconds < 10 ? fmt::format("{:.1f} s", seconds) : fmt::format("{:.0f} s", seconds);
}

// The lines of the plan that those expectations stand in.
std::string lines_text(const lab::Lab& lab, const reach::CutEffect& effect) {
    constexpr std::size_t most = 4;
    std::string text;
    for (std::size_t i = 0; i < std::min(most, effect.expectations.size()); ++i)
        text += fmt::format("{}{}", i == 0 ? "" : " ",
                            lab.expectations[effect.expectations[i]].at.line);
    return effect.expectations.size() > most
               ? fmt::format("{} +{}", text, effect.expectations.size() - most)
               : text;
}

// `4 links (a--b, …), 2 nics (…)`
std::string harmless_text(const lab::Lab& lab, const std::vector<const reach::CutEffect*>& all) {
    constexpr std::size_t most = 6;
    std::map<reach::CutKind, std::vector<std::string>> names;
    for (const reach::CutEffect* effect : all)
        names[effect->kind].push_back(name_of(lab, *effect));
    std::string text;
    for (const auto& [kind, some] : names) {
        text += fmt::format(
            "{}{} (", text.empty() ? "" : "; ",
            kind == reach::CutKind::switch_
                ? fmt::format("{} {}", some.size(), some.size() == 1 ? "switch" : "switches")
                : counted(some.size(), to_string(kind)));
        for (std::size_t i = 0; i < std::min(most, some.size()); ++i)
            text += (i == 0 ? "" : ", ") + some[i];
        text += some.size() > most ? ", …)" : ")";
    }
    return text;
}

// Those that come to the same side by side, in the order of the first of each.
std::vector<Alike> alike(const lab::Lab& lab, const std::vector<const reach::CutEffect*>& effects) {
    std::vector<Alike> all;
    for (const reach::CutEffect* effect : effects) {
        auto found = std::find_if(all.rbegin(), all.rend(), [&](const Alike& one) {
            return one.effects.front()->lost != effect->lost
                   || is_same(*one.effects.front(), *effect);
        });
        if (found == all.rend() || !is_same(*found->effects.front(), *effect)) {
            all.emplace_back();
            found = all.rbegin();
        }
        found->effects.push_back(effect);
        found->names += (found->names.empty() ? "" : ", ") + name_of(lab, *effect);
    }
    return all;
}

void add_rows(const Style& style, const lab::Lab& lab, const reach::Sweep& sweep,
              const std::vector<Alike>& rows, Table& table) {
    constexpr std::size_t most = 40;
    for (std::size_t i = 0; i < std::min(most, rows.size()); ++i) {
        const reach::CutEffect& effect = *rows[i].effects.front();
        std::string lost = fmt::format("{}", effect.lost);
        table.add({name_of(lab, effect), effect.lost != 0 ? style.bad(lost) : lost,
                   fmt::format("{}", effect.moved), time_text(effect.settles_after),
                   lines_text(lab, effect), losses_text(sweep, effect)});
        if (std::size_t more = rows[i].effects.size() - 1; more != 0)
            table.add_line(style.paragraph(
                style.faint("the same: " + rows[i].names.substr(name_of(lab, effect).size() + 2)),
                4));
    }
    if (rows.size() > most)
        table.add_line(fmt::format("… and {} more; --format csv has all", rows.size() - most));
}

std::string sweep_text(const Style& style, const lab::Lab& lab, const reach::Sweep& sweep,
                       int at_once) {
    std::vector<const reach::CutEffect*> harmful;
    std::vector<const reach::CutEffect*> harmless;
    std::size_t only_guests = 0;
    std::size_t moving = 0;
    std::size_t failures = 0;
    for (const reach::CutEffect& effect : sweep.cuts) {
        bool is_only_guest = is_only_a_guest(lab, effect);
        failures += effect.lost != effect.own ? 1 : 0;
        moving += effect.is_harmless() && effect.moved != 0 ? 1 : 0;
        if (is_only_guest)
            ++only_guests;
        else
            (effect.is_harmless() ? harmless : harmful).push_back(&effect);
    }
    Table table({"cut", "lost", "moved", "settles in", "fails, line", "lost most"});
    for (std::size_t column : {1, 2, 3})
        table.right(column);
    add_rows(style, lab, sweep, alike(lab, harmful), table);
    std::string notes;
    auto count = [&](std::size_t n) {
        return at_once == 2 ? fmt::format("{} {} of cuts", n, n == 1 ? "pair" : "pairs")
                            : counted(n, "cut");
    };
    if (!harmless.empty())
        notes += style.paragraph(
                     fmt::format("{} {} nothing{}{}", style.good(count(harmless.size())),
                                 harmless.size() == 1 ? "loses" : "lose",
                                 moving == 0 ? ""
                                             : fmt::format("; {} of them send packets another "
                                                           "way",
                                                           moving),
                                 at_once == 2 ? "" : ": " + harmless_text(lab, harmless)),
                     0)
                 + "\n";
    if (only_guests != 0)
        notes += fmt::format("{}: guests, or their NICs, that take nobody else's replies along\n",
                             count(only_guests));
    if (sweep.independent != 0)
        notes += style.paragraph(
                     fmt::format("{} {} not looked into: one of the two is a guest that is but one "
                                 "end of packets, or its NIC, and takes nothing else along",
                                 count(sweep.independent), sweep.independent == 1 ? "is" : "are"),
                     0)
                 + "\n";
    std::string total =
        fmt::format("{} of {} {}; {} of {} pairs get a reply in the whole lab", failures,
                    count(sweep.cuts.size()),
                    failures == 1 ? "is a single point of failure" : "are single points of failure",
                    sweep.replies, sweep.pairs);
    if (at_once == 2)
        total = fmt::format("{} of {} lose replies; {} of {} pairs get one in the whole lab",
                            failures, count(sweep.cuts.size()), sweep.replies, sweep.pairs);
    return (harmful.empty() ? "" : table.text(style) + "\n") + notes + (notes.empty() ? "" : "\n")
           + (failures == 0 ? style.good(total) : style.bad(total)) + "\n";
}

reach::SweepQuestion question_of(const SweepOptions& options) {
    reach::SweepQuestion question{.at_once = options.at_once,
                                  .kind = kind_of(options.pairs),
                                  .family = family_of(options.pairs),
                                  .service = service_of(options.pairs),
                                  .threads = threads()};
    for (const std::string& what : options.what)
        for (reach::CutKind kind : reach::all_cut_kinds())
            if (what == to_string(kind))
                question.what.push_back(kind);
    return question;
}

Outcome answer(const Style& style, const SweepOptions& options, const Sweeper& sweeper) {
    const reach::SweepQuestion question = question_of(options);
    Opened opened = open_plan(options.plan);
    routing::Settled settled = settle(opened, options.plan);
    const reach::Sweep sweep = asked(": narrow it with --what", [&] {
        Progress progress("sweeping");
        const Stoppable stoppable;
        return sweeper(settled, question, [&](std::size_t done, std::size_t total) {
            progress(done, total);
            return !stoppable.is_to_stop();
        });
    });
    int status = status_well;
    if (sweep.cuts.size() < sweep.asked) {
        complain(fmt::format("stopped: {} of {} were looked into; more processor time is allowed "
                             "by JACKAL_SECONDS, and --what asks for fewer",
                             sweep.cuts.size(), sweep.asked));
        status = status_no;
    }
    if (options.plan.json())
        return {exports::sweep_json(opened.lab, question, sweep), status};
    if (options.plan.format == Format::csv)
        return {exports::sweep_csv(opened.lab, sweep), status};
    return {sweep_text(style, opened.lab, sweep, question.at_once), status};
}

} // namespace

void add_sweep(CLI::App& app, Run& run) {
    CLI::App* command =
        app.add_subcommand("sweep", "what every single cut would lose, and what holds without it");
    command->footer(
        "Examples:\n"
        "  jackal sweep skerry.yaml\n"
        "  jackal sweep skerry.yaml --what link --what machine\n"
        "  jackal sweep skerry.yaml --what link --cuts 2\n"
        "\n"
        "The worst cut comes first. `lost` and `moved` are ordered pairs of machines; "
        "`settles in` is how\nlong those that move may be out of reach. Ctrl-C ends it "
        "with what is there. Exit status 1 if\nnot all was looked into. A program of its "
        "own, jackal-sweep, shares the work among many computers.");
    add_sweep_options(*command, run, reach::sweep);
}

void add_sweep_options(CLI::App& command, Run& run, const Sweeper& sweeper) {
    auto options = std::make_shared<SweepOptions>();
    add_table_options(command, options->plan);
    add_cuts(command, options->plan);
    std::vector<std::string> kinds;
    for (reach::CutKind kind : reach::all_cut_kinds())
        kinds.emplace_back(to_string(kind));
    take_words(command.add_option("--what", options->what, "only these are cut; may be repeated"),
               kinds)
        ->allow_extra_args(false);
    take_words(
        command.add_option("--cuts", options->at_once, "how many are made at once; default 1"),
        {"1", "2"});
    add_pairs_options(command, options->pairs, "a service instead of a ping, such as tcp/22");
    command.callback([&run, options, sweeper] {
        run = [options, sweeper](const Style& style) -> Outcome {
            return answer(style, *options, sweeper);
        };
    });
}

} // namespace jackal::cli
