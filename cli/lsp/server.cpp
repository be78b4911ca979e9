#include "lsp/server.h"

#include "command.h"
#include "jackal/editor/completion.h"
#include "jackal/export/json.h"
#include "jackal/version.h"
#include "process.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::cli::lsp {

using editor::Positions;
using editor::Span;

namespace {

/// How long nothing more must be typed before the text is looked at.
constexpr std::chrono::milliseconds quiet{120};

/// A request that is answered with an error.
class Refused : public std::runtime_error {
  public:
    Refused(ErrorCode why, const std::string& what) : std::runtime_error(what), code(why) {}
    ErrorCode code;
};

ErrorCode code_of(const std::exception& e) {
    if (const auto* refused = dynamic_cast<const Refused*>(&e))
        return refused->code;
    return dynamic_cast<const json::exception*>(&e) != nullptr ? ErrorCode::invalid_params
                                                               : ErrorCode::request_failed;
}

json json_of(editor::Position position) {
    return {{"line", position.line}, {"character", position.unit}};
}

json range_of(const Positions& positions, Span span) {
    return {{"start", json_of(positions.of(span.begin))}, {"end", json_of(positions.of(span.end))}};
}

editor::Position position_of(const json& position) {
    return {position.at("line").get<std::uint32_t>(),
            position.at("character").get<std::uint32_t>()};
}

plan::Mark mark_of(const Positions& positions, const json& params) {
    return positions.mark(position_of(params.at("position")));
}

// The places of a view in the text as it is now.
std::optional<Span> forward(const editor::Shift& shift, Span span) {
    const auto begin = shift.forward(span.begin);
    const auto end = shift.forward(span.end);
    return begin && end ? std::optional(Span{*begin, *end}) : std::nullopt;
}

json edits_of(const Positions& positions, const std::vector<editor::TextChange>& changes) {
    json edits = json::array();
    for (const editor::TextChange& change : changes)
        edits.push_back({{"range", range_of(positions, change.at)}, {"newText", change.text}});
    return edits;
}

// SymbolKind
int symbol_kind(const editor::Symbol& symbol) {
    constexpr int module = 2;
    constexpr int space = 3;
    constexpr int kind_class = 5;
    constexpr int property = 7;
    constexpr int function = 12;
    constexpr int kind_struct = 23;
    if (!symbol.kind)
        return property;
    switch (*symbol.kind) {
    case editor::Kind::site:
    case editor::Kind::region: return space;
    case editor::Kind::subnet:
    case editor::Kind::pool: return module;
    case editor::Kind::machine: return kind_class;
    case editor::Kind::filter:
    case editor::Kind::policy: return function;
    default: return kind_struct;
    }
}

// CompletionItemKind
int completion_kind(editor::Completion::Sort sort) {
    switch (sort) {
    case editor::Completion::Sort::key: return 10;  // Property
    case editor::Completion::Sort::word: return 12; // Value
    case editor::Completion::Sort::name: return 18; // Reference
    }
    return 1;
}

bool lists(const json& tree, const json::json_pointer& list, const char* word) {
    return tree.contains(list) && std::ranges::find(tree.at(list), word) != tree.at(list).end();
}

bool has(const json& tree, const char* pointer) {
    const json::json_pointer path(pointer);
    return tree.contains(path) && tree.at(path) == true;
}

} // namespace

Server::Server(std::FILE* in, std::FILE* out)
    : out_(out), mailbox_(std::make_shared<Mailbox>()),
      worker_(std::make_unique<Worker>(
          [mailbox = mailbox_](Known known) { mailbox->push(std::move(known)); },
          [mailbox = mailbox_](Done done) { mailbox->push(std::move(done)); })) {
    // It may wait for a client that says nothing more, so it is not waited for.
    std::thread([in, mailbox = mailbox_] {
        Closed closed;
        try {
            while (auto message = read_message(in))
                mailbox->push(std::move(*message));
        } catch (const std::exception& e) { // where the next one begins is anybody's guess
            closed.why = e.what();
        }
        mailbox->push(std::move(closed));
    }).detach();
}

void Server::Mailbox::push(Event event) {
    {
        std::lock_guard lock(mutex);
        events.push_back(std::move(event));
    }
    arrived.notify_one();
}

