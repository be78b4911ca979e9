// What editors ask: of the library, of the built server by its protocol, and by a real client.
#include "files.h"
#include "jackal/editor/completion.h"
#include "jackal/editor/position.h"
#include "jackal/editor/view.h"
#include "jackal/jackal.h"
#include "program.h"
#include "sanitized.h"

#include <algorithm>
#include <csignal>
#include <doctest/doctest.h>
#include <filesystem>
#include <fmt/format.h>
#include <nlohmann/json.hpp>
#include <poll.h>
#include <unistd.h>

using namespace jackal;
using nlohmann::json;

namespace {

std::vector<std::filesystem::path> demo_plans() {
    std::vector<std::filesystem::path> plans;
    for (const auto& entry : std::filesystem::recursive_directory_iterator(SOURCE_DIR "/demo"))
        if (entry.path().extension() == ".yaml")
            plans.push_back(entry.path());
    std::ranges::sort(plans);
    return plans;
}

// The text without its `|`, and where that was.
std::pair<std::string, plan::Mark> at_bar(std::string text) {
    const std::size_t bar = text.find('|');
    REQUIRE(bar != text.npos);
    plan::Mark mark{1, 1};
    for (std::size_t i = 0; i < bar; ++i) {
        mark.column = text[i] == '\n' ? 1 : mark.column + 1;
        mark.line += text[i] == '\n' ? 1 : 0;
    }
    return {text.erase(bar, 1), mark};
}

const std::string quay = "lab: jetty\n"
                         "subnets:\n"
                         "  quay: {prefix: 10.1.0.0/24}\n"
                         "  sand: {hosts: 12}\n"
                         "filters:\n"
                         "  hush: {default: allow, rules: [{do: deny, way: in, proto: tcp, port: "
                         "22, from: desk-1}]}\n"
                         "guests:\n"
                         "  desk: {count: 2, nics: [{subnet: quay, filter: hush}]}\n"
                         "  kelp: {nics: [{subnet: sand}]}\n"
                         "routers:\n"
                         "  ridge:\n"
                         "    nics:\n"
                         "      - subnet: quay\n"
                         "      - subnet: sand\n"
                         "expect:\n"
                         "  - ping: [desk-2, kelp]\n";

} // namespace

TEST_CASE("completion knows where it stands, also in what is half written") {
    struct Row {
        const char* text;
        std::vector<std::string> has;
        std::vector<std::string> lacks;
    };
    const Row rows[] = {
        {"|", {"subnets", "guests", "expect"}, {"nics"}},
        {"lab: a\nsub|", {"subnets"}, {"lab"}},
        {"guests:\n  kelp:\n    |", {"nics", "gateway", "count"}, {"subnets"}},
        {"guests:\n  kelp:\n    count: 2\n    ga|", {"gateway"}, {"count"}},
        {"guests:\n  kelp:\n    nics:\n      - |", {"subnet", "address"}, {"nics"}},
        {"guests:\n  kelp:\n    nics:\n      - subnet: |", {"quay", "sand"}, {"kelp", "subnet"}},
        {"guests:\n  kelp:\n    nics:\n      - subnet: quay\n        |", {"address"}, {"subnet"}},
        {"guests:\n  kelp:\n    nics:\n    - subnet: quay\n    - |", {"subnet"}, {}},
        {"guests:\n  kelp: {nics: [{subnet: q|", {"quay"}, {"count"}},
        {"guests:\n  kelp: {nics: [{subnet: quay, |", {"address", "mac"}, {"subnet", "nics"}},
        {"guests:\n  kelp: {nics: [{subnet: quay}], |", {"gateway"}, {"nics", "mac"}},
        {"guests:\n  kelp: {\n    nics: [],\n    |", {"gateway"}, {"nics"}},
        {"guests:\n  kelp: {\n    nics: []} |", {}, {"gateway"}},
        {"guests:\n  kelp: {about: \"a, {b\", |", {"gateway"}, {"about"}},
        {"guests:\n  kelp:\n    about: |", {}, {"nics"}},
        {"guests:\n  kelp: # here |", {}, {"nics"}},
        {"guests:\n  kelp:\n    about: >\n      a text\n      |", {}, {"nics"}},
        {"expect:\n  - ping: [|", {"desk-1", "kelp", "quay"}, {"tcp"}},
        {"expect:\n  - ping: [desk-1, kelp]\n    gets: |", {"reply", "no-reply"}, {"quay"}},
        {"expect:\n  - ping: [desk-1, kelp]\n    cut: |", {"any", "ridge"}, {}},
        {"subnets:\n  quay:\n    uplink: |", {"nat", "bridge"}, {}},
        {"subnets:\n  quay:\n    gateway: |", {"first", "last"}, {}},
        {"routers:\n  ridge:\n    routes:\n      - {to: |", {"default", "quay"}, {"kelp"}},
        {"routers:\n  ridge:\n    nat:\n      - out: |", {"eth0", "eth1"}, {}},
        {"routers:\n  ridge:\n    ospf:\n      cost:\n        |", {"eth0", "quay"}, {}},
        {"guests:\n  kelp:\r\n    nics:\r\n      - subnet: |", {"quay"}, {}},
    };
    const editor::View view(quay, "jetty.yaml");
    REQUIRE(view.lab() != nullptr);
    for (const Row& row : rows) {
        CAPTURE(std::string(row.text));
        const auto [text, mark] = at_bar(row.text);
        const editor::Completions found = editor::complete(text, mark, view.outline(), view.lab());
        auto offers = [&](const std::string& word) {
            return std::ranges::any_of(
                found.all, [&](const editor::Completion& one) { return one.label == word; });
        };
        for (const std::string& word : row.has) {
            CAPTURE(word);
            CHECK(offers(word));
        }
        for (const std::string& word : row.lacks) {
            CAPTURE(word);
            CHECK_FALSE(offers(word));
        }
    }
}

