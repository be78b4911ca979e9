#include "serve/server.h"

#include "file.h"
#include "jackal/export/difference.h"
#include "process.h"

#include <charconv>
#include <fmt/format.h>
#include <nlohmann/json.hpp>
#include <random>

namespace jackal::cli::serve {

using httplib::Request;
using httplib::Response;
using nlohmann::json;

namespace {

constexpr const char* json_type = "application/json";

std::string new_token() {
    std::random_device random; // the operating system's
    std::string token;
    for (int i = 0; i < 4; ++i)
        token += fmt::format("{:08x}", random());
    return token;
}

std::string words_of_status(int status) {
    switch (status) {
    case 404: return "nothing is asked at that path; docs/api.md tells what can be";
    case 413: return "the request is too large";
    case 414: return "the path is too long";
    default: return "the request cannot be read";
    }
}

void refuse_with(Response& response, int status, const std::string& why) {
    response.status = status;
    response.set_content(json{{"error", why}}.dump() + "\n", json_type);
}

// The words of a value that has commas between them.
std::vector<std::string> words_of(const Request& request, const std::string& name) {
    std::vector<std::string> words;
    std::string value = request.get_param_value(name);
    for (std::size_t at = 0; at < value.size();) {
        std::size_t end = std::min(value.find(',', at), value.size());
        if (end > at)
            words.push_back(value.substr(at, end - at));
        at = end + 1;
    }
    return words;
}

// The lab under the cuts that a question names.
routing::Settled settled_of(const Loaded& loaded, const Request& request) {
    PlanOptions options;
    options.cuts = words_of(request, "cut");
    return settle(loaded.opened, options);
}

probe::PingQuestion question_of(const Loaded& loaded, const Request& request) {
    const lab::Lab& lab = loaded.opened.lab;
    probe::PingOptions options;
    std::string from = request.get_param_value("from");
    std::string to = request.get_param_value("to");
    for (const std::string& end : {from, to})
        if (!probe::endpoint(lab, end))
            throw NotAsked(probe::unknown_endpoint(lab, end));
    if (std::string family = request.get_param_value("family"); !family.empty()) {
        if (family != "4" && family != "6")
            throw NotAsked("family: write 4 or 6");
        options.family = family == "4" ? net::Family::ipv4 : net::Family::ipv6;
    }
    if (std::string service = request.get_param_value("service"); !service.empty()) {
        options.service = net::parse_service(service);
        if (!options.service)
            throw NotAsked("service: write a protocol and a port, such as tcp/22");
    }
    auto question = probe::question(lab, from, to, options);
    if (!question)
        throw NotAsked(fmt::format("{}: no machine has that address", from));
    return *question;
}

int count_of(const Request& request) {
    constexpr int usual = 60;
    std::string text = request.get_param_value("count");
    int count = usual;
    if (!text.empty()) {
        auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), count);
        if (error != std::errc() || end != text.data() + text.size() || count < 1
            || count > most_pings)
            throw NotAsked(fmt::format("count: write a number from 1 to {}", most_pings));
    }
    return count;
}

// What mends the plan: a difference of its file, and its text afterwards.
struct Mended {
    mend::Outcome outcome;
    std::string difference;
    std::string text;
};

Mended mended(const Loaded& loaded) {
    Mended made;
    made.outcome = mend::search(loaded.opened.plan, {}, {.threads = threads()},
                                [] { return !is_time_short(); });
    if (!made.outcome.is_healthy()) // some of it is no answer
        made.outcome.changes.clear();
    plan::Writing written = plan::write(loaded.file.text, made.outcome.edits());
    if (!written.text)
        throw NotAsked("the changes cannot be written into the file");
    made.text = *written.text;
    made.difference =
        exports::difference(loaded.file.text, made.text, plan::printable(loaded.file.source));
    return made;
}

} // namespace