Server::Event Server::Mailbox::pop() {
    std::unique_lock lock(mutex);
    arrived.wait(lock, [this] { return !events.empty(); });
    Event event = std::move(events.front());
    events.pop_front();
    return event;
}

void Server::send(const json& message) {
    write_message(out_, message);
}

bool Server::run() {
    for (;;) {
        Event event = mailbox_->pop();
        if (const auto* closed = std::get_if<Closed>(&event)) {
            if (!closed->why.empty())
                throw NotAsked(closed->why);
            return is_shut_down_;
        }
        if (const auto* known = std::get_if<Known>(&event)) {
            take(*known);
        } else if (const auto* done = std::get_if<Done>(&event)) {
            take(*done);
        } else {
            const std::string& text = std::get<std::string>(event);
            const json message = exports::too_deep_at(text) ? json(json::value_t::discarded)
                                                            : json::parse(text, nullptr, false);
            const json method = message.is_object() ? message.value("method", json()) : json();
            if (method == "exit")
                return is_shut_down_;
            take(message, method);
        }
    }
}

void Server::take(const json& message, const json& method) {
    if (message.is_discarded())
        return send(error_response(nullptr, ErrorCode::parse_error, "this is no JSON"));
    if (!message.is_object())
        return send(error_response(nullptr, ErrorCode::invalid_request, "this is no message"));
    const json id = message.value("id", json());
    const json params = message.value("params", json::object());
    const bool is_request = message.contains("id") && method.is_string();
    try {
        if (is_request && !is_initialized_ && method != "initialize")
            throw Refused(ErrorCode::not_initialized, "initialize comes first");
        if (is_request && is_shut_down_)
            throw Refused(ErrorCode::invalid_request, "the server is shut down");
        if (is_request)
            take_request(id, method, params);
        else if (method.is_string())
            take_notification(method, params);
        else if (message.contains("result") || message.contains("error"))
            take_response(message);
        else
            throw Refused(ErrorCode::invalid_request, "the message has no method");
    } catch (const std::exception& e) {
        if (message.contains("id"))
            send(error_response(id, code_of(e), e.what()));
        else
            send(notification("window/logMessage", {{"type", 2}, {"message", e.what()}}));
    }
}

void Server::take_request(const json& id, const std::string& method, const json& params) {
    using Answer = json (Server::*)(const json&);
    static const std::map<std::string, Answer, std::less<>> answers = {
        {"textDocument/hover", &Server::hover},
        {"textDocument/completion", &Server::complete},
        {"textDocument/definition", &Server::definition},
        {"textDocument/prepareRename", &Server::prepare_rename},
        {"textDocument/rename", &Server::rename},
        {"textDocument/documentSymbol", &Server::symbols},
        {"textDocument/inlayHint", &Server::hints},
        {"textDocument/codeAction", &Server::actions},
    };
    if (auto answer = answers.find(method); answer != answers.end())
        return send(response(id, (this->*answer->second)(params)));
    if (method == "textDocument/references")
        return send(response(id, references(params, false)));
    if (method == "textDocument/documentHighlight")
        return send(response(id, references(params, true)));
    if (method == "workspace/executeCommand")
        return execute(id, params);
    if (method == "initialize") {
        initialize(params);
        return send(response(id, {{"capabilities", capabilities()},
                                  {"serverInfo", {{"name", "jackal"}, {"version", version()}}}}));
    }
    if (method == "shutdown") {
        is_shut_down_ = true;
        return send(response(id, nullptr));
    }
    throw Refused(ErrorCode::method_not_found, fmt::format("{} is not supported", method));
}

void Server::take_notification(const std::string& method, const json& params) {
    if (method == "$/cancelRequest")
        return cancel(params);
    if (!is_initialized_ || is_shut_down_)
        return;
    if (method == "textDocument/didOpen")
        return open(params);
    if (method == "textDocument/didChange")
        return change(params);
    if (method == "textDocument/didClose") {
        const std::string uri = params.at("textDocument").at("uri");
        worker_->forget(uri);
        documents_.erase(uri);
        send(notification("textDocument/publishDiagnostics",
                          {{"uri", uri}, {"diagnostics", json::array()}}));
    }
}

