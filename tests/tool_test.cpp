#include "jackal/jackal.h"
#include "program.h"
#include "sanitized.h"
#include "scratch.h"

#include <doctest/doctest.h>
#include <filesystem>
#include <fmt/format.h>
#include <nlohmann/json.hpp>
#include <sstream>
#include <stdlib.h>

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
        {"check" + mistakes + "nic-down.yaml", 1, "error"},
        {"check" + mistakes + "rule-shadowed.yaml", 0, "warning"},
        {"addresses" + skerry, 0, "10.40.8.0/26"},
        {"addresses" + skerry + "--free /26", 0, "10.40.9.64/26"},
        {"addresses" + skerry + "--free /15", 1, "no site has room for a /15"},
        {"addresses" + skerry + "--free wide", 2, "write a prefix length such as /26"},
        {"addresses" + skerry + "--whose 10.40.8.20", 0, "is hydrophone/eth0, guest on sonar"},
        {"addresses" + skerry + "--whose 10.40.8.255", 0, "is the broadcast address of quay"},
        {"addresses" + skerry + "--whose 10.40.8.200", 0, "is free, in quay (10.40.8.128/25)"},
        {"addresses" + skerry + "--whose 10.40.8.130", 0, "is reserved, in quay"},
        {"addresses" + skerry + "--whose 10.40.8.250", 0, "is one that DHCP gives out, in quay"},
        {"addresses" + skerry + "--whose 10.43.255.14", 0, "is vessel-r1/lo"},
        {"addresses" + skerry + "--whose 10.43.0.200", 0, "space 10.43.0.0/24 of pool radio"},
        {"addresses" + skerry + "--whose 192.168.60.9", 0, "free, in outside-lan"},
        {"addresses" + skerry + "--why quay", 0,
         "60 hosts, 30 for growth, a gateway and 8 reserved make 99 addresses, for which a /25"},
        {"addresses" + skerry + "--why quay", 0, "its number is read from the IPv4 prefix"},
        {"addresses" + skerry + "--why sonar", 0, "it is written in the plan"},
        {"addresses" + skerry + "--why lamp-r1--quay-r1", 0, "no more than a /31 (RFC 3021)"},
        {"addresses" + skerry + "--why lamp-r1/lo", 0, "a loopback is a single address"},
        {"addresses " SOURCE_DIR "/demo/skerry-pinned.yaml --why quay", 0, "it is pinned"},
        {"addresses" + skerry + "--why key", 2, "no subnet, link"},
        {"addresses" + skerry + "--renumber skerry=10.46.0.0/16", 0, "10.46.0.34"},
        {"addresses" + skerry + "--renumber skerry=10.42.0.0/16", 1, "this brings an error"},
        {"addresses" + skerry + "--renumber skerry=10.46.0.0/29", 2, "the plan needs a /26"},
        {"addresses" + skerry + "--renumber skerry=10.46.0.1/16", 2, "did you mean 10.46.0.0/16"},
        {"addresses" + skerry + "--renumber skerry", 2, "write --renumber NAME=PREFIX"},
        {"addresses" + skerry + "--write", 2, "--write requires --renumber"},
        {"addresses" + skerry + "--pin --free /26", 2, "excludes"},
        {"addresses - --pin </dev/null", 2, "takes no standard input"},
        {"addresses /nowhere.yaml --pin", 2, "cannot be opened"},
        {"addresses" + skerry + "--whose 10.40.99.1", 0, "is in no subnet; space 10.40.0.0/16"},
        {"addresses" + skerry + "--whose 192.0.2.1", 1, "documentation (RFC 5737)"},
        {"addresses" + skerry + "--whose here", 2, "not an IPv4 or IPv6 address"},
        {"addresses" + skerry + "--format csv", 0,
         "harbour,sonar,10.40.8.0/"
         "26,255.255.255.192,10.40.8.1,10.40.8.62,10.40.8.62,,,9,3,50,\r\n"},
        {"machines" + skerry + "--format csv", 0, "sonar,up,1500,10.40.8.20,26,written\r\n"},
        {"routes" + skerry + "--format csv", 2, "--format: write text or json, not \"csv\""},
        {"machines" + skerry, 0, "weather-mast"},
        {"machines" + skerry, 0, "28 of 32  20.75G of 24G  246G of 400G"},
        {"routes" + skerry + "lamp-r1", 0, "AS path 64514, from vessel-r1"},
        {"routes" + skerry + "lamp-r1 --to chart-desk", 0, "lower local preference"},
        {"routes" + skerry + "quay-r1 --offers", 0, "intra-area, area 0, from gate-r1"},
        {"routes" + skerry + "stores-r1 --to kettle --explain", 0, "AS path 64513, from lamp-r1"},
        {"routes " SOURCE_DIR "/tests/judge/speakers/one-sided-broadcast.yaml r3 --to 10.0.3.1 "
         "--explain",
         1, "tried on a copy of the plan"},
        {"routes" + skerry + "stores-r1 --explain", 2, "--explain needs a machine, and --to"},
        {"neighbours" + skerry, 0, "designated router"},
        {"ping" + skerry + "chart-desk kettle --every-way", 0, "1 way"},
        {"neighbours" + skerry + "quay-r1 --database", 0, "router"},
        {"neighbours" + skerry + "lamp-r1 --announced", 0, "64513"},
        {"neighbours" + mistakes + "timers-differ.yaml", 1, "10 s and 40 s at buoy-r1/eth1"},
        {"neighbours" + skerry + "--cut bgp:quay-r1--lamp-r1", 0, "is cut"},
        {"ping" + skerry
             + "chart-desk kettle --count 100 --interval 100ms --cut-at 3s=quay-r1--lamp-r1",
         0, "out of reach for 200 ms"},
        {"ping" + skerry + "chart-desk kettle --cut-at 3=quay-r1", 2, "write TIME=WHAT"},
        {"ping" + skerry + "chart-desk kettle --mend-at 3s=qu", 2, "the lab has no qu"},
        {"ping" + skerry + "chart-desk kettle --cut-at 3s=quay-r1 --interval 0s", 2, "--interval"},
        {"routes" + skerry + "quay-r1 --to helm", 0, "via"},
        {"routes" + skerry + "lamp-r1 --to 203.0.113.9", 1, "no route"},
        {"ping" + skerry + "helm kettle", 0, "4 of 4 came back"},
        {"ping" + skerry + "helm kettle --cut lamp-r1--vessel-r1", 1, "link-down"},
        {"ping" + skerry + "helm quay-r1/eth1 --family 6 --count 2", 0, "2 of 2"},
        {"ping" + skerry + "helm kettle --ttl 2", 1, "ttl-too-small"},
        {"ping" + skerry + "helm kettle --size 1400", 1, "mtu-too-small"},
        {"ping" + skerry + "quay-r1 kettle --source 10.40.8.62", 0, "quay-r1 (10.40.8.62)"},
        {"connect" + skerry + "helm chart-desk tcp/443", 0, "open  4 of 4 came back"},
        {"connect" + skerry + "helm chart-desk tcp/80", 1, "guests.chart-desk.listens: add tcp/80"},
        {"connect" + skerry + "helm echo-sounder tcp/22", 1, "its default (way in)"},
        {"connect" + skerry + "helm chart-desk tcp/443 --cut vessel-r1", 1, "unreachable"},
        {"connect" + skerry + "helm chart-desk", 2, "chart-desk is no service"},
        {"connect" + skerry + "helm chart-desk sctp/9", 2, "sctp/9 is no service"},
        {"trace" + skerry + "weather-mast helm", 0, "vessel-r1"},
        {"trace" + mistakes + "no-route.yaml desk pump", 1, "net unreachable"},
        {"machines" + skerry + "--start-order", 0, "stores-r1"},
        {"machines" + skerry + "--start-order --format csv", 0, "2,mess-pad,stores-r1\r\n"},
        {"ping" + skerry + "echo-sounder tide-office", 0, "source 10.40.8.10 becomes 10.40.9.12"},
        {"ping" + skerry + "echo-sounder tide-office", 0, "water-sw p2 > p9, campus-sw p9 > p3"},
        {"ping" + skerry + "echo-sounder tide-office --cut echo-sounder/wire0", 0, "water-sw p3"},
        {"ping" + skerry + "echo-sounder chart-desk --cut campus-sw/p9:20", 1, "vlan-not-carried"},
        {"ping" + skerry + "tide-office chart-desk", 1, "behind-translation"},
        {"verify" + skerry, 0, "19 of 19 expectations met"},
        {"verify" + skerry + "--cut vessel-r1", 1, "failed"},
        {"peerings" + skerry, 0, "school accepts, borrows a way outside"},
        {"peerings" + skerry + "skerry --cut school--skerry", 1, "down"},
        {"peerings" + skerry + "--add harbour=10.47.8.0/24", 1, "of its peer school overlaps it"},
        {"peerings" + skerry + "--add harbour=10.48.0.0/16", 0, "nothing of its 1 peer"},
        {"peerings" + skerry + "--add harbour", 2, "SITE=PREFIX"},
        {"peerings" + skerry + "schol", 2, "did you mean school?"},
        {"peerings" + mistakes + "peering-half.yaml", 1, "set {accept: true}"},
        {"reach" + skerry, 0, "\n 5 lamp      =  =  =  =  =  =  =  =  =  =  =  =  =  .\n"},
        {"reach" + skerry + "--by site", 0, "harbour    42/42"},
        {"reach" + skerry + "--by site --machines routers", 0, "routers by site"},
        {"reach" + skerry + "--from quay --to sonar --service tcp/22", 0, "2 of 4 pairs"},
        {"reach" + skerry + "--service any", 0, "\nA icmp, tcp/22\nB icmp\n"},
        {"reach" + skerry + "--service any --by site", 0, "A 30 pairs everything; 6 pairs icmp;"},
        {"reach" + skerry + "--service any --format csv", 0, "sonar,quay,4,everything\r\n"},
        {"reach" + skerry + "--format csv --from quay --to lamp", 0, "quay,lamp,4,4\r\n"},
        {"reach" + skerry + "--as expect", 0, "\n  - {ping: [skerry, vessel]}\n"},
        {"reach" + skerry + "--as expect --service tcp/443", 0, "tcp/443], gets: closed}\n"},
        {"reach" + skerry + "--as expect --by site", 2, "--by excludes --as"},
        {"reach" + skerry + "--to quai", 2, "\"quai\" is no subnet, site or machine"},
        {"connect" + mistakes + "filter-denies.yaml desk gauge tcp/22", 1,
         "remedy  filters.quiet.rules: add {do: allow, way: in, proto: tcp, port: 22"},
        {"sweep" + skerry + "--what link", 0, "vessel-r1--raft-r1     38"},
        {"sweep" + skerry + "--what link --what port", 0, "the same: campus-sw/p9, water-sw/p9"},
        {"sweep" + skerry + "--what machine", 0,
         "20 cuts: guests, or their NICs, that take nobody else's replies along"},
        {"sweep" + skerry + "--what link --cuts 2 --format csv", 0,
         "mast-r1--lamp-r1 campus-sw--water-sw,link,136,"},
        {"sweep" + skerry + "--what tunnel", 0, "\n1 of 1 cut is a single point of failure"},
        {"sweep" + skerry + "--what rope", 2, "--what: write link, tunnel, "},
        {"sweep" + skerry + "--service 22", 2, "tcp/22 or udp/53"},
        {"check" + mistakes + "peering-blocked.yaml", 1, "    mends too duplicate-address"},
        {"check" + mistakes + "peering-half.yaml", 1, "harbour is alone; skerry is alone"},
        {"check" + skerry, 0, "\n19 of 19 expectations met\n"},
        {"compare" + skerry + skerry, 0, "nothing differs"},
        {"compare" + skerry + mistakes + "duplicate-mac.yaml", 1, "\nmachine     chart-desk "},
        {"compare" + skerry, 2, "NEW is required"},
        {"reach" + skerry + "--service 22", 2, "tcp/22 or udp/53"},
        {"sites" + skerry, 0, "skerry to outside"},
        {"ways" + mistakes + "peering-half.yaml harbour skerry", 0, "2 of 2"},
        {"ways" + skerry + "harbour harbour", 2, "two different sites"},
        {"ways" + skerry + "harbour", 2, "a site is missing"},
        {"ways" + skerry + "harbour outside", 2, "no site of the lab"},
        {"ping" + skerry + "assay hydrophone", 0, "in UDP from 10.42.0.33 to 10.40.8.129"},
        {"ping" + skerry + "assay hydrophone --cut lamp-r1", 1, "tunnel-down"},
        {"check" + skerry, 0, "school--harbour"},
        {"demo", 0, "as-number-differs at lamp-r1"},
        {"new leaf-spine --size 5", 0, "lab: leaf-spine-5"},
        {"new rng", 2, "chain, ring, star, tree or leaf-spine"},
        {"new ring --size 2", 2, "3 to 1000"},
        {"new star --name No", 2, "--name No"},
        {"new star -o /nowhere/star.yaml", 2, "cannot be written: No such file"},
        {"export" + skerry + "--as namespaces", 0, "machine chart-desk <<'END'"},
        {"export" + skerry + "--as namespaces --cut kettle", 0, "kettle is off"},
        {"export" + skerry + "--as namespaces --with-routing", 0, "neighbor 10.43.0.1 as 64513;"},
        {"export" + skerry, 2, "--as is required"},
        {"export" + skerry + "--as gather --attach", 2, "--attach is for a live lab"},
        {"export" + skerry + "--as castles", 2,
         "--as: write namespaces, machines, settings or gather, not \"castles\""},
        {"export" + skerry + "--as namespaces -o " SOURCE_DIR "/README.md", 2, "exists already"},
        {"names" + skerry + "--only sites", 0, "harbour\nskerry\nvessel\nraft\n"},
        {"check" + skerry + "--set crw=3", 2, "no parameter \"crw\"; did you mean crew?"},
        {"check" + skerry + "--set crew=25000", 1, "with a growth of"},
        {"ping" + skerry + "helm kettle --cut lamp-r1/lo", 2, "no such machine, NIC, link"},
        {"check" + skerry + "--set crew", 2, "--set NAME=VALUE"},
        {"ping" + skerry + "helm", 2, "TO is missing"},
        {"--version", 0, "jackal 0."},
        {"--help", 0, "jackal demo"},
        {"", 2, "--help"},
        {"chekc" + skerry, 2, "did you mean check?"},
        {"check /nowhere.yaml", 2, "cannot be opened"},
        {"check" + skerry + "--fromat json", 2, "--fromat"},
        {"ping" + skerry + "helm kettel", 2, "did you mean kettle?"},
        {"ping" + skerry + "helm kettle/eth4", 2, "it has eth0"},
        {"ping" + skerry + "helm kettle --ttl 0", 2, "--ttl"},
        {"ping" + skerry + "helm kettle --cut nobody", 2, "--cut nobody"},
        {"ping" + skerry + "helm kettle --source 10.1.1.1", 2, "not an address of helm"},
        {"ping" + skerry + "203.0.113.9 kettle", 2, "no machine has 203.0.113.9"},
        {"ping" + skerry + "--colour x helm kettle", 2, "ping has no option --colour"},
        {"ping" + skerry + "--cutt x helm kettle", 2, "did you mean --cut?"},
        {"ping" + skerry + "chart-desk quay", 2, "quay is a subnet; ask for a machine"},
        {"ping" + skerry + "chart-desk harbour", 2, "harbour is a site; ask for a machine"},
        {"ping" + skerry + "helm kettle --mend-at 3s=quay-r1", 2, "no --cut-at cuts that before"},
        {"ping" + skerry + "chart-desk lamp-r1", 0, "lamp-r1 is also 10.41.0.33, 10.43.0.1"},
        {"ping" + mistakes + "behind-translation.yaml internet desk", 1, "which it forwards to"},
        {"addresses" + mistakes + "no-space-left.yaml", 1, "no room"},
        {"addresses" + mistakes + "no-space-left.yaml --format json", 1, "\"what\": \"subnet deck"},
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

