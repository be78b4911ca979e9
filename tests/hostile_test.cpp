// Input that is made to hurt: the built program answers or refuses it, whole, and shows nothing
// that the input forges. The program's own limits are the clock: none of these may meet them.
#include "jackal/jackal.h"
#include "program.h"
#include "sanitized.h"
#include "scratch.h"

#include <doctest/doctest.h>
#include <fmt/format.h>
#include <fstream>
#include <functional>

namespace {

const std::string program = TOOL " ";

constexpr int many = sanitized ? 1'000 : 20'000;
constexpr int nics = sanitized ? 400 : 8'000;
constexpr int clones = sanitized ? 4 : 10'000;

Printed asked(const Scratch& folder, const std::string& text, const std::string& command) {
    std::string plan = folder.file("plan.yaml", text).string();
    std::string words = command;
    words.replace(words.find("PLAN"), 4, plan);
    return run(program + words + " 2>&1");
}

// `first TIMES last`, where each line has its number in the place of #.
std::string lines(int count, const std::string& line) {
    std::string all;
    for (int i = 0; i < count; ++i) {
        std::string one = line;
        for (std::size_t at = one.find('#'); at != one.npos; at = one.find('#'))
            one.replace(at, 1, std::to_string(i));
        all += one;
    }
    return all;
}

// A machine NAME with so many NICs on subnet a, and one more key.
std::string many_nics(int count, const std::string& key) {
    return "lab: x\nsubnets: {a: {prefix: 10.0.0.0/8}}\nguests: {g: {nics: [{subnet: a}]}}\n"
           "routers:\n  r:\n    nics: ["
           + lines(count, "{subnet: a},") + "]\n" + key;
}

} // namespace

TEST_CASE("every shape of value in the place of a list's item is answered") {
    const Scratch folder;
    for (const char* section : {"peerings", "tunnels", "links", "expect"})
        for (const char* shape : {"[a]", "a", "{}", "[[a]]", "{a: [b]}", "''", "[a, b, c]"}) {
            CAPTURE(section);
            CAPTURE(shape);
            Printed said =
                asked(folder, fmt::format("lab: x\n{}: [{}]\n", section, shape), "check PLAN");
            CHECK(said.status == 2);
            CHECK(has(said.text, "plan.yaml:2:"));
        }
}

TEST_CASE("what many entries do is found by index: far below the limits") {
    struct Row {
        std::string text;
        const char* command;
        std::string says;
    };
    const std::string guests = "lab: x\nsubnets: {a: {prefix: 10.0.0.0/8}}\nguests:\n";
    const Row rows[] = {
        {"lab: x\nparams: {" + lines(many, "parameter-#: 1,") + "}\nsubnets:\n"
             + lines(many, "  s#: {hosts: $paramater-#}\n"),
         "check PLAN", "did you mean parameter-0?"},
        {guests + lines(many, "  guest-number-#: {like: guest-nomber-#}\n"), "check PLAN",
         "did you mean guest-number-0?"},
        {guests + "  b: {template: true, nics: [" + lines(many, "{subnet: a},") + "]}\n"
             + lines(sanitized ? 2 : many, "  g#: {like: b}\n"),
         "check PLAN",
         sanitized ? "" : "the plan has more than 2000000 machines, NICs and routes in all"},
        {many_nics(nics, "    ospf: {areas: {0: [" + lines(nics, "eth#,") + "]}}\n"),
         "addresses PLAN", "10.0.0.0/8"},
        {many_nics(nics, "    routes: [" + lines(nics, "{to: 11.0.0.0/32, via: g, nic: eth399},")
                             + "]\n"),
         "addresses PLAN", "10.0.0.0/8"},
        {many_nics(nics, "    nat: [" + lines(nics, "{out: eth399},") + "]\n"), "addresses PLAN",
         "10.0.0.0/8"},
        {many_nics(nics, "expect:\n" + lines(nics, "  - {ping: [r/eth399, g]}\n")),
         "addresses PLAN", "10.0.0.0/8"},
        {guests
             + lines(10,
                     fmt::format("  g#: {{count: {}, gateway: 10.9.9.9, nics: [{{subnet: a}}]}}\n",
                                 clones)),
         "check PLAN", fmt::format("and {} more of this kind, of the same line", clones - 3)},
        {guests
             + lines(10, fmt::format("  g#: {{count: {}, nics: [{{subnet: a, state: down}}]}}\n",
                                     clones)),
         "check PLAN", fmt::format("0 errors, {} warnings", 10 * clones)},
        {guests // so many that remedies of each are looked for, while no pair gets a reply
             + lines(10, fmt::format("  g#: {{count: {}, nics: [{{subnet: a, state: down}}]}}\n",
                                     sanitized ? 1 : 30)),
         "check PLAN", fmt::format("0 errors, {} warnings", sanitized ? 10 : 300)},
        {"lab: x\nsubnets: {a: {prefix: 10.0.0.0/30}}\nguests:\n"
             + lines(10, fmt::format("  g#: {{count: {}, nics: [{{subnet: a}}]}}\n", clones)),
         "check PLAN", fmt::format("and {} more of this kind", clones - 3)},
        {"lab: '" + std::string(2'000'000, 'a') + "'", "check PLAN", "is not a host-name label"},
    };
    const Scratch folder;
    for (const Row& row : rows) {
        CAPTURE(row.says);
        CAPTURE(row.text.substr(0, 200));
        Printed said = asked(folder, row.text, row.command);
        CHECK(said.status <= 2);
        CHECK(!has(said.text, "not answered"));
        CHECK(has(said.text, row.says));
    }
}