TEST_CASE("what is offered for a key that stands there is that key") {
    // Every plan up to any of its words: the word itself must be on offer.
    std::size_t keys = 0;
    for (const auto& path : demo_plans()) {
        const std::string text = text_of(path);
        const auto outline = editor::Outline::read(text);
        const editor::View view(text, "plan");
        REQUIRE(outline);
        for (const editor::Mention& mention : outline->mentions()) {
            if (mention.is_entry || mention.kind == editor::Kind::parameter
                || ++keys % (sanitized ? 8 : 2) != 0)
                continue;
            const editor::Completions found =
                editor::complete(text, mention.at.begin, &*outline, view.lab());
            CAPTURE(path.string());
            CAPTURE(mention.at.begin.line);
            CAPTURE(mention.name);
            // Parts of a cut or a NIC are offered with what stands before them.
            CHECK((found.at.begin.column < mention.at.begin.column
                   || std::ranges::any_of(found.all, [&](const editor::Completion& one) {
                          return one.label == mention.name
                                 || one.label.starts_with(mention.name + "-")
                                 || one.label.starts_with(mention.name + "/")
                                 || one.label.starts_with(mention.name + " ");
                      })));
        }
    }
    CHECK(keys > 1000);
}

TEST_CASE("renaming moves every mention and nothing else") {
    for (const auto& path : demo_plans()) {
        const std::string text = text_of(path);
        const auto outline = editor::Outline::read(text);
        REQUIRE(outline);
        const plan::Reading before = plan::read(text, "plan");
        std::size_t number = 0;
        for (const editor::Mention& entry : outline->mentions()) {
            if (!entry.is_entry || (sanitized && number++ % 10 != 0))
                continue;
            CAPTURE(path.string());
            CAPTURE(entry.name);
            const std::string own = entry.name.substr(entry.name.find('/') + 1);
            const auto changes = editor::rename(text, *outline, entry.at.begin, "zebra");
            const std::string renamed = editor::changed(text, changes);
            CHECK(plan::read(renamed, "plan").plan.has_value() == before.plan.has_value());
            // And back, by any of its mentions.
            const auto after = editor::Outline::read(renamed);
            REQUIRE(after);
            for (const editor::Mention& mention : after->mentions())
                if (mention.name.substr(mention.name.find('/') + 1) == "zebra") {
                    CHECK(editor::changed(renamed,
                                          editor::rename(renamed, *after, mention.at.begin, own))
                          == text);
                    break;
                }
        }
    }
    const auto outline = editor::Outline::read(quay);
    auto renamed = [&](plan::Mark mark, const std::string& name) {
        return editor::changed(quay, editor::rename(quay, *outline, mark, name));
    };
    CHECK(has(renamed({8, 3}, "chart"), "[chart-2, kelp]"));
    CHECK(has(renamed({8, 3}, "chart"), "from: chart-1}"));
    CHECK(has(renamed({14, 18}, "shore"), "shore: {hosts: 12}"));
    CHECK_THROWS_WITH(renamed({8, 3}, "kelp"), doctest::Contains("stands here a second time"));
    CHECK_THROWS_WITH(renamed({8, 3}, "Desk"), doctest::Contains("is no name"));
    CHECK_THROWS_WITH(renamed({1, 1}, "desk"), doctest::Contains("nothing that has a name"));
}

