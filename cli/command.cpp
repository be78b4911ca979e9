#include "command.h"

#include <fmt/format.h>
#include <iostream>
#include <iterator>
#include <sstream>

namespace jackal::cli {

void add_plan_options(CLI::App& command, PlanOptions& options, bool with_cuts) {
    command.add_option("PLAN", options.path, "the plan file, or - for standard input")->required();
    std::map<std::string, Format> formats{{"text", Format::text}, {"json", Format::json}};
    command.add_option("--format", options.format, "text (for people) or json (for programs)")
        ->transform(CLI::CheckedTransformer(formats, CLI::ignore_case).description("text|json"))
        ->type_name("");
    command
        .add_option("--set", options.settings,
                    "another value for one of the plan's params; may be given several times")
        ->type_name("NAME=VALUE")
        ->allow_extra_args(false);
    if (with_cuts)
        command
            .add_option("--cut", options.cuts,
                        "ask as if this were cut: MACHINE, MACHINE/NIC or MACHINE--MACHINE; "
                        "may be given several times")
            ->type_name("WHAT")
            ->allow_extra_args(false);
}

namespace {

plan::Settings settings_of(const PlanOptions& options) {
    plan::Settings settings;
    for (const std::string& text : options.settings) {
        std::size_t equals = text.find('=');
        if (equals == text.npos)
            throw NotAsked(fmt::format("--set {}: write --set NAME=VALUE", text));
        settings.emplace_back(text.substr(0, equals), text.substr(equals + 1));
    }
    return settings;
}

} // namespace

Opened open_plan(const PlanOptions& options) {
    plan::Reading reading;
    if (options.path == "-") {
        std::string text(std::istreambuf_iterator<char>(std::cin), {});
        reading = plan::read(text, "standard input", settings_of(options));
    } else {
        reading = plan::read_file(options.path, settings_of(options));
    }
    if (reading.plan) {
        lab::Lab lab = lab::build(*reading.plan);
        return {std::move(*reading.plan), std::move(lab)};
    }
    std::string message;
    for (const plan::Problem& problem : reading.problems)
        message +=
            fmt::format("{}: {}\n", plan::to_string(problem.at, reading.source), problem.message);
    if (reading.problems.size() == plan::Reading::most_problems)
        message += "more problems are left out\n";
    message += fmt::format("{} in the plan, so nothing was asked",
                           counted(reading.problems.size(), "problem"));
    throw NotAsked(message);
}

routing::Settled settle(const Opened& opened, const PlanOptions& options) {
    routing::Condition condition(opened.lab);
    for (const std::string& cut : options.cuts)
        if (!condition.cut(opened.lab, cut))
            throw NotAsked(fmt::format("--cut {}: the lab has no such machine, NIC or link; write "
                                       "MACHINE, MACHINE/NIC or MACHINE--MACHINE",
                                       cut));
    return routing::settle(opened.lab, std::move(condition));
}

lab::MachineId machine_named(const lab::Lab& lab, const std::string& name) {
    if (auto id = lab.machine(name))
        return *id;
    throw NotAsked(probe::unknown_endpoint(lab, name));
}

std::string counted(std::size_t n, std::string_view noun) {
    return fmt::format("{} {}{}", n, noun, n == 1 ? "" : "s");
}

void add_question_options(CLI::App& command, QuestionOptions& options) {
    add_plan_options(command, options.plan, true);
    command.add_option("FROM", options.from, "the sender: MACHINE or MACHINE/NIC")->required();
    command.add_option("TO", options.to, "the far end: MACHINE, MACHINE/NIC or an address")
        ->required();
    command.add_option("--family", options.family, "4 or 6; default: IPv4 where both ends have it")
        ->check(CLI::IsMember({4, 6}).description(""))
        ->type_name("4|6");
    command.add_option("--source", options.source, "an address of the sender to send from")
        ->type_name("ADDRESS");
    command
        .add_option("--ttl", options.ping.ttl,
                    "TTL (hop limit) of the request, 1 to 255; "
                    "default 64")
        ->check(CLI::Range(1, 255).description(""))
        ->type_name("N");
    command
        .add_option("--size", options.ping.payload_bytes,
                    "bytes behind the ICMP header; default 56")
        ->check(CLI::Range(0, 65507).description(""))
        ->type_name("BYTES");
}

probe::PingQuestion question_of(const Opened& opened, QuestionOptions& options) {
    for (const std::string& end : {options.from, options.to})
        if (!probe::endpoint(opened.lab, end))
            throw NotAsked(probe::unknown_endpoint(opened.lab, end));
    if (options.family != 0)
        options.ping.family = options.family == 4 ? net::Family::ipv4 : net::Family::ipv6;
    if (!options.source.empty()) {
        options.ping.source = net::parse_address(options.source);
        auto end = probe::endpoint(opened.lab, options.source);
        auto sender = probe::endpoint(opened.lab, options.from);
        if (!options.ping.source || end->machine != sender->machine)
            throw NotAsked(
                fmt::format("--source {}: not an address of {}", options.source, options.from));
    }
    auto asked = probe::question(opened.lab, options.from, options.to, options.ping);
    if (!asked)
        throw NotAsked(fmt::format("no machine has {} to send from", options.from));
    return *asked;
}

std::optional<probe::Mending> mending_of(const Opened& opened, const QuestionOptions& options,
                                         const probe::PingAnswer& answer) {
    if (!answer.diagnosis || !options.plan.cuts.empty())
        return std::nullopt;
    return probe::mend(opened.plan, options.from, options.to, options.ping);
}

} // namespace jackal::cli
