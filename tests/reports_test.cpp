// What systems of continuous integration are given.
#include "program.h"
#include "sanitized.h"

#include <algorithm>
#include <boost/property_tree/ptree.hpp>
#include <boost/property_tree/xml_parser.hpp>
#include <doctest/doctest.h>
#include <filesystem>
#include <fstream>
#include <nlohmann/json.hpp>
#include <sstream>

namespace {

const std::string reporter = std::string(TOOL) + " ";
const std::string demo_folder = std::string(SOURCE_DIR) + "/demo/";

boost::property_tree::ptree xml(const std::string& text) {
    std::istringstream stream(text);
    boost::property_tree::ptree tree;
    boost::property_tree::read_xml(stream, tree);
    return tree;
}

} // namespace

TEST_CASE("verify writes JUnit XML that says what its JSON says") {
    for (const std::string cut : {"", " --cut lamp-r1"}) {
        std::string asks = reporter + "verify " + demo_folder + "skerry.yaml" + cut;
        auto wanted = nlohmann::json::parse(run(asks + " --format json").text)["expectations"];
        Printed printed = run(asks + " --format junit");
        CHECK(printed.status == (cut.empty() ? 0 : 1));
        auto suite = xml(printed.text).get_child("testsuites.testsuite");
        CHECK(suite.get<std::size_t>("<xmlattr>.tests") == wanted.size());
        CHECK(suite.count("testcase") == wanted.size());
        std::size_t number = 0;
        std::size_t failures = 0;
        for (const auto& [name, entry] : suite) {
            if (name != "testcase")
                continue;
            const nlohmann::json& expectation = wanted[number++];
            bool failed = entry.count("failure") != 0;
            failures += failed ? 1 : 0;
            CHECK(failed == !expectation["passed"].get<bool>());
            CHECK(entry.get<int>("<xmlattr>.line") == expectation["at"]["line"]);
            CHECK(entry.get<std::string>("<xmlattr>.file") == demo_folder + "skerry.yaml");
            if (failed) {
                std::string text = entry.get<std::string>("failure");
                CHECK(has(text, expectation["explanation"].get<std::string>()));
                CHECK(text.starts_with(demo_folder + "skerry.yaml:"));
            }
        }
        CHECK(suite.get<std::size_t>("<xmlattr>.failures") == failures);
    }
}

TEST_CASE("check writes SARIF with all that the standard requires") {
    std::size_t results = 0;
    std::size_t files = 0;
    for (const auto& file : std::filesystem::directory_iterator(demo_folder + "mistakes")) {
        if (sanitized && files++ % 5 != 0)
            continue;
        std::string asks = reporter + "check " + file.path().string();
        CAPTURE(asks);
        auto wanted = nlohmann::json::parse(run(asks + " --format json").text)["findings"];
        // SARIF 2.1.0, sections 3.13, 3.14, 3.18, 3.19, 3.27 and 3.30
        auto log = nlohmann::json::parse(run(asks + " --format sarif").text);
        CHECK(log["version"] == "2.1.0");
        REQUIRE(log["runs"].size() == 1);
        const auto& driver = log["runs"][0]["tool"]["driver"];
        CHECK(driver["name"] == "jackal");
        REQUIRE(log["runs"][0]["results"].size() == wanted.size());
        for (std::size_t i = 0; i < wanted.size(); ++i, ++results) {
            const auto& result = log["runs"][0]["results"][i];
            CHECK(result["ruleId"] == wanted[i]["finding"]);
            CHECK(result["level"] == wanted[i]["severity"]);
            CHECK(has(result["message"]["text"], wanted[i]["explanation"].get<std::string>()));
            CHECK(std::ranges::count_if(driver["rules"],
                                        [&](const auto& rule) {
                                            return rule["id"] == result["ruleId"]
                                                   && !rule["shortDescription"]["text"]
                                                           .template get<std::string>()
                                                           .empty();
                                        })
                  == 1);
            if (wanted[i]["at"].is_null())
                continue;
            const auto& place = result["locations"][0]["physicalLocation"];
            CHECK(place["region"]["startLine"] == wanted[i]["at"]["line"]);
            CHECK(place["region"]["startColumn"] == wanted[i]["at"]["column"]);
            CHECK(place["artifactLocation"]["uri"] == file.path().string());
        }
    }
    CHECK(results > (sanitized ? 10U : 80U));
}

TEST_CASE("names of plans are written as XML and as URI references") {
    std::string folder = std::filesystem::temp_directory_path() / "jackal-reports";
    std::filesystem::create_directories(folder);
    std::string plan = folder + "/a & <b>.yaml";
    std::ofstream(plan)
        << "lab: odd\nsubnets: {s: {prefix: 10.0.0.0/24}}\n"
           "guests: {a: {nics: [{subnet: s, state: down}]}, b: {nics: [{subnet: s}]}}\n"
           "expect: [{ping: [a, b]}]\n";
    auto suite = xml(run(reporter + "verify '" + plan + "' --format junit").text)
                     .get_child("testsuites.testsuite.testcase");
    CHECK(suite.get<std::string>("<xmlattr>.file") == plan);
    auto log = nlohmann::json::parse(run(reporter + "check '" + plan + "' --format sarif").text);
    CHECK(
        log["runs"][0]["results"][0]["locations"][0]["physicalLocation"]["artifactLocation"]["uri"]
        == folder + "/a%20%26%20%3Cb%3E.yaml");
    std::filesystem::remove_all(folder);
}