TEST_CASE("what is known of the thing under the cursor") {
    const editor::View view(quay, "jetty.yaml");
    REQUIRE(view.settled() != nullptr);
    const reach::Check check = reach::check(*view.settled());
    struct Row {
        plan::Mark at;
        std::vector<std::string> says;
    };
    const Row rows[] = {
        {{3, 4}, {"subnet quay", "10.1.0.1 to 10.1.0.254, 3 used, 251 free", "desk-2/eth0"}},
        {{14, 18}, {"subnet sand", "chosen by the planner"}},
        {{8, 3}, {"guest desk-1", "10.1.0.2/24 (next free)", "10.1.0.1"}},
        {{13, 12}, {"NIC ridge/eth0", "on quay", "`subnet`"}},
        {{6, 40},
         {"rule 1 of hush", "drops tcp to port 22 from desk-1 (10.1.0.2/32)", "coming in",
          "stands on desk-1/eth0, desk-2/eth0"}},
        {{16, 6}, {"**met**", "desk-2 > ridge > kelp", "round trip"}},
        {{4, 10}, {"`hosts`", "How many usable addresses are wanted"}},
    };
    for (const Row& row : rows) {
        CAPTURE(row.at.line);
        CAPTURE(row.at.column);
        const auto words = editor::hover(view, &check, row.at);
        REQUIRE(words);
        for (const std::string& part : row.says) {
            CAPTURE(part);
            CAPTURE(words->text);
            CHECK(has(words->text, part));
        }
    }
    CHECK_FALSE(editor::hover(view, &check, {17, 1}));
    const auto hints = editor::hints(view);
    REQUIRE(hints.size() == 5);
    CHECK(hints[0].at == plan::Mark{4, 7});
    CHECK(hints[1].text == "10.1.0.2");
    CHECK(hints[1].at.line == 8);
    CHECK(hints[1].at.column == 40);
}

TEST_CASE("places count as the editor counts") {
    const std::string text = "a: \"\xf0\x9f\x90\x9f\xc3\xa9\" # x\r\nb: 1\n\xe2\x80\xa8"
                             "c: 2";
    const editor::Positions utf16(text, editor::Unit::utf16);
    const editor::Positions utf32(text, editor::Unit::utf32);
    CHECK(utf16.of({1, 7}) == editor::Position{0, 7});
    CHECK(utf32.of({1, 7}) == editor::Position{0, 6});
    CHECK(utf16.mark({0, 7}) == plan::Mark{1, 7});
    CHECK(utf16.of({2, 1}) == editor::Position{1, 0});
    CHECK(utf16.of({4, 1}) == editor::Position{2, 1}); // YAML breaks a line there, editors do not
    CHECK(utf16.mark({9, 9}) == utf16.mark({2, 5}));
    const editor::Shift shift("a\nb\nc\nd\n", "a\nx\ny\nc\nd\n");
    CHECK(shift.forward({1, 1}) == plan::Mark{1, 1});
    CHECK_FALSE(shift.forward({2, 1}));
    CHECK(shift.forward({4, 1}) == plan::Mark{5, 1});
    CHECK(shift.back({5, 1}) == plan::Mark{4, 1});
}