Server::Server(Live& live, int port) : live_(live), token_(new_token()) {
    // Each connection has a thread while it lasts; there may be many, that wait or are slow.
    server_.new_task_queue = [] { return new httplib::ThreadPool(64); };
    server_.set_payload_max_length(1 << 16);
    server_.set_tcp_nodelay(true);
    server_.set_keep_alive_timeout(2); // seconds
    server_.set_read_timeout(2);
    server_.set_error_handler([](const Request&, Response& response) {
        if (response.body.empty())
            refuse_with(response, response.status, words_of_status(response.status));
    });
    server_.set_exception_handler(
        [](const Request&, Response& response, std::exception_ptr thrown) {
            try {
                std::rethrow_exception(thrown);
            } catch (const std::exception& e) {
                refuse_with(response, 500, e.what());
            }
        });
    server_.set_pre_routing_handler([this](const Request& request, Response& response) {
        // All is sent whole (RFC 9110 section 14.2 lets ranges be ignored): many ranges of one
        // page would be as many pages.
        const_cast<Request&>(request).ranges.clear();
        response.set_header("Cache-Control", "no-store");
        response.set_header("X-Content-Type-Options", "nosniff");
        response.set_header("Referrer-Policy", "no-referrer");
        response.set_header("X-Frame-Options", "DENY");
        if (is_welcome(request))
            return httplib::Server::HandlerResponse::Unhandled;
        refuse_with(response, 403, "ask by the whole address that jackal serve printed");
        return httplib::Server::HandlerResponse::Handled;
    });
    add_page();
    add_questions();
    add_mending();
    port_ = port == 0 ? server_.bind_to_any_port("127.0.0.1") : port;
    if (port_ < 0 || (port != 0 && !server_.bind_to_port("127.0.0.1", port)))
        throw NotAsked(fmt::format("port {} of 127.0.0.1 cannot be had", port));
}

std::string Server::url() const {
    return fmt::format("http://127.0.0.1:{}/{}/", port_, token_);
}

void Server::run() {
    server_.listen_after_bind();
}

bool Server::is_welcome(const Request& request) const {
    auto is_here = [&](std::string host) {
        return host == fmt::format("127.0.0.1:{}", port_)
               || host == fmt::format("localhost:{}", port_);
    };
    std::string origin = request.get_header_value("Origin");
    if (!origin.empty() && (!origin.starts_with("http://") || !is_here(origin.substr(7))))
        return false;
    std::string wanted = "/" + token_ + "/";
    if (request.path.size() < wanted.size())
        return false;
    unsigned differs = 0; // all of it is looked at, so that time tells nothing
    for (std::size_t i = 0; i < wanted.size(); ++i)
        differs |= static_cast<unsigned>(wanted[i] ^ request.path[i]);
    return differs == 0 && request.get_header_value_count("Host") == 1
           && is_here(request.get_header_value("Host"));
}

void Server::add_page() {
    server_.Get("/" + token_ + "/", [this](const Request&, Response& response) {
        auto shown = live_.now();
        if (!shown->page.empty())
            response.set_content(shown->page, "text/html; charset=utf-8");
        else
            refuse_with(response, 503, shown->problems);
    });
    server_.Get("/" + token_ + "/version", [this](const Request& request, Response& response) {
        std::string known = request.get_param_value("after");
        std::uint64_t version = std::strtoull(known.c_str(), nullptr, 10);
        const auto shown = live_.after(version);
        response.set_content(json{{"version", shown->version},
                                  {"reading", shown->reading},
                                  {"problems", shown->problems}}
                                     .dump()
                                 + "\n",
                             json_type);
    });
}

// What work in a process of its own says, so that a question can take no more than its own time and
// memory; if it does not come to its end, the response says why.
std::optional<std::vector<std::string>>
Server::texts_of(Response& response, int status_if_thrown,
                 const std::function<void(const Say&)>& work) {
    std::vector<std::string> texts;
    turns_.acquire();
    Ending ending;
    try {
        ending = in_child(work, [&](std::string text) { texts.push_back(std::move(text)); });
    } catch (const std::exception& e) {
        ending = {Ending::How::stopped, e.what()};
    }
    turns_.release();
    if (ending.how == Ending::How::done)
        return texts;
    refuse_with(response, ending.how == Ending::How::thrown ? status_if_thrown : 503, ending.why);
    return std::nullopt;
}