void Server::initialize(const json& params) {
    is_initialized_ = true;
    const json client = params.value("capabilities", json::object());
    takes_versions_ = has(client, "/workspace/workspaceEdit/documentChanges");
    const json::json_pointer formats("/textDocument/hover/contentFormat");
    takes_markdown_ = !client.contains(formats) || lists(client, formats, "markdown");
    if (lists(client, json::json_pointer("/general/positionEncodings"), "utf-32"))
        unit_ = editor::Unit::utf32;
}

json Server::capabilities() const {
    constexpr int incremental = 2;
    return {
        {"positionEncoding", unit_ == editor::Unit::utf16 ? "utf-16" : "utf-32"},
        {"textDocumentSync", {{"openClose", true}, {"change", incremental}}},
        {"hoverProvider", true},
        {"completionProvider", {{"triggerCharacters", {" ", "[", "{", ",", "/"}}}},
        {"definitionProvider", true},
        {"referencesProvider", true},
        {"documentHighlightProvider", true},
        {"renameProvider", {{"prepareProvider", true}}},
        {"documentSymbolProvider", true},
        {"inlayHintProvider", true},
        {"codeActionProvider", {{"codeActionKinds", {"quickfix", "source.fixAll"}}}},
        {"executeCommandProvider", {{"commands", {"jackal.apply"}}, {"workDoneProgress", true}}}};
}

// --- texts -----------------------------------------------------------------------------------

void Server::open(const json& params) {
    const json& given = params.at("textDocument");
    const std::string uri = given.at("uri");
    Document& document = documents_[uri];
    document.text = given.at("text");
    document.version = given.at("version");
    worker_->look({uri, path_of(uri), document.version, document.text},
                  std::chrono::milliseconds(0));
}

void Server::change(const json& params) {
    const std::string uri = params.at("textDocument").at("uri");
    auto found = documents_.find(uri);
    if (found == documents_.end())
        throw std::invalid_argument("no such text is open");
    Document& document = found->second;
    for (const json& change : params.at("contentChanges")) {
        if (!change.contains("range")) {
            document.text = change.at("text");
            continue;
        }
        const Positions positions(document.text, unit_);
        const std::size_t begin = positions.offset(position_of(change["range"].at("start")));
        const std::size_t end = positions.offset(position_of(change["range"].at("end")));
        document.text.replace(begin, std::max(end, begin) - begin, change.at("text"));
    }
    document.version = params.at("textDocument").at("version");
    worker_->look({uri, path_of(uri), document.version, document.text}, quiet);
}

void Server::take(const Known& known) {
    auto found = documents_.find(known.uri);
    if (found == documents_.end())
        return;
    Document& document = found->second;
    document.last = known;
    if (known.view->outline() != nullptr)
        document.yaml = known.view;
    if (known.check != nullptr)
        document.readable = known;
    else if (known.view->plan() != nullptr && document.readable.view == nullptr)
        document.readable = known; // its check comes later
    if (known.is_too_large)
        send(notification("window/showMessage",
                          {{"type", 2},
                           {"message", fmt::format("{} takes too long to check while it is being "
                                                   "written; jackal check tells what is wrong",
                                                   known.view->source())}}));
    const bool comes_a_check =
        known.view->plan() != nullptr && known.check == nullptr && !known.is_too_large;
    if (document.version == known.version && !comes_a_check)
        publish(known.uri, document);
}

// What is known of the last text; where that does not read, what was known before stays.
void Server::publish(const std::string& uri, const Document& document) {
    const Positions positions(document.text, unit_);
    json diagnostics = json::array();
    auto add = [&](const editor::Note& note, const editor::Shift* shift) {
        auto moved = [&](Span span) { return shift ? forward(*shift, span) : std::optional(span); };
        const auto at = moved(note.at);
        if (!at)
            return;
        json related = json::array();
        for (const auto& [place, what] : note.related)
            if (auto there = moved(place))
                related.push_back(
                    {{"location", {{"uri", uri}, {"range", range_of(positions, *there)}}},
                     {"message", what}});
        diagnostics.push_back({{"range", range_of(positions, *at)},
                               {"severity", note.severity == lab::Severity::error ? 1 : 2},
                               {"code", note.code},
                               {"source", "jackal"},
                               {"message", note.message},
                               {"relatedInformation", std::move(related)}});
    };
    for (const editor::Note& note : editor::notes(*document.last.view, document.last.check.get()))
        add(note, nullptr);
    if (document.last.view->plan() == nullptr && document.readable.check != nullptr) {
        const editor::Shift shift(document.readable.view->text(), document.text);
        for (const editor::Note& note :
             editor::notes(*document.readable.view, document.readable.check.get()))
            add(note, &shift);
    }
    send(notification(
        "textDocument/publishDiagnostics",
        {{"uri", uri}, {"version", document.version}, {"diagnostics", std::move(diagnostics)}}));
}