namespace {

// The server as a client meets it.
class Client {
  public:
    Client() {
        int to[2];
        int from[2];
        REQUIRE(pipe(to) == 0);
        REQUIRE(pipe(from) == 0);
        child_ = fork();
        if (child_ == 0) {
            dup2(to[0], STDIN_FILENO);
            dup2(from[1], STDOUT_FILENO);
            for (int end : {to[0], to[1], from[0], from[1]})
                close(end);
            execl(TOOL, "jackal", "lsp", nullptr);
            _exit(127);
        }
        close(to[0]);
        close(from[1]);
        to_ = to[1];
        from_ = from[0];
    }
    ~Client() {
        close(to_);
        close(from_);
        kill(child_, SIGKILL);
        waitpid(child_, nullptr, 0);
    }
    Client(const Client&) = delete;
    Client& operator=(const Client&) = delete;

    void send_text(const std::string& content) {
        const std::string text =
            fmt::format("Content-Length: {}\r\n\r\n{}", content.size(), content);
        REQUIRE(write(to_, text.data(), text.size()) == static_cast<ssize_t>(text.size()));
    }
    void tell(const std::string& method, json params) {
        send_text(
            json{{"jsonrpc", "2.0"}, {"method", method}, {"params", std::move(params)}}.dump());
    }
    int send(const std::string& method, json params) {
        send_text(json{
            {"jsonrpc", "2.0"}, {"id", ++last_}, {"method", method}, {"params", std::move(params)}}
                      .dump());
        return last_;
    }
    json answer(int id) {
        for (;;) {
            const json message = next();
            if (message.value("method", "") == "workspace/applyEdit") {
                edit = message["params"]["edit"];
                send_text(
                    json{{"jsonrpc", "2.0"}, {"id", message["id"]}, {"result", {{"applied", true}}}}
                        .dump());
            } else if (!message.contains("method") && message["id"] == id) {
                return message;
            }
        }
    }
    json ask(const std::string& method, json params) {
        return answer(send(method, std::move(params)));
    }
    // The codes of the diagnostics, once they are as they should be.
    using Codes = std::vector<std::string>;
    Codes diagnosed(const std::function<bool(const Codes&)>& holds) {
        for (;;) {
            const json message = next();
            if (message.value("method", "") != "textDocument/publishDiagnostics")
                continue;
            Codes codes;
            for (const json& one : message["params"]["diagnostics"])
                codes.push_back(one["code"]);
            if (holds(codes))
                return codes;
        }
    }
    int end() {
        close(to_);
        to_ = -1;
        int status = 0;
        waitpid(child_, &status, 0);
        return WEXITSTATUS(status);
    }

    json edit; // the last that was asked of the client