TEST_CASE("what cannot be, or is not known, is not said") {
    struct Row {
        std::string plan;
        std::string command; // PLAN stands for the file
        int status;
        std::string says;
    };
    const std::string chain = "subnets: {a: {prefix: 10.1.1.0/24}, b: {prefix: 10.1.2.0/24}}\n"
                              "routers: {r: {nics: [{subnet: a}, {subnet: b}]}}\n";
    const std::string region =
        "params: {r: shore}\nregions: {shore: {to: {isles: {delay: 6ms}}}}\n"
        "sites: {a: {space: 10.1.0.0/16, region: $r}}\nsubnets: {s: {site: a}}\n";
    const Row rows[] = {
        {"subnets:\n  a: {prefix: 10.1.1.0/24, dhcp: {server: s, size: 5}}\n"
         "  b: {prefix: 10.1.2.0/24, dhcp: {server: t, size: 5}}\nguests:\n"
         "  s: {nics: [{subnet: a, address: 10.1.1.5}, {subnet: b, address: dhcp}]}\n"
         "  t: {nics: [{subnet: b, address: 10.1.2.5}, {subnet: a, address: dhcp}]}\n"
         "  u: {nics: [{subnet: b, address: dhcp}]}\n",
         "machines PLAN --start-order", 2, "no order starts them all: s waits for t waits for s"},
        {chain + "guests: {x: {nics: [{subnet: a}]}, y: {nics: [{subnet: b}], listens: udp/514}}\n",
         "connect PLAN x y udp/514", 0, "an answer, if it sends one, comes back"},
        {chain + "guests: {x: {nics: [{subnet: a, state: down}]}, y: {nics: [{subnet: b}]}}\n",
         "ping PLAN y x --cut-at 1s=x/eth0 --mend-at 2s=x/eth0", 2,
         "the plan itself holds that down; mend it there"},
        {"subnets: {a: {prefix: 10.1.1.0/24}, b: {prefix: 10.1.2.0/24}}\nguests:\n"
         "  x: {nics: [{subnet: a, address: 10.1.1.9}], gateway: 10.1.1.1, forwards: true}\n"
         "  y: {nics: [{subnet: b}]}\nrouters:\n  r: {nics: [{subnet: a}], routes: [{to: b, via: "
         "x}]}\n",
         "ping PLAN x y", 1, "packets come back to x, which drops what bears its own address"},
        {region, "check PLAN --set r=isles", 0, "nothing wrong found"},
        {region, "check PLAN --set r=ocean", 2, "plan.yaml:4:9: there is no region \"ocean\""},
    };
    const Scratch folder;
    for (const Row& row : rows) {
        std::string command = row.command;
        command.replace(command.find("PLAN"), 4,
                        folder.file("plan.yaml", "lab: t\n" + row.plan).string());
        CAPTURE(command);
        const Printed printed = run(tool + command + " 2>&1");
        CAPTURE(printed.text);
        CHECK(printed.status == row.status);
        CHECK(has(printed.text, row.says));
    }
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
        for (const char* key : {"machine", "in", "out", "action", "translated", "detail"})
            CHECK(step.contains(key));

    json failed = answer("ping" + mistakes + "no-return-route.yaml desk pump", 1);
    CHECK(failed["cause"] == "no-return-route");
    CHECK(failed["where"] == "tank-r1");
    CHECK(failed["mends"] == true);
    CHECK(failed["remedy"] == "routers.tank-r1.routes: add {to: hall, via: hall-r1}");
    CHECK(failed["changes"][0]["path"] == "routers.tank-r1.routes");
    CHECK(failed["at"]["line"] == 14);
}

