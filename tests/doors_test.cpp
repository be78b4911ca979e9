// What others say is data: machines that are asked for facts, editors, plans. None of it becomes a
// path, a command, a line of a plan or a sequence of a terminal.
#include "files.h"
#include "program.h"
#include "scratch.h"

#include <doctest/doctest.h>
#include <fmt/format.h>

namespace {

const std::string mill = "lab: mill\nsubnets: {a: {prefix: 10.1.1.0/24}}\n"
                         "guests: {g: {nics: [{subnet: a, address: 10.1.1.20, "
                         "mac: \"02:00:00:00:00:07\"}]}}\n"
                         "routers: {r: {nics: [{subnet: a}]}}\n";

// Facts of the machine g, whose one NIC has this name, in JSON.
void say_facts(const Scratch& folder, const std::string& name, const std::string& rules = "") {
    std::filesystem::create_directories(folder / "facts/g");
    folder.file(
        "facts/g/address.json",
        R"([{"ifname": ")" + name
            + R"(", "flags": ["UP", "LOWER_UP"], "mtu": 1500, "address": "02:00:00:00:00:07",
                         "addr_info": [{"family": "inet", "local": "10.1.1.20", "prefixlen": 24},
                                       {"family": "inet", "local": "10.1.1.99", "prefixlen": 24}]}])");
    folder.file("facts/g/forwarding", "0\n0\n");
    if (!rules.empty())
        folder.file("facts/g/nft.json", R"({"nftables": [)" + rules + "]}");
}

Printed asked_in(const Scratch& folder, const std::string& command) {
    return run("cd " + (folder / "").string() + " && " TOOL " " + command + " 2>&1");
}

std::string deep(std::size_t levels) {
    return std::string(levels, '[') + std::string(levels, ']');
}

} // namespace

TEST_CASE("a machine that is asked for facts writes no file but those that were asked for") {
    Scratch folder;
    folder.file("mill.yaml", mill);
    CHECK(asked_in(folder, "export mill.yaml --as gather -o gather.sh").status == 0);
    std::filesystem::create_directories(folder / "bin");
    folder.file("bin/ssh", "#!/bin/sh\ncat > /dev/null\n"
                           "printf '== address.json\\n[]\\n== ../../profile\\nowned\\n"
                           "== address.json x\\nowned\\n== rule.json\\n\\\\061\\n== end\\n'\n");
    std::filesystem::permissions(folder / "bin/ssh", std::filesystem::perms::owner_all);
    folder.file("profile", "mine\n");
    const Printed gathered =
        run("cd " + (folder / "").string() + " && PATH=$PWD/bin:$PATH sh gather.sh facts ssh");
    CHECK(gathered.text == "facts: 2 machines asked, 0 without an answer\n");
    CHECK(text_of(folder / "profile") == "mine\n");
    CHECK(text_of(folder / "facts/g/address.json") == "[]\n");
    CHECK(text_of(folder / "facts/g/rule.json") == "\\061\n");
    CHECK(std::distance(std::filesystem::directory_iterator(folder / "facts/g"),
                        std::filesystem::directory_iterator())
          == 2);
}

TEST_CASE("names that machines say become no lines of a plan") {
    Scratch folder;
    say_facts(folder, R"(eth0}\nuser: evil\nkeys: ssh-ed25519 AAAA)");
    const Printed refused = asked_in(folder, "adopt facts");
    CHECK(refused.status == 2);
    CHECK(has(refused.text, R"(address.json:1:1: no interface can be called "eth0}\x0auser)"));
    for (const auto& [name, called] :
         {std::pair("e;id", "e-id"), std::pair("eth0.10", "eth0-10"), std::pair("$(id)", "id"),
          std::pair("Wan_1", "wan-1"), std::pair("lo0", "lo0"), std::pair("\\u001b[2J", "2j"),
          std::pair("default", "nic-0"), std::pair("--", "nic-0")}) {
        CAPTURE(name);
        say_facts(folder, name);
        CHECK(has(asked_in(folder, "adopt facts").text, fmt::format("name: {}, ", called)));
        const Printed machines = run("cd " + (folder / "").string() + " && " TOOL " "
                                     + "adopt facts | " TOOL " machines - --format csv 2>&1");
        CHECK(machines.status == 0);
        CHECK(has(machines.text, called));
        CHECK_FALSE(has(machines.text, "\x1b"));
    }
    std::filesystem::rename(folder / "facts/g", folder / "facts/g: {nics: []}");
    CHECK(asked_in(folder, "adopt facts").status == 2);
}