TEST_CASE("an answer that takes too much is refused with the limit that it met") {
    const Scratch folder;
    CHECK(has(run("yes 'a: b' | " + program + "check - 2>&1").text, "larger than 64 MiB"));
    CHECK(has(run(program + "check /dev/zero 2>&1").text, "larger than 64 MiB"));
    if (sanitized)
        return;
    std::string plan =
        folder.file("plan.yaml", "lab: x\nsubnets: {a: {prefix: 10.0.0.0/8}}\nguests:\n"
                                     + lines(40, "  g#: {count: 10000, nics: [{subnet: a}]}\n"));
    Printed small = run("JACKAL_MEBIBYTES=64 " + program + "machines " + plan + " 2>&1 >/dev/null");
    CHECK(small.status == 2);
    CHECK(
        small.text
        == "jackal: not answered: this takes more than 64 MiB of memory, the most for one answer; "
           "JACKAL_MEBIBYTES=256 allows more\n");
    Printed quick =
        run("JACKAL_SECONDS=1 " + program + "export " + plan + " --as namespaces 2>&1 >/dev/null");
    CHECK(quick.status == 2);
    CHECK(has(quick.text, "more than 1 s of processor time"));
    Printed wrong = run("JACKAL_SECONDS=soon " + program + "check " + plan + " 2>&1");
    CHECK(wrong.status == 2);
    CHECK(has(wrong.text, "JACKAL_SECONDS=soon: write a whole number"));
}

TEST_CASE("a program whose streams are closed ends as otherwise, and writes into no file instead") {
    const Scratch folder;
    std::string plan = folder.file("plan.yaml", "lab: x\nsubnets: {a: {hosts: 3}}\n").string();
    CHECK(run(program + "check " + (folder / "none.yaml").string() + " 2>&-").status == 2);
    CHECK(run(program + "check --nonsense 2>&-").status == 2);
    CHECK(run(program + "addresses " + plan + " --pin >&- 2>&- <&-").status == 0);
    CHECK(has(run("cat " + plan).text, "pinned:"));
    CHECK(!has(run("cat " + plan).text, "choice"));
}

TEST_CASE("nothing that a plan or a file name says reaches the terminal as a control character") {
    const Scratch folder;
    const std::string bad = "\x1b[31m\xc2\x9b"; // an escape sequence, and one that is one character
    auto is_clean = [](const std::string& text) {
        return text.find('\x1b') == text.npos && text.find("\xc2\x9b") == text.npos;
    };
    for (const char* text :
         {"lab: \"a\\e[31mb\\nforged: line\"\n", "lab: x\nsubnets: {\"a\\x9b\": {}}\n",
          "lab: x\nguests: {g: {nics: [{subnet: \"\\e]0;t\\a\"}]}}\n",
          "lab: x\nguests: {g: {nics: [{subnet: \"a\\nplan.yaml:1:1: forged\"}]}}\n"}) {
        Printed said = asked(folder, text, "check PLAN");
        CAPTURE(said.text);
        CHECK(said.status == 2);
        CHECK(is_clean(said.text));
        CHECK(!has(said.text, "\nforged"));
        CHECK(!has(said.text, "\nplan.yaml:1:1"));
    }
    std::string told = folder
                           .file("plan.yaml", "lab: x\nsubnets: {a: {}}\nguests: {g: {nics: "
                                              "[{subnet: a}]}}\nexpect:\n  - {ping: [g, g], "
                                              "about: \"\\e[31m\\x9b\\nforged\"}\n")
                           .string();
    Printed verified = run(program + "verify " + told);
    CHECK(is_clean(verified.text));
    CHECK(!has(verified.text, "\nforged"));
    std::string named = folder.file("a" + bad + "\n\xff.yaml", "lab: x\nsubnet: {}\n").string();
    Printed refused = run(program + "check '" + named + "' 2>&1");
    CHECK(is_clean(refused.text));
    CHECK(has(refused.text, "\\x0a\\xff.yaml:2:1"));
    folder.file("a" + bad + "\n\xff.yaml", "lab: x\nsubnets: {a: {}}\n");
    Printed answered = run(program + "check '" + named + "' --format json");
    CHECK(answered.status == 0);
    CHECK(has(answered.text, "\"findings\""));
}

TEST_CASE("what is not UTF-8 is told with its line and column") {
    const Scratch folder;
    Printed said = asked(folder, "lab: x\n# é\nabout: \"é\xff\"\n", "check PLAN");
    CHECK(said.status == 2);
    CHECK(has(said.text, "plan.yaml:3:10: not readable as UTF-8 text"));
}