TEST_CASE("the JSON of a connection tells the outcome and what was translated") {
    std::string plan = mistakes + "answer-not-turned-back.yaml ";
    json astray = answer("connect" + plan + "desk quay-r1 tcp/8080", 1);
    CHECK(astray["verdict"] == "unreachable");
    CHECK(astray["service"] == "tcp/8080");
    CHECK(astray["out"][1]["translated"]
          == json::array({"destination 10.50.0.1:8080 becomes 10.50.0.3:80"}));
    CHECK(astray["changes"][0]["path"] == "routers.quay-r1.nat");
    CHECK(answer("connect" + plan + "desk store tcp/80", 0)["verdict"] == "open");
    CHECK(answer("connect" + plan + "desk store tcp/81", 1)["verdict"] == "refused");
    CHECK(answer("connect" + mistakes + "filter-denies.yaml mast gauge tcp/22", 1)["verdict"]
          == "dropped");
}

TEST_CASE("the JSON of the other commands agrees with their text") {
    CHECK(answer("check" + mistakes + "nic-down.yaml", 1)["findings"][0]["finding"] == "nic-down");
    CHECK(answer("addresses" + skerry, 0)["prefixes"].size() == 50);
    json machines = answer("machines" + skerry, 0)["machines"];
    CHECK(machines.size() == 33);
    CHECK(machines[0]["listens"] == json::array({"tcp/443", "udp/123"}));
    CHECK(machines[2]["nics"][0]["filters"] == json::array({"listening"}));
    json routes = answer("routes" + skerry + "quay-r1 --to kettle", 0);
    CHECK(routes["tables"][0]["routes"][0]["kind"] == "bgp");
    CHECK(routes["tables"][0]["learned"][0]["as_path"] == json::array({64513}));
    json neighbours = answer("neighbours" + mistakes + "area-differs.yaml", 1)["neighbours"];
    CHECK(neighbours[0]["reason"] == "area");
    CHECK(answer("neighbours" + skerry + "quay-r1 --database", 0)["databases"][0]["machine"]
          == "quay-r1");
    CHECK_FALSE(answer("neighbours" + skerry + "lamp-r1 --announced", 0)["announced"].empty());
    json timeline = answer("ping" + skerry
                               + "chart-desk kettle --count 100 --interval 100ms "
                                 "--cut-at 3s=quay-r1--lamp-r1 --mend-at 6s=quay-r1--lamp-r1",
                           0);
    CHECK(timeline["sent"] == 100);
    CHECK(timeline["received"] == 98);
    CHECK(timeline["longest_outage_ms"] == 200);
    CHECK(timeline["outage_of_daemons_ms"][0] <= 200);
    CHECK(timeline["outage_of_daemons_ms"][1] > 200);
    CHECK(timeline["stretches"][2]["out"][1] == "quay-r1");
    json trace = answer("trace" + skerry + "weather-mast helm", 0);
    CHECK(trace["hops"].back()["says"] == "reply");
    json peerings = answer("peerings" + skerry, 0)["peerings"];
    CHECK(peerings[0]["sides"][1]["exit"] == "lend");
    CHECK(peerings[1]["delay_ms"] == 5);
    json sites = answer("sites" + skerry, 0)["sites"];
    CHECK(sites.size() == 5 * 6);
    for (const json& row : sites)
        CHECK((row["replies"] == row["pairs"]) == row["gap"].is_null());
    json reach = answer("reach" + skerry, 0);
    std::uint64_t unanswered = 0;
    for (const json& cell : reach["cells"])
        unanswered += cell["pairs"].get<std::uint64_t>() - cell["replies"].get<std::uint64_t>();
    for (const json& gap : reach["gaps"])
        unanswered -= gap["pairs"].get<std::uint64_t>();
    CHECK(unanswered == 0);
    CHECK(reach["gaps"][0]["cause"] == "no-route");
    CHECK(reach["rows"].size() == 13);
    CHECK(reach["columns"].back() == "far-1");
    json ways = answer("ways" + mistakes + "peering-half.yaml skerry harbour", 0)["ways"];
    CHECK(ways[1]["changes"] == json::array({"peerings[0].skerry: set {accept: true}"}));
    json tunnel = answer("ping" + skerry + "assay hydrophone", 0)["out"][1]["tunnel"];
    CHECK(tunnel["works"] == true);
    CHECK(tunnel["outer"].size() == 3);
    json verify = answer("verify" + skerry + "--cut lamp-r1", 1);
    CHECK(verify["expectations"][0]["passed"] == true);
    CHECK(verify["expectations"][1]["passed"] == false);
}