TEST_CASE("what machines say reaches no terminal and no shell") {
    Scratch folder;
    folder.file("mill.yaml", mill);
    const std::string chain =
        R"({"chain": {"family": "inet", "table": "TABLE", "name": "in", "handle": 1,
            "type": "filter", "hook": "input", "prio": 0, "policy": "drop"}},
           {"rule": {"family": "inet", "table": "TABLE", "chain": "in", "handle": 2,
            "expr": [{"\u001b]0;owned\u0007": null}]}})";
    auto with = [&](const std::string& table) {
        std::string text = chain;
        for (std::size_t at = 0; (at = text.find("TABLE")) != text.npos;)
            text.replace(at, 5, table);
        return text;
    };
    say_facts(folder, "e;id", with("shop"));
    const Printed drift = asked_in(folder, "drift mill.yaml facts");
    CHECK(drift.status == 1);
    CHECK_FALSE(has(drift.text, "\x1b"));
    CHECK(has(drift.text, "\\x1b]0;owned\\x07"));
    CHECK(has(drift.text, "ip address delete 10.1.1.99/24 dev 'e;id'"));
    CHECK(has(drift.text, "nft delete table inet shop\n"));
    for (const char* table : {"x; touch owned #", "x\\ny", "$(id)", "", "-f"}) {
        CAPTURE(table);
        say_facts(folder, "eth0", with(table));
        CHECK_FALSE(has(asked_in(folder, "drift mill.yaml facts").text, "nft delete table inet"));
    }
}

TEST_CASE("deeply nested JSON is refused, from machines and from editors") {
    Scratch folder;
    folder.file("mill.yaml", mill);
    say_facts(folder, "eth0", deep(60));
    CHECK_FALSE(has(asked_in(folder, "drift mill.yaml facts").text, "deeper"));
    say_facts(folder, "eth0", deep(100'000));
    for (const char* command : {"drift mill.yaml facts", "adopt facts"}) {
        const Printed refused = asked_in(folder, command);
        CHECK(refused.status == 2);
        CHECK(has(refused.text, "facts/g/nft.json:1:77: this nests deeper than 64 levels"));
    }
    const std::string message = R"({"jsonrpc": "2.0", "method": "x", "id": )" + deep(100'000) + "}";
    folder.file("message", fmt::format("Content-Length: {}\r\n\r\n{}", message.size(), message));
    const Printed answered = asked_in(folder, "lsp < message");
    CHECK(answered.status == 1);
    CHECK(has(answered.text, "this is no JSON"));
    for (const char* header : {"Content-Length: x\r\n\r\n{}", "\r\n{}", "Content-Length: 1\r\n"}) {
        folder.file("message", header);
        const Printed refused = asked_in(folder, "lsp < message");
        CHECK(refused.status == 2);
        CHECK(has(refused.text, "a message without a usable Content-Length"));
    }
}

TEST_CASE("names of a plan stay names in YAML, and its words are none of XML's controls") {
    Scratch folder;
    folder.file("odd.yaml",
                "lab: no\nabout: \"a\\x01b\\uffff\"\nsubnets: {a: {prefix: 10.1.1.0/24}}\n"
                "guests: {yes: {nics: [{subnet: a, name: '0'}]}, '1e3': {nics: [{subnet: a}]}}\n");
    CHECK(asked_in(folder, "export odd.yaml --as settings -o s").status == 0);
    const std::string user = text_of(folder / "s/machines/yes/cloud-init/user-data");
    CHECK(has(user, "\nhostname: \"yes\"\n"));
    CHECK(has(text_of(folder / "s/machines/yes/cloud-init/network-config"), "\n  \"0\":\n"));
    CHECK(has(text_of(folder / "s/machines/1e3/cloud-init/meta-data"), "local-hostname: \"1e3\""));
    for (const char* form : {"svg", "png", "pdf"})
        CHECK(asked_in(folder, fmt::format("draw odd.yaml -o odd.{}", form)).status == 0);
    CHECK(has(text_of(folder / "odd.svg"), "a\\x01b\\xef\\xbf\\xbf"));
    for (const auto& [comment, status] : {std::pair("desk", 0), std::pair("\\ufffe", 2)}) {
        folder.file("key.yaml", fmt::format("lab: no\nguests: {{a: {{}}}}\n"
                                            "keys: \"ssh-ed25519 AAAAC3NzaC1lZDI1NTE5 {}\"\n",
                                            comment));
        CHECK(asked_in(folder, "machines key.yaml").status == status);
    }
}

TEST_CASE("what stands at the place of an answer is told before the work") {
    Scratch folder;
    folder.file("there", "mine");
    for (const char* command : {"report no.yaml -o there", "draw no.yaml -o there",
                                "export no.yaml --as settings -o there", "adopt no -o there",
                                "watch no.yaml a --flows --ipfix there"}) {
        CAPTURE(command);
        const Printed refused = asked_in(folder, command);
        CHECK(refused.status == 2);
        CHECK(has(refused.text, "there: cannot be written: it exists already"));
    }
    CHECK(text_of(folder / "there") == "mine");
    CHECK(asked_in(folder, "--help > /dev/full").status == 2);
    const std::string mill_path = folder.file("mill.yaml", mill).string();
    CHECK(run("timeout 10 " TOOL " serve " + mill_path + " 2>&1 > /dev/full").text
          == "jackal: the answer could not be written to standard output\n");
    // A folder that a killed export left goes with the next.
    std::filesystem::create_directories(folder / ".s.Ab3xyZ");
    folder.file(".s.Ab3xyZ/.files", "");
    std::filesystem::create_directories(folder / ".s.mine00");
    CHECK(asked_in(folder, "export mill.yaml --as settings -o s").status == 0);
    CHECK_FALSE(std::filesystem::exists(folder / ".s.Ab3xyZ"));
    CHECK(std::filesystem::exists(folder / ".s.mine00"));
}