// What a question answers, in JSON; its errors as JSON, too.
void Server::answer(const std::string& path, Answer work) {
    server_.Get(
        "/" + token_ + "/api/" + path, [this, work](const Request& request, Response& response) {
            const auto shown = live_.now();
            if (!shown->loaded)
                return refuse_with(response, 503, shown->problems);
            if (auto texts =
                    texts_of(response, 400, [&](const Say& say) { say(work(*shown, request)); }))
                response.set_content(texts->front(), json_type);
        });
}

void Server::add_questions() {
    auto ping = [](const Shown& shown, const Request& request) {
        const Loaded& loaded = *shown.loaded;
        routing::Settled settled = settled_of(loaded, request);
        probe::PingAnswer answer = probe::ping(settled, question_of(loaded, request));
        return exports::ping_json(settled, answer, nullptr);
    };
    answer("ping", ping);
    answer("connect", [ping](const Shown& shown, const Request& request) {
        if (request.get_param_value("service").empty())
            throw NotAsked("service: write a protocol and a port, such as tcp/22");
        return ping(shown, request);
    });
    answer("timeline", [](const Shown& shown, const Request& request) {
        const Loaded& loaded = *shown.loaded;
        const lab::Lab& lab = loaded.opened.lab;
        const TimelineOptions options{.interval = request.get_param_value("interval"),
                                      .cuts = words_of(request, "cut-at"),
                                      .mends = words_of(request, "mend-at")};
        const probe::TimelineQuestion question =
            timeline_question(lab, question_of(loaded, request), count_of(request), options);
        return exports::timeline_json(lab, question, probe::timeline(lab, question));
    });
    answer("trace", [](const Shown& shown, const Request& request) {
        const Loaded& loaded = *shown.loaded;
        routing::Settled settled = settled_of(loaded, request);
        return exports::trace_json(settled, probe::trace(settled, question_of(loaded, request)),
                                   nullptr);
    });
    answer("check", [](const Shown& shown, const Request&) { return shown.check; });
    answer("verify", [](const Shown& shown, const Request& request) {
        const Loaded& loaded = *shown.loaded;
        routing::Settled settled = settled_of(loaded, request);
        return exports::verify_json(loaded.opened.lab, reach::verify(settled));
    });
    answer("routes", [](const Shown& shown, const Request& request) {
        const Loaded& loaded = *shown.loaded;
        std::vector<lab::MachineId> machines;
        if (std::string name = request.get_param_value("machine"); !name.empty())
            machines.push_back(machine_named(loaded.opened.lab, name));
        else
            for (lab::MachineId id : loaded.opened.lab.machines.ids())
                machines.push_back(id);
        return exports::routes_json(settled_of(loaded, request), machines, {});
    });
}

void Server::add_mending() {
    answer("mend", [](const Shown& shown, const Request&) {
        Mended made = mended(*shown.loaded);
        return exports::mend_json(shown.loaded->opened.plan, made.outcome, made.difference, false);
    });
    server_.Post("/" + token_ + "/api/mend", [this](const Request& request, Response& response) {
        auto shown = live_.now();
        if (!shown->loaded || !shown->problems.empty()) {
            refuse_with(response, 409, "the plan cannot be read as it stands");
            return;
        }
        const Loaded& loaded = *shown->loaded;
        const auto texts = texts_of(response, 409, [&](const Say& say) {
            const Mended made = mended(loaded);
            say(made.difference);
            say(made.text);
            say(exports::mend_json(loaded.opened.plan, made.outcome, made.difference, true));
        });
        if (!texts)
            return;
        if (texts->at(0).empty())
            return refuse_with(response, 409, "nothing is to be mended");
        if (texts->at(0) != request.body)
            return refuse_with(response, 409,
                               "the plan has changed since that difference was made");
        try {
            rewrite_whole(loaded.file.source, loaded.file.text, texts->at(1));
            response.set_content(texts->at(2), json_type);
        } catch (const std::exception& e) {
            refuse_with(response, 409, e.what());
        }
    });
}

} // namespace jackal::cli::serve