TEST_CASE("under a cut every answer tells what it changed") {
    struct Row {
        std::string asks;
        std::string cut;
        const char* told; // in the text
    };
    const Row rows[] = {
        {"ping" + skerry + "chart-desk kettle", "quay-r1--lamp-r1", "without the cut  reply by"},
        {"ping" + skerry + "chart-desk kettle --every-way", "quay-r1--lamp-r1", "was  "},
        {"connect" + skerry + "helm chart-desk tcp/443", "vessel-r1", "without the cut"},
        {"trace" + skerry + "chart-desk kettle", "quay-r1--lamp-r1", "without the cut  reply by"},
        {"routes" + skerry + "quay-r1", "quay-r1--lamp-r1", "was  quay-r1"},
        {"routes" + skerry + "quay-r1 --to kettle", "quay-r1--lamp-r1", "is   quay-r1"},
        {"neighbours" + skerry, "bgp:quay-r1--lamp-r1", "is   quay-r1"},
        {"neighbours" + skerry + "--announced", "bgp:quay-r1--lamp-r1", "was  "},
        {"neighbours" + skerry + "--database", "quay-r1", "was  quay-r1"},
        {"peerings" + skerry, "school--skerry", "was  school--skerry"},
        {"reach" + skerry, "vessel-r1", "was  "},
        {"reach" + skerry + "--service any", "vessel-r1", "is   quay"},
        {"sites" + skerry, "vessel-r1", "was  "},
        {"verify" + skerry, "vessel-r1", "failed"},
        {"check" + skerry, "quay-r1/eth0", "changed by the cut"},
        {"routes" + skerry + "vessel-r1", "kettle", "changed by the cut: nothing"},
    };
    for (const Row& row : rows) {
        CAPTURE(row.asks);
        Printed text = run(tool + row.asks + " --cut " + row.cut);
        CHECK(text.text.find(row.told) != std::string::npos);
        json cut = json::parse(run(tool + row.asks + " --format json --cut " + row.cut).text);
        json whole = json::parse(run(tool + row.asks + " --format json").text);
        CHECK(cut.at("whole") == whole);
    }
}

