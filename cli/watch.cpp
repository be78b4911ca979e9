#include "command.h"
#include "file.h"
#include "jackal/export/capture.h"
#include "relay.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <fmt/format.h>
#include <sys/socket.h>

namespace jackal::cli {

namespace {

struct WatchOptions {
    PlanOptions plan;
    std::string place;
    std::vector<std::string> questions; ///< "FROM TO" or "FROM TO SERVICE"
    bool flows = false;
    std::string file;      ///< of IPFIX
    std::string collector; ///< ADDRESS or ADDRESS:PORT
    bool replace = false;
};

constexpr std::size_t most_questions = 2000;

std::vector<std::string> words_of(const std::string& text) {
    std::vector<std::string> words;
    for (std::size_t at = 0; (at = text.find_first_not_of(' ', at)) != text.npos;) {
        const std::size_t end = std::min(text.find(' ', at), text.size());
        words.push_back(text.substr(at, end - at));
        at = end;
    }
    return words;
}

probe::PingQuestion question_in(const lab::Lab& lab, const std::string& text) {
    const std::vector<std::string> words = words_of(text);
    probe::PingOptions options{.count = 1};
    if (words.size() == 3)
        options.service = net::parse_service(words[2]);
    if (words.size() < 2 || words.size() > 3 || (words.size() == 3 && !options.service))
        throw NotAsked(fmt::format("--ask \"{}\": write \"FROM TO\" or \"FROM TO SERVICE\", the "
                                   "service such as tcp/22",
                                   text));
    auto question = probe::question(lab, words[0], words[1], options);
    if (!question) {
        for (const std::string& end : {words[0], words[1]})
            if (!probe::endpoint(lab, end))
                throw NotAsked(probe::unknown_endpoint(lab, end));
        throw NotAsked(fmt::format("--ask \"{}\": who asks must be a machine", text));
    }
    return *question;
}

// One packet for each pair that an expectation speaks of.
std::vector<probe::PingQuestion> expected(const lab::Lab& lab) {
    std::vector<probe::PingQuestion> questions;
    for (const plan::Expectation& wanted : lab.expectations)
        probe::asked(lab, wanted.from.value, wanted.to.value)
            .each([&](const probe::Endpoint& from, const probe::Endpoint& to) {
                if (!from.machine)
                    return;
                if (questions.size() == most_questions)
                    throw NotAsked(fmt::format("the expectations speak of more than {} pairs; name "
                                               "some with --ask",
                                               most_questions));
                questions.push_back({.from = from,
                                     .to = to,
                                     .service = wanted.service,
                                     .family = wanted.family,
                                     .count = 1});
            });
    if (questions.empty())
        throw NotAsked("the plan expects nothing; say with --ask \"FROM TO\" what is asked");
    return questions;
}

std::string seconds_text(probe::Microseconds time) {
    return fmt::format("{:.6f}", time.count() / 1e6);
}

std::string frames_text(const Style& style, const lab::Lab& lab,
                        const std::vector<probe::Sighting>& sightings) {
    Table table({"seconds", "at", "", ""});
    table.right(0);
    for (const probe::Sighting& sighting : sightings)
        table.add({style.faint(seconds_text(sighting.at)),
                   probe::name_of(lab, {sighting.nic, sighting.port}),
                   style.faint(sighting.leaves ? "out" : "in"),
                   exports::frame_text(lab, sighting.frame)});
    return table.text(style);
}

std::string end_text(net::Address address, std::uint16_t port) {
    return port == 0 ? net::to_string(address)
                     : fmt::format("{} {}", net::to_string(address), port);
}

std::string flows_text(const Style& style, const lab::Lab& lab,
                       const std::vector<probe::SeenFlow>& flows) {
    Table table({"in", "out", "from", "to", "protocol", "packets", "bytes", ""});
    table.right(5);
    table.right(6);
    auto nic = [&](lab::NicId id) { return id ? lab.nics[id].name : std::string("-"); };
    for (const probe::SeenFlow& flow : flows) {
        std::string note;
        if (flow.is_dropped)
            note = style.bad("dropped");
        if (flow.left.source != flow.came.source)
            note += fmt::format("{}leaves from {}", note.empty() ? "" : ", ",
                                end_text(flow.left.source, flow.left.source_port));
        if (flow.left.destination != flow.came.destination
            || flow.left.destination_port != flow.came.destination_port)
            note += fmt::format("{}goes on to {}", note.empty() ? "" : ", ",
                                end_text(flow.left.destination, flow.left.destination_port));
        table.add({nic(flow.in), nic(flow.out), end_text(flow.came.source, flow.came.source_port),
                   end_text(flow.came.destination, flow.came.destination_port),
                   std::string(net::to_string(flow.came.protocol)), fmt::format("{}", flow.packets),
                   fmt::format("{}", flow.bytes), note});
    }
    return table.text(style);
}

// Datagrams to a collector (RFC 7011 section 10.3).
void send_to(const std::string& collector, const std::vector<std::string>& messages) {
    constexpr std::uint16_t usual_port = 4739;
    const std::string what = "--collector " + collector;
    const Descriptor socket = connect_to(socket_address(what, collector, usual_port), SOCK_DGRAM);
    bool sent = socket.get() >= 0;
    for (const std::string& message : messages)
        sent = sent
               && send(socket.get(), message.data(), message.size(), 0)
                      == static_cast<ssize_t>(message.size());
    if (!sent)
        throw NotAsked(fmt::format("{}: {}", what, std::strerror(errno)));
}

Outcome answer(const Style& style, WatchOptions& options) {
    if (options.place.empty() && !names_a_plan(options.plan.path))
        std::swap(options.place, options.plan.path); // one word: the place
    refuse_existing(options.file, options.replace);
    const Opened opened = open_plan(options.plan);
    const lab::Lab& lab = opened.lab;
    const std::vector<probe::Spot> spots = spots_of(lab, {options.place});
    const bool counts = options.flows || !options.file.empty() || !options.collector.empty();
    if (counts && !spots.front().nic)
        throw NotAsked(
            fmt::format("{} is a switch port; flows are those of a machine", options.place));
    const routing::Settled settled = settle(opened, options.plan);
    std::vector<probe::PingQuestion> questions;
    for (const std::string& text : options.questions)
        questions.push_back(question_in(lab, text));
    if (questions.empty())
        questions = expected(lab);
    probe::Sightings seen(spots);
    for (std::size_t i = 0; i < questions.size(); ++i)
        seen.add(settled, probe::exchange(settled, questions[i]),
                 std::chrono::seconds(static_cast<std::int64_t>(i) + 1));
    const std::string asked_text = counted(questions.size(), "question") + " asked";
    if (!counts) {
        const std::vector<probe::Sighting> sightings = seen.take();
        if (options.plan.json())
            return {exports::frames_json(lab, sightings)};
        return {frames_text(style, lab, sightings)
                + fmt::format("\n{}, {} at {}\n", asked_text, counted(sightings.size(), "frame"),
                              options.place)};
    }
    const lab::MachineId machine = lab.nics[spots.front().nic].machine;
    std::vector<probe::SeenFlow> flows = seen.flows(machine);
    const bool is_one_nic = options.place.find('/') != options.place.npos;
    if (is_one_nic)
        std::erase_if(flows, [&](const probe::SeenFlow& flow) {
            return flow.in != spots.front().nic && flow.out != spots.front().nic;
        });
    std::string written;
    if (!options.file.empty() || !options.collector.empty()) {
        const std::vector<std::string> messages = exports::ipfix_messages(lab, machine, flows);
        if (!options.file.empty()) {
            std::string whole;
            for (const std::string& message : messages)
                whole += message;
            write_whole(options.file, whole, options.replace);
            written += fmt::format("{} is written\n", options.file);
        }
        if (!options.collector.empty()) {
            send_to(options.collector, messages);
            written += fmt::format("{} sent to {}\n", counted(messages.size(), "message"),
                                   options.collector);
        }
    }
    if (options.plan.json())
        return {exports::flows_json(lab, machine, flows)};
    return {flows_text(style, lab, flows)
            + fmt::format("\n{}, {} at {}\n{}", asked_text, counted(flows.size(), "flow"),
                          options.place, written)};
}

} // namespace

void add_watch(CLI::App& app, Run& run) {
    auto options = std::make_shared<WatchOptions>();
    CLI::App* command =
        app.add_subcommand("watch", "what passes a machine, a NIC or a switch port");
    add_plan_options(*command, options->plan, true);
    command->add_option("PLACE", options->place, "MACHINE, MACHINE/NIC or SWITCH/PORT")
        ->type_name("");
    command
        ->add_option(
            "--ask", options->questions,
            "\"FROM TO\" or \"FROM TO SERVICE\": asks that, can be repeated; default: what "
            "the plan expects")
        ->type_name("QUESTION");
    command->add_flag("--flows", options->flows, "flows instead of frames, of a machine or a NIC");
    command->add_option("--ipfix", options->file, "writes the flows to a file, as IPFIX (RFC 7011)")
        ->type_name("FILE");
    command
        ->add_option("--collector", options->collector,
                     "sends the flows there as IPFIX over UDP; the usual port is 4739")
        ->type_name("ADDRESS[:PORT]");
    command->add_flag("--replace", options->replace, "write over a file that is there already");
    command->footer("Examples:\n"
                    "  jackal watch skerry.yaml lamp-r1/eth0\n"
                    "  jackal watch skerry.yaml campus-sw/p3 --ask \"helm kettle\"\n"
                    "  jackal watch skerry.yaml gate-r1 --flows\n"
                    "\n"
                    "Each question is one ping or one connection, a second after the last.");
    command->callback([&run, options] {
        run = [options](const Style& style) { return answer(style, *options); };
    });
}

} // namespace jackal::cli