const Server::Document& Server::document(const json& params) const {
    const std::string uri = params.at("textDocument").at("uri");
    auto found = documents_.find(uri);
    if (found == documents_.end())
        throw Refused(ErrorCode::invalid_params, fmt::format("{} is not open", uri));
    return found->second;
}

// --- answers ---------------------------------------------------------------------------------

json Server::hover(const json& params) {
    const Document& document = this->document(params);
    // What is known of the text itself goes before what was known of one before.
    const bool reads = document.last.view != nullptr && document.last.view->plan() != nullptr;
    const Known& known =
        reads || document.readable.view == nullptr ? document.last : document.readable;
    if (known.view == nullptr)
        return nullptr;
    const editor::Shift shift(known.view->text(), document.text);
    const Positions positions(document.text, unit_);
    const auto mark = shift.back(mark_of(positions, params));
    if (!mark)
        return nullptr;
    const auto words = editor::hover(*known.view, known.check.get(), *mark);
    if (!words)
        return nullptr;
    std::string text = words->text;
    if (!takes_markdown_)
        std::erase_if(text, [](char c) { return c == '*' || c == '`'; });
    json answer = {
        {"contents", {{"kind", takes_markdown_ ? "markdown" : "plaintext"}, {"value", text}}}};
    if (auto at = forward(shift, words->at))
        answer["range"] = range_of(positions, *at);
    return answer;
}

json Server::complete(const json& params) {
    const Document& document = this->document(params);
    const Positions positions(document.text, unit_);
    const editor::Completions found = editor::complete(
        document.text, mark_of(positions, params),
        document.yaml == nullptr ? nullptr : document.yaml->outline(),
        document.readable.view == nullptr ? nullptr : document.readable.view->lab());
    json items = json::array();
    for (const editor::Completion& one : found.all)
        items.push_back(
            {{"label", one.label},
             {"kind", completion_kind(one.sort)},
             {"detail", one.about},
             {"filterText", one.label},
             {"textEdit", {{"range", range_of(positions, found.at)}, {"newText", one.insert}}}});
    return {{"isIncomplete", false}, {"items", std::move(items)}};
}

std::optional<Server::Pointed> Server::pointed(const json& params) const {
    const Document& document = this->document(params);
    if (document.yaml == nullptr)
        return std::nullopt;
    Pointed pointed{*document.yaml->outline(), editor::Shift(document.yaml->text(), document.text),
                    Positions(document.text, unit_)};
    if (const auto mark = pointed.shift.back(mark_of(pointed.positions, params)))
        pointed.mention = pointed.outline.at(*mark);
    return pointed.mention == nullptr ? std::nullopt : std::optional(pointed);
}

json Server::definition(const json& params) {
    const auto here = pointed(params);
    const editor::Mention* entry = here ? here->outline.entry(*here->mention) : nullptr;
    const auto at = entry == nullptr ? std::nullopt : forward(here->shift, entry->at);
    if (!at)
        return nullptr;
    return {{"uri", params.at("textDocument").at("uri")},
            {"range", range_of(here->positions, *at)}};
}

json Server::references(const json& params, bool as_highlights) {
    json places = json::array();
    const auto here = pointed(params);
    if (!here)
        return places;
    const bool with_entry =
        as_highlights || params.value("context", json::object()).value("includeDeclaration", true);
    for (const editor::Mention& use : here->outline.uses(*here->mention)) {
        const auto at = forward(here->shift, use.at);
        if (!at || (use.is_entry && !with_entry))
            continue;
        json place = {{"range", range_of(here->positions, *at)}};
        if (!as_highlights)
            place["uri"] = params.at("textDocument").at("uri");
        places.push_back(std::move(place));
    }
    return places;
}