TEST_CASE("every command has help with an example") {
    for (const char* command : {"check", "addresses", "machines", "routes", "neighbours", "ping",
                                "trace", "connect", "verify", "peerings", "reach", "sweep", "sites",
                                "ways", "export", "new", "names", "demo"}) {
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
    CHECK(has(piped.text, "19 of 19"));
    CHECK_FALSE(has(from_elsewhere.text, "\x1b[")); // no colour off a terminal
}

namespace {

// A folder of its own that is gone afterwards.
class Folder {
  public:
    Folder() {
        char name[] = "/tmp/jackal-test-XXXXXX";
        path_ = mkdtemp(name);
    }
    Folder(const Folder&) = delete;
    Folder& operator=(const Folder&) = delete;
    ~Folder() { std::filesystem::remove_all(path_); }

    Printed run_here(const std::string& command) const {
        return run("cd " + path_.string() + " && " + command + " 2>&1");
    }
    std::size_t files() const {
        return static_cast<std::size_t>(
            std::distance(std::filesystem::directory_iterator(path_), {}));
    }

  private:
    std::filesystem::path path_;
};

} // namespace

TEST_CASE("a command without a plan takes the only one in the folder") {
    Folder folder;
    Printed printed = folder.run_here(tool + "check");
    CHECK(printed.status == 2);
    CHECK(has(printed.text, "no *.jackal.yaml"));

    CHECK(folder.run_here(tool + "new ring --size 5 -o ring.jackal.yaml").status == 0);
    for (const char* question : {"check", "verify", "ping desk-1 desk-4", "routes room-1-r1",
                                 "trace desk-2 desk-5", "addresses"}) {
        CAPTURE(question);
        CHECK(folder.run_here(tool + question).status == 0);
    }

    CHECK(folder.run_here(tool + "new star -o star.jackal.yaml").status == 0);
    printed = folder.run_here(tool + "check");
    CHECK(printed.status == 2);
    CHECK(has(printed.text, "ring.jackal.yaml, star.jackal.yaml"));
}

TEST_CASE("a file is written whole or not at all") {
    Folder folder;
    CHECK(folder.run_here(tool + "new chain -o lab.yaml").status == 0);
    Printed before = folder.run_here("cat lab.yaml");
    Printed refused = folder.run_here(tool + "new star -o lab.yaml");
    CHECK(refused.status == 2);
    CHECK(has(refused.text, "exists already"));
    CHECK(folder.run_here("cat lab.yaml").text == before.text);
    // A limit of one block on file sizes makes the writing fail half way.
    Printed full = folder.run_here("trap '' XFSZ; ulimit -f 1; " + tool
                                   + "new chain --size 200 -o lab.yaml --replace");
    CHECK(full.status == 2);
    CHECK(folder.run_here("cat lab.yaml").text == before.text);
    CHECK(folder.files() == 1);
    CHECK(folder.run_here(tool + "new star -o lab.yaml --replace").status == 0);
    CHECK(has(folder.run_here("cat lab.yaml").text, "lab: star-4"));
    CHECK(folder.files() == 1);
}

TEST_CASE("pinning and renumbering write the plan file, whole or not at all") {
    Folder folder;
    CHECK(folder
              .run_here("cp " SOURCE_DIR "/demo/skerry.yaml real.yaml; ln -s real.yaml plan.yaml; "
                        "chmod 640 real.yaml")
              .status
          == 0);
    Printed printed = folder.run_here(tool + "addresses plan.yaml --pin");
    CHECK(printed.status == 0);
    CHECK(has(printed.text, "of them new"));
    CHECK(folder.run_here("cmp plan.yaml " SOURCE_DIR "/demo/skerry-pinned.yaml").status == 0);
    CHECK(has(folder.run_here(tool + "addresses plan.yaml --pin").text, "stays as it is"));
    CHECK(
        folder.run_here(tool + "addresses plan.yaml --renumber skerry=10.46.0.0/16 --write").status
        == 0);
    CHECK(has(folder.run_here(tool + "ping plan.yaml helm kettle").text, "10.46.0.34"));
    CHECK(
        folder.run_here(tool + "addresses plan.yaml --renumber skerry=10.41.0.0/16 --write").status
        == 0);
    CHECK(folder.run_here("cmp plan.yaml " SOURCE_DIR "/demo/skerry-pinned.yaml").status == 0);
    CHECK(folder.run_here("stat -c %a real.yaml; test -L plan.yaml").text == "640\n");
    CHECK(folder.files() == 2);

    // The file changes while its plan is being worked on: by one who has it locked.
    Printed changed =
        folder.run_here("cp " SOURCE_DIR "/demo/skerry.yaml held.yaml; "
                        "flock held.yaml sh -c 'sleep 4; echo \"# more\" >>held.yaml' & "
                        "sleep 1; timeout 30 "
                        + tool + "addresses held.yaml --pin");
    CHECK(has(changed.text, "it has changed since it was read; nothing was written"));
    CHECK(changed.status == 2);
}

TEST_CASE("the plan with five mistakes of docs/mend.md is healthy after one command") {
    Folder folder;
    CHECK(folder
              .run_here("sed -n '/^```yaml/,/^```$/{/^```/!p}' " SOURCE_DIR
                        "/docs/mend.md > mill.yaml && cp mill.yaml wrong.yaml")
              .status
          == 0);
    CHECK(folder.run_here(tool + "check mill.yaml").status == 1);
    CHECK(folder.run_here(tool + "verify mill.yaml").status == 1);
    if (!sanitized) { // each takes a minute there
        Printed shown = folder.run_here(tool + "mend mill.yaml");
        CHECK(shown.status == 0);
        CHECK(has(shown.text, "5 changes make it healthy"));
        CHECK(has(shown.text, "nothing is written yet"));
        CHECK(folder.run_here("cmp mill.yaml wrong.yaml").status == 0);
        Printed told = folder.run_here(tool + "mend mill.yaml --format json");
        CHECK(has(told.text, "\"proof\": \"smallest\""));
    }

    CHECK(folder.run_here(tool + "mend mill.yaml --within 200s --write").status == 0);
    for (const char* command : {"check", "verify"})
        CHECK(folder.run_here(tool + command + " mill.yaml").status == 0);
    CHECK(folder.run_here("test $(grep -c '#' mill.yaml) = $(grep -c '#' wrong.yaml)").status == 0);
    CHECK(has(folder.run_here(tool + "mend mill.yaml --within 200s").text,
              "nothing is to be mended"));
    if (sanitized)
        return;
    // The difference is one that other programs carry out.
    Printed patched = folder.run_here(tool
                                      + "mend wrong.yaml | sed -n '/^---/,/^$/p' | sed '$d' | "
                                        "patch -s wrong.yaml && cmp wrong.yaml mill.yaml");
    CHECK_MESSAGE(patched.status == 0, patched.text);
}

TEST_CASE("mend is narrowed, and tells what is left") {
    Folder folder;
    CHECK(
        folder
            .run_here(
                "printf 'lab: t\\nsubnets: {a: {prefix: 10.1.0.0/24}, b: {prefix: "
                "10.2.0.0/24}}\\nguests:\\n  g: {nics: [{subnet: a, state: down}]}\\n  h: "
                "{nics: [{subnet: b}], listens: tcp/22}\\nrouters: {r: {nics: [{subnet: a}, "
                "{subnet: b}]}}\\nexpect:\\n  - {ping: [g, h]}\\n  - {connect: [g, h, "
                "tcp/23], gets: open}\\n  - {connect: [g, h, tcp/22], gets: nothing-listens}\\n' > "
                "t.yaml")
            .status
        == 0);
    CHECK(
        has(folder.run_here(tool + "mend t.yaml --only 8").text, "guests.g.nics[0].state: set up"));
    CHECK(has(folder.run_here(tool + "mend t.yaml --only nic-dwon 2>&1").text,
              "did you mean nic-down?"));
    CHECK(folder.run_here(tool + "mend t.yaml --within soon 2>&1").status == 2);
    Printed left = folder.run_here(tool + "mend t.yaml --write --within 500ms; cat t.yaml");
    CHECK(has(left.text, "left "));
    CHECK(has(left.text, "--partly shows them, nothing is written without it"));
    CHECK(has(left.text, "g: {nics: [{subnet: a, state: down}]}"));
    CHECK(has(folder.run_here(tool + "mend t.yaml --partly --within 500ms").text,
              "guests.g.nics[0].state: set up\n"));
}

TEST_CASE("edit changes a file, shows the difference, or refuses") {
    Folder folder;
    CHECK(folder.run_here("printf 'lab: t\\nsubnets:\\n  a: {hosts: 9} # first\\n' > t.yaml").status
          == 0);
    Printed shown = folder.run_here(tool + "edit t.yaml subnets.a.hosts=20 --diff");
    CHECK(has(shown.text, "-  a: {hosts: 9} # first\n+  a: {hosts: 20} # first\n"));
    CHECK(folder.run_here(tool + "edit t.yaml subnets.a.hosts=20 'subnets.b={hosts: 3}'").status
          == 0);
    CHECK(folder.run_here("cat t.yaml").text
          == "lab: t\nsubnets:\n  a: {hosts: 20} # first\n  b: {hosts: 3}\n");
    Printed refused = folder.run_here(tool + "edit t.yaml subnets.a.hosts=few 2>&1");
    CHECK(refused.status == 2);
    CHECK(has(refused.text, "nothing was written"));
    CHECK(folder.run_here(tool + "edit t.yaml subnets.a 2>&1").status == 2);
    CHECK(folder.run_here(tool + "edit t.yaml 2>&1").status == 2);
    CHECK(has(folder.run_here(tool + "edit - subnets.a.hosts=5 < t.yaml").text, "a: {hosts: 5} #"));
}

TEST_CASE("the completion knows commands, options, shapes and the machines of the plan") {
    auto complete = [](const std::string& words) {
        std::string script = "PATH=$(dirname " TOOL "):$PATH; source " SOURCE_DIR
                             "/cli/completion.bash; COMP_WORDS=("
                             + words
                             + "); COMP_CWORD=$((${#COMP_WORDS[@]} - 1)); _jackal; "
                               "echo \"${COMPREPLY[@]}\"";
        return run("bash -c '" + script + "' 2>/dev/null").text;
    };
    CHECK(complete("jackal v") == "verify\n");
    CHECK(complete("jackal ping" + skerry + "chart-desk we") == "weather-mast\n");
    CHECK(complete("jackal ping" + skerry + "--so") == "--source\n");
    CHECK(complete("jackal new le") == "leaf-spine\n");
    CHECK(complete("jackal addresses" + skerry + "--why la") == "lamp\n");
    CHECK(complete("jackal addresses" + skerry + "--renumber sk") == "skerry\n");
    CHECK(complete("jackal check --format \"\"") == "text json sarif\n");
    CHECK(complete("jackal routes --format \"\"") == "text json\n");
    CHECK(complete("jackal sweep --what sw") == "switch\n");
    CHECK(complete("jackal ping --family \"\"") == "4 6\n");
    CHECK(complete("jackal draw --theme d") == "dark\n");
    // Every command that the program has is completed, and no other.
    Printed help = run(tool + "--help");
    std::istringstream commands(complete("jackal \"\""));
    std::size_t count = 0;
    for (std::string word; commands >> word;)
        if (word.front() != '-') {
            ++count;
            CHECK(has(help.text, "\n  " + word + " "));
        }
    CHECK(count == 29);
}

TEST_CASE("hostile texts get a clear error in a short time") {
    Folder folder;
    const int bytes = sanitized ? 1'000'000 : 10'000'000;
    const int entries = sanitized ? 5'000 : 20'000;
    auto of = [](const char* maker, int size) { return fmt::format(fmt::runtime(maker), size); };
    const std::string makers[] = {
        of("head -c {} /dev/urandom", bytes),
        of("head -c {} /dev/zero", bytes),
        of("head -c {} /dev/zero | tr '\\0' '['", bytes / 10),
        of("head -c {} /dev/zero | tr '\\0' '{{'", bytes / 10),
        of("yes 'a: b' | head -c {}", bytes),
        of("yes -- '- - - -' | head -c {}", bytes),
        of("echo 'lab: x'; echo 'guests:'; seq -f '  m%g: {{nics: [{{subnet: none}}]}}' {}",
           entries),
        "echo 'lab: x'; echo 'guests:'; seq -f '  m%g: {count: 10000}' 1000",
        of("echo 'lab: x'; echo 'guests:'; seq -f '  m%g: {{like: m1}}' {}; echo '  m0: {{like: "
           "m0}}'",
           5 * entries),
        "printf '\\376\\377\\0l\\0a'",
    };
    for (const std::string& maker : makers) {
        CAPTURE(maker);
        Printed printed = folder.run_here("{ " + maker + "; } > hostile.yaml; timeout 60 " + tool
                                          + "check hostile.yaml 2>&1 | tail -c 1000");
        CAPTURE(printed.text.substr(0, 300));
        CHECK(has(printed.text, "so nothing was asked"));
    }
}

TEST_CASE("starter plans of every shape and size work at once") {
    using namespace jackal;
    for (auto shape : {exports::Shape::chain, exports::Shape::ring, exports::Shape::star,
                       exports::Shape::tree, exports::Shape::leaf_spine})
        for (unsigned size : {2U, 3U, 4U, 7U, 12U, 13U, 40U, sanitized ? 41U : 130U})
            for (bool with_ipv6 : {false, true}) {
                std::string text = exports::starter_plan(
                    {.shape = shape, .size = size, .lab = "start", .with_ipv6 = with_ipv6});
                CAPTURE(text.substr(0, 60));
                plan::Reading reading = plan::read(text, "start");
                REQUIRE(reading.plan.has_value());
                lab::Lab lab = lab::build(*reading.plan);
                routing::Settled settled = routing::settle(lab);
                auto findings = size > 40 ? lab::findings(lab) : reach::check(settled).findings;
                CHECK(findings.empty());
                for (const reach::Verdict& verdict : reach::verify(settled))
                    CHECK_MESSAGE(verdict.passed, verdict.explanation);
            }
}