  private:
    json next() {
        for (;;) {
            const std::size_t head = buffer_.find("\r\n\r\n");
            if (head != buffer_.npos) {
                const std::size_t size = std::stoul(buffer_.substr(16));
                if (buffer_.size() >= head + 4 + size) {
                    json message = json::parse(buffer_.substr(head + 4, size));
                    buffer_.erase(0, head + 4 + size);
                    return message;
                }
            }
            pollfd waiting{from_, POLLIN, 0};
            REQUIRE(poll(&waiting, 1, 60'000) == 1);
            std::array<char, 65'536> part{};
            const ssize_t size = read(from_, part.data(), part.size());
            REQUIRE(size > 0);
            buffer_.append(part.data(), static_cast<std::size_t>(size));
        }
    }

    pid_t child_ = 0;
    int to_ = -1;
    int from_ = -1;
    int last_ = 0;
    std::string buffer_;
};

const json uri = {{"uri", "file:///tmp/jetty%20plan.yaml"}};

void open(Client& client, const std::string& text) {
    client.ask("initialize", {{"capabilities", json::object()}});
    client.tell("initialized", json::object());
    json document = uri;
    document.update({{"languageId", "yaml"}, {"version", 1}, {"text", text}});
    client.tell("textDocument/didOpen", {{"textDocument", document}});
}

json at(int line, int character) {
    return {{"textDocument", uri}, {"position", {{"line", line}, {"character", character}}}};
}

// One change; a list of one in braces is a copy of it to some compilers.
void change(Client& client, int version, const json& one) {
    json document = uri;
    document["version"] = version;
    client.tell("textDocument/didChange",
                {{"textDocument", document}, {"contentChanges", json::array({one})}});
}

json replaced(int line, int from, int to, const std::string& text) {
    return {{"range",
             {{"start", {{"line", line}, {"character", from}}},
              {"end", {{"line", line}, {"character", to}}}}},
            {"text", text}};
}

} // namespace

TEST_CASE("the server: what is wrong as one types, the last good answers, what mends it") {
    Client client;
    auto none = [](const Client::Codes& codes) { return codes.empty(); };
    open(client, quay);
    client.diagnosed(none);
    CHECK(
        has(client.ask("textDocument/hover", at(15, 4))["result"]["contents"]["value"], "**met**"));

    // The router no longer forwards.
    change(client, 2, replaced(10, 8, 8, "\n    forwards: false"));
    const std::string unmet = "next-hop-does-not-forward";
    const auto codes = client.diagnosed([](const Client::Codes& c) { return !c.empty(); });
    CHECK(codes == Client::Codes{unmet, unmet}); // the finding, and the expectation

    // Half a word below makes it no plan: what was wrong stays, and names are still known.
    change(client, 3, replaced(17, 0, 0, "  - ping: [kelp, "));
    client.diagnosed([&](const Client::Codes& c) {
        return c == Client::Codes{"unreadable", unmet, unmet};
    });
    const json names = client.ask("textDocument/completion", at(17, 18))["result"]["items"];
    CHECK(std::ranges::any_of(names, [](const json& name) { return name["label"] == "desk-1"; }));
    CHECK(has(client.ask("textDocument/hover", at(16, 4))["result"]["contents"]["value"],
              "**not met**"));
    CHECK(client.ask("textDocument/definition", at(13, 17))["result"]["range"]["start"]["line"]
          == 2);
    CHECK(client
              .ask("textDocument/codeAction",
                   {{"textDocument", uri},
                    {"range", replaced(10, 0, 0, "")["range"]},
                    {"context", {{"diagnostics", json::array()}}}})["result"]
              .empty());

    change(client, 4, replaced(17, 0, 18, ""));
    client.diagnosed([&](const Client::Codes& c) { return c == codes; });
    json action;
    for (int i = 0; i < 200 && action.is_null(); ++i) {
        const json offered = client.ask("textDocument/codeAction",
                                        {{"textDocument", uri},
                                         {"range",
                                          {{"start", {{"line", 0}, {"character", 0}}},
                                           {"end", {{"line", 20}, {"character", 0}}}}},
                                         {"context", {{"diagnostics", json::array()}}}})["result"];
        for (const json& one : offered)
            if (has(one["title"], "routers.ridge.forwards"))
                action = one;
        usleep(20'000);
    }
    REQUIRE(!action.is_null());
    CHECK(action["kind"] == "quickfix");
    CHECK(client.ask("workspace/executeCommand", action["command"])["result"].is_null());
    REQUIRE(client.edit.contains("changes"));
    const json edits = client.edit["changes"][uri["uri"].get<std::string>()];
    REQUIRE(edits.size() == 1);
    change(client, 5, {{"range", edits[0]["range"]}, {"text", edits[0]["newText"]}});
    client.diagnosed(none);

    // An action of a text that is no more.
    CHECK(client.ask("workspace/executeCommand", action["command"])["error"]["code"] == -32801);
    CHECK(client.ask("shutdown", nullptr)["result"].is_null());
    CHECK(client.ask("textDocument/hover", at(0, 0))["error"]["code"] == -32600);
    CHECK(client.end() == 0);
}

TEST_CASE("the server: names, symbols, hints, everything mended at once") {
    Client client;
    std::string text = quay;
    text.replace(text.find("  ridge:\n"), 9, "  ridge:\n    forwards: false\n    state: down\n");
    open(client, text);
    client.diagnosed([](const Client::Codes& codes) { return !codes.empty(); });

    const json uses = client.ask("textDocument/references", at(2, 3))["result"];
    CHECK(uses.size() == 3);
    json asked = at(2, 3);
    asked["newName"] = "shore";
    CHECK(client.ask("textDocument/prepareRename", at(2, 3))["result"]["placeholder"] == "quay");
    CHECK(client.ask("textDocument/rename", asked)["result"]["changes"].begin().value().size()
          == 3);
    asked["newName"] = "sand";
    CHECK(has(client.ask("textDocument/rename", asked)["error"]["message"], "a second time"));
    const json symbols =
        client.ask("textDocument/documentSymbol", {{"textDocument", uri}})["result"];
    REQUIRE(symbols.size() == 6);
    CHECK(symbols[3]["name"] == "guests");
    CHECK(symbols[3]["children"][1]["name"] == "kelp");
    CHECK(symbols[5]["children"][0]["name"] == "ping desk-2 -- kelp");
    const json hints = client.ask("textDocument/inlayHint",
                                  {{"textDocument", uri},
                                   {"range",
                                    {{"start", {{"line", 7}, {"character", 0}}},
                                     {"end", {{"line", 8}, {"character", 0}}}}}})["result"];
    REQUIRE(hints.size() == 2);
    CHECK(hints[0]["label"] == "10.1.0.2");

    const json command = {
        {"command", "jackal.apply"},
        {"arguments",
         {{{"uri", uri["uri"]}, {"version", 1}, {"sort", 2}, {"finding", 0}, {"line", 0}}}}};
    CHECK(client.ask("workspace/executeCommand", command)["result"].is_null());
    const json edits = client.edit["changes"].begin().value();
    REQUIRE(edits.size() == 1);
    CHECK(has(edits[0]["newText"], "forwards: true"));
    CHECK_FALSE(has(edits[0]["newText"], "state: down"));

    // What no client should send.
    client.send_text("{");
    client.send_text("[]");
    client.send_text(R"({"method": 7, "id": {}})");
    client.send_text(R"({"result": {"applied": "yes"}})");
    client.send_text(R"({"method": "textDocument/didChange", "params": [1]})");
    CHECK(client.ask("textDocument/rename", {{"textDocument", uri}})["error"]["code"] == -32602);
    CHECK(client.ask("textDocument/foldAll", json::object())["error"]["code"] == -32601);
    CHECK(client.ask("textDocument/hover",
                     {{"textDocument", {{"uri", "file:///no"}}},
                      {"position", {{"line", 4e9}, {"character", 4e9}}}})["error"]["code"]
          == -32602);
    CHECK(client.ask("textDocument/hover", at(4'000'000, 4'000'000))["result"].is_null());
    client.tell("textDocument/didClose", {{"textDocument", uri}});
    client.diagnosed([](const Client::Codes& codes) { return codes.empty(); });
    client.tell("exit", json::object());
    CHECK(client.end() == 1); // nobody said shutdown
}

TEST_CASE("an editor shows a diagnostic, applies its action, and the diagnostic is gone") {
    char folder[] = "/tmp/jackal-editor-XXXXXX";
    REQUIRE(mkdtemp(folder) != nullptr);
    const std::string path = std::string(folder) + "/lab.yaml";
    std::filesystem::copy_file(SOURCE_DIR "/demo/mistakes/next-hop-does-not-forward.yaml", path);
    const Printed printed =
        run(fmt::format("cd {0} && JACKAL={1} timeout 100 nvim --headless -u NONE -i NONE -S "
                        "{2}/tests/editor/session.lua {3} 2>&1",
                        folder, TOOL, SOURCE_DIR, path));
    CAPTURE(printed.text);
    CHECK(printed.status == 0);
    CHECK(has(printed.text, "shown: next-hop-does-not-forward"));
    CHECK(has(printed.text, "gone"));
    CHECK(run(TOOL " check " + path).status == 0);
    CHECK(text_of(path) != text_of(SOURCE_DIR "/demo/mistakes/next-hop-does-not-forward.yaml"));
    std::filesystem::remove_all(folder);
}