json Server::prepare_rename(const json& params) {
    const Document& document = this->document(params);
    const auto outline = editor::Outline::read(document.text);
    const Positions positions(document.text, unit_);
    const editor::Mention* mention = outline ? outline->at(mark_of(positions, params)) : nullptr;
    if (mention == nullptr)
        return nullptr;
    const std::string_view name = mention->name;
    return {{"range", range_of(positions, mention->at)},
            {"placeholder", name.substr(name.find('/') + 1)}};
}

json Server::rename(const json& params) {
    const Document& document = this->document(params);
    const auto outline = editor::Outline::read(document.text);
    if (!outline)
        throw Refused(ErrorCode::request_failed, "the text is no YAML at present");
    const Positions positions(document.text, unit_);
    return workspace_edit(
        params.at("textDocument").at("uri"), document.version, document.text,
        editor::rename(document.text, *outline, mark_of(positions, params), params.at("newName")));
}

json Server::symbols(const json& params) {
    const Document& document = this->document(params);
    json list = json::array();
    if (document.yaml == nullptr)
        return list;
    const editor::Shift shift(document.yaml->text(), document.text);
    const Positions positions(document.text, unit_);
    const std::function<void(json&, const std::vector<editor::Symbol>&)> add =
        [&](json& to, const std::vector<editor::Symbol>& symbols) {
            for (const editor::Symbol& symbol : symbols) {
                const auto whole = forward(shift, symbol.whole);
                const auto at = forward(shift, symbol.at);
                if (!whole || !at)
                    continue;
                json parts = json::array();
                add(parts, symbol.parts);
                to.push_back({{"name", symbol.name},
                              {"detail", symbol.detail},
                              {"kind", symbol_kind(symbol)},
                              {"range", range_of(positions, *whole)},
                              {"selectionRange", range_of(positions, *at)},
                              {"children", std::move(parts)}});
            }
        };
    add(list, document.yaml->outline()->symbols());
    return list;
}

json Server::hints(const json& params) {
    const Document& document = this->document(params);
    json list = json::array();
    if (document.readable.view == nullptr)
        return list;
    const editor::Shift shift(document.readable.view->text(), document.text);
    const Positions positions(document.text, unit_);
    const auto first = params.at("range").at("start").at("line").get<std::uint32_t>();
    const auto last = params.at("range").at("end").at("line").get<std::uint32_t>();
    for (const editor::Hint& hint : editor::hints(*document.readable.view)) {
        const auto at = shift.forward(hint.at);
        if (!at || at->line < first + 1 || at->line > last + 1)
            continue;
        list.push_back({{"position", json_of(positions.of(*at))},
                        {"label", hint.text},
                        {"paddingLeft", true}});
    }
    return list;
}

// --- changes ---------------------------------------------------------------------------------

json Server::actions(const json& params) {
    const Document& document = this->document(params);
    const Known& known = document.readable;
    json list = json::array();
    if (known.check == nullptr || known.view->text() != document.text)
        return list;
    const Positions positions(document.text, unit_);
    const auto first = positions.mark(position_of(params.at("range").at("start"))).line;
    const auto last = positions.mark(position_of(params.at("range").at("end"))).line;
    const json only = params.value("context", json::object()).value("only", json());
    auto is_wanted = [&](const std::string& kind) {
        return !only.is_array() || only.empty()
               || std::ranges::any_of(only, [&](const json& wanted) {
                      const std::string prefix = wanted;
                      return kind == prefix || kind.starts_with(prefix + ".") || prefix.empty();
                  });
    };
    for (const editor::Action& action : editor::actions(*known.view, *known.check, first, last)) {
        const bool is_all = action.sort == editor::Action::Sort::everything;
        const std::string kind = is_all ? "source.fixAll" : "quickfix";
        // One that is asked for by no kind goes where fixes are.
        if (!is_wanted(kind) && !(is_all && is_wanted("quickfix")))
            continue;
        json entry = {{"title", action.title},
                      {"kind", is_wanted(kind) ? kind : "quickfix"},
                      {"command",
                       {{"title", action.title},
                        {"command", "jackal.apply"},
                        {"arguments",
                         {{{"uri", params.at("textDocument").at("uri")},
                           {"version", document.version},
                           {"sort", static_cast<int>(action.sort)},
                           {"finding", action.finding},
                           {"line", action.line}}}}}}};
        if (action.note)
            entry["diagnostics"] = {{{"range", range_of(positions, action.note->at)},
                                     {"code", action.note->code},
                                     {"source", "jackal"},
                                     {"message", action.note->message}}};
        list.push_back(std::move(entry));
    }
    return list;
}

