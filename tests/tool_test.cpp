#include "program.h"

#include <doctest/doctest.h>
#include <nlohmann/json.hpp>

using nlohmann::json;

namespace {

const std::string tool = TOOL " ";
const std::string skerry = " " SOURCE_DIR "/demo/skerry.yaml ";
const std::string mistakes = " " SOURCE_DIR "/demo/mistakes/";

json answer(const std::string& arguments, int status) {
    Printed printed = run(tool + arguments + " --format json");
    CAPTURE(arguments);
    CHECK(printed.status == status);
    return json::parse(printed.text);
}

} // namespace

TEST_CASE("exit statuses: 0 all well, 1 the answer is no, 2 not asked") {
    struct Row {
        std::string arguments;
        int status;
        const char* says; // on either stream
    };
    const Row rows[] = {
        {"check" + skerry, 0, "nothing wrong found"},
        {"check" + mistakes + "no-return-route.yaml", 1, "no-return-route"},
        {"check" + mistakes + "nic-down.yaml", 0, "warning"},
        {"addresses" + skerry, 0, "10.40.8.0/26"},
        {"machines" + skerry, 0, "weather-mast"},
        {"routes" + skerry + "lamp-r1", 0, "10.42.0.0/16"},
        {"routes" + skerry + "quay-r1 --to helm", 0, "via"},
        {"routes" + skerry + "quay-r1 --to 203.0.113.9", 1, "none"},
        {"ping" + skerry + "helm kettle", 0, "4 of 4 came back"},
        {"ping" + skerry + "helm kettle --cut lamp-r1--vessel-r1", 1, "link-down"},
        {"ping" + skerry + "helm quay-r1/eth1 --family 6 --count 2", 0, "2 of 2"},
        {"ping" + skerry + "helm kettle --ttl 2", 1, "ttl-too-small"},
        {"ping" + skerry + "helm kettle --size 1400", 1, "mtu-too-small"},
        {"ping" + skerry + "quay-r1 kettle --source 10.40.8.62", 0, "quay-r1 (10.40.8.62)"},
        {"trace" + skerry + "weather-mast helm", 0, "vessel-r1"},
        {"trace" + mistakes + "no-route.yaml desk pump", 1, "net unreachable"},
        {"verify" + skerry, 0, "6 of 6 expectations met"},
        {"verify" + skerry + "--cut vessel-r1", 1, "failed"},
        {"demo", 0, "no-return-route"},
        {"--version", 0, "jackal 0."},
        {"--help", 0, "jackal demo"},
        {"", 2, "--help"},
        {"chekc" + skerry, 2, "did you mean check?"},
        {"check", 2, "PLAN"},
        {"check /nowhere.yaml", 2, "cannot be opened"},
        {"check" + skerry + "--fromat json", 2, "--fromat"},
        {"ping" + skerry + "helm kettel", 2, "did you mean kettle?"},
        {"ping" + skerry + "helm kettle/eth4", 2, "it has eth0"},
        {"ping" + skerry + "helm kettle --ttl 0", 2, "--ttl"},
        {"ping" + skerry + "helm kettle --cut nobody", 2, "--cut nobody"},
        {"ping" + skerry + "helm kettle --source 10.1.1.1", 2, "not an address of helm"},
        {"ping" + skerry + "203.0.113.9 kettle", 2, "no machine has 203.0.113.9"},
    };
    for (const Row& row : rows) {
        CAPTURE(row.arguments);
        Printed printed = run(tool + row.arguments + " 2>&1");
        CAPTURE(printed.text);
        CHECK(printed.status == row.status);
        CHECK(has(printed.text, row.says));
    }
}

TEST_CASE("a plan with problems: each at its place, on standard error only") {
    Printed printed =
        run("printf 'lab: x\\nsubnets: {q: {prefx: 1}}\\nguests: {g: {nics: [{subnet: w}]}}' | "
            + tool + "check - 2>&1 >/dev/null");
    CHECK(printed.status == 2);
    CHECK(has(printed.text,
              "standard input:2:15: \"prefx\" is no key of a subnet; did you mean prefix?"));
    CHECK(has(printed.text, "standard input:3:30: there is no subnet \"w\""));
    CHECK(run("printf 'lab: x\\nnope: 1' | " + tool + "check - 2>/dev/null").text.empty());
}

TEST_CASE("the JSON of a ping has the documented keys") {
    json reply = answer("ping" + skerry + "chart-desk kettle", 0);
    for (const char* key : {"from", "to", "source", "destination", "sent", "received", "verdict",
                            "cause", "remedy", "ttl", "rtt_ms", "out", "back"})
        CHECK(reply.contains(key));
    CHECK(reply["verdict"] == "reply");
    CHECK(reply["rtt_ms"]["mean"] == doctest::Approx(8.12));
    CHECK(reply["out"].size() == 4);
    for (const json& step : reply["back"])
        for (const char* key : {"machine", "in", "out", "action", "detail"})
            CHECK(step.contains(key));

    json failed = answer("ping" + mistakes + "no-return-route.yaml desk pump", 1);
    CHECK(failed["cause"] == "no-return-route");
    CHECK(failed["where"] == "tank-r1");
    CHECK(failed["mends"] == true);
    CHECK(failed["remedy"] == "routers.tank-r1.routes: add {to: hall, via: hall-r1}");
    CHECK(failed["changes"][0]["path"] == "routers.tank-r1.routes");
    CHECK(failed["at"]["line"] == 14);
}

TEST_CASE("the JSON of the other commands agrees with their text") {
    CHECK(answer("check" + mistakes + "nic-down.yaml", 0)["findings"][0]["finding"] == "nic-down");
    CHECK(answer("addresses" + skerry, 0)["prefixes"].size() == 21);
    CHECK(answer("machines" + skerry, 0)["machines"].size() == 20);
    json routes = answer("routes" + skerry + "quay-r1 --to kettle", 0);
    CHECK(routes["tables"][0]["routes"][0]["kind"] == "static");
    json trace = answer("trace" + skerry + "weather-mast helm", 0);
    CHECK(trace["hops"].back()["says"] == "reply");
    json verify = answer("verify" + skerry + "--cut lamp-r1", 1);
    CHECK(verify["expectations"][0]["passed"] == true);
    CHECK(verify["expectations"][1]["passed"] == false);
}

TEST_CASE("every command has help with an example") {
    for (const char* command :
         {"check", "addresses", "machines", "routes", "ping", "trace", "verify", "demo"}) {
        CAPTURE(command);
        Printed printed = run(tool + command + " --help");
        CHECK(printed.status == 0);
        CHECK(has(printed.text, std::string("jackal ") + command));
        CHECK(has(printed.text, "Example"));
    }
}

TEST_CASE("the demo runs anywhere, and prints a plan that the other commands read") {
    Printed from_elsewhere = run("cd / && " + tool + "demo");
    CHECK(from_elsewhere.status == 0);
    Printed piped = run("cd / && " + tool + "demo --print-plan | " + tool + "verify -");
    CHECK(piped.status == 0);
    CHECK(has(piped.text, "6 of 6"));
    CHECK_FALSE(has(from_elsewhere.text, "\x1b[")); // no colour off a terminal
}