void Server::execute(const json& id, const json& params) {
    if (params.at("command") != "jackal.apply")
        throw Refused(ErrorCode::invalid_params, "the one command is jackal.apply");
    const json& wanted = params.at("arguments").at(0);
    const std::string uri = wanted.at("uri");
    auto found = documents_.find(uri);
    if (found == documents_.end())
        throw Refused(ErrorCode::invalid_params, fmt::format("{} is not open", uri));
    const Document& document = found->second;
    const Known& known = document.readable;
    if (document.version != wanted.at("version").get<std::int64_t>() || known.check == nullptr
        || known.view->text() != document.text)
        throw Refused(ErrorCode::content_modified, "the text has changed since");
    const int sort = wanted.at("sort");
    const std::size_t finding = wanted.at("finding");
    if (sort < 0 || sort > static_cast<int>(editor::Action::Sort::everything)
        || (sort == static_cast<int>(editor::Action::Sort::remedy)
            && finding >= known.check->findings.size()))
        throw Refused(ErrorCode::invalid_params, "there is no such action");
    const editor::Action action{static_cast<editor::Action::Sort>(sort), "", finding,
                                wanted.at("line")};
    const std::uint64_t number = ++last_number_;
    const json token = params.value("workDoneToken", json());
    pending_[number] = {id, token, uri, document.version};
    if (!token.is_null())
        send(notification("$/progress", {{"token", token},
                                         {"value",
                                          {{"kind", "begin"},
                                           {"title", "looking for the smallest change"},
                                           {"cancellable", true}}}}));
    worker_->act({number, known, action});
}

void Server::take(const Done& done) {
    auto found = pending_.find(done.number);
    if (found == pending_.end())
        return; // it was cancelled
    const Pending pending = std::move(found->second);
    pending_.erase(found);
    if (!pending.token.is_null())
        send(notification("$/progress", {{"token", pending.token}, {"value", {{"kind", "end"}}}}));
    auto document = documents_.find(pending.uri);
    if (document == documents_.end() || document->second.version != pending.version)
        return send(
            error_response(pending.id, ErrorCode::content_modified, "the text has changed since"));
    if (!done.problem.empty()) {
        send(notification("window/showMessage", {{"type", 2}, {"message", done.problem}}));
        return send(error_response(pending.id, ErrorCode::request_failed, done.problem));
    }
    applying_[done.number] = pending;
    send(request(done.number, "workspace/applyEdit",
                 {{"label", "jackal"},
                  {"edit", workspace_edit(pending.uri, pending.version, document->second.text,
                                          done.changes)}}));
}

// Of workspace/applyEdit, the one request that we make.
void Server::take_response(const json& message) {
    const json& id = message.at("id");
    if (!id.is_number_unsigned())
        return;
    auto found = applying_.find(id);
    if (found == applying_.end())
        return;
    const Pending pending = std::move(found->second);
    applying_.erase(found);
    const json result = message.value("result", json::object());
    if (result.is_object() && result.value("applied", false))
        return send(response(pending.id, nullptr));
    send(error_response(pending.id, ErrorCode::request_failed,
                        result.is_object()
                            ? result.value("failureReason", "the editor did not take the change")
                            : "the editor did not take the change"));
}

void Server::cancel(const json& params) {
    const json& id = params.at("id");
    for (auto& [number, pending] : pending_)
        if (pending.id == id) {
            worker_->cancel(number);
            send(error_response(id, ErrorCode::request_cancelled, "cancelled"));
            pending_.erase(number);
            return;
        }
}

json Server::workspace_edit(const std::string& uri, std::int64_t version, const std::string& text,
                            const std::vector<editor::TextChange>& changes) const {
    const Positions positions(text, unit_);
    json edits = edits_of(positions, changes);
    if (!takes_versions_)
        return {{"changes", {{uri, std::move(edits)}}}};
    return {
        {"documentChanges",
         {{{"textDocument", {{"uri", uri}, {"version", version}}}, {"edits", std::move(edits)}}}}};
}

} // namespace jackal::cli::lsp
