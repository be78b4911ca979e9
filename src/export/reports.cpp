#include "jackal/export/reports.h"

#include "jackal/export/words.h"
#include "jackal/version.h"

#include <boost/property_tree/ptree.hpp>
#include <boost/property_tree/xml_parser.hpp>
#include <fmt/format.h>
#include <nlohmann/json.hpp>
#include <set>
#include <sstream>

namespace jackal::exports {

// --- JUnit XML -------------------------------------------------------------------------------

namespace {

std::string question_words(const plan::Expectation& wanted) {
    return fmt::format("{} to {}: {} gets {}", wanted.from.value, wanted.to.value,
                       wanted.service ? net::to_string(*wanted.service) : "ping",
                       wanted.gets.value);
}

boost::property_tree::ptree test_case(const lab::Lab& lab, const reach::Verdict& verdict) {
    const plan::Expectation& wanted = lab.expectations[verdict.expectation];
    boost::property_tree::ptree tree;
    tree.put("<xmlattr>.classname", lab.name);
    tree.put("<xmlattr>.name", question_words(wanted));
    tree.put("<xmlattr>.file", plan::printable(lab.source));
    tree.put("<xmlattr>.line", wanted.at.line);
    if (verdict.passed)
        return tree;
    boost::property_tree::ptree failure(
        fmt::format("{}: {}", plan::to_string(wanted.at, lab.source), verdict.explanation));
    failure.put("<xmlattr>.message", fmt::format("{} of {} not as expected", verdict.failed,
                                                 counted(verdict.pairs, "pair")));
    if (verdict.answer && verdict.answer->diagnosis)
        failure.put("<xmlattr>.type", plan::slug(verdict.answer->diagnosis->cause));
    tree.add_child("failure", failure);
    return tree;
}

} // namespace

std::string junit(const lab::Lab& lab, const std::vector<reach::Verdict>& verdicts) {
    boost::property_tree::ptree suite;
    std::size_t failures = 0;
    for (const reach::Verdict& verdict : verdicts)
        failures += verdict.passed ? 0 : 1;
    suite.put("<xmlattr>.name", lab.name);
    suite.put("<xmlattr>.tests", verdicts.size());
    suite.put("<xmlattr>.failures", failures);
    for (const reach::Verdict& verdict : verdicts)
        suite.add_child("testcase", test_case(lab, verdict));
    boost::property_tree::ptree document;
    document.add_child("testsuites.testsuite", suite);
    std::ostringstream text;
    boost::property_tree::write_xml(text, document,
                                    boost::property_tree::xml_writer_settings<std::string>(' ', 2));
    return text.str();
}

// --- SARIF -----------------------------------------------------------------------------------

namespace {

using Json = nlohmann::ordered_json;

Json place_of(const plan::Mark& at, const std::string& uri) {
    return {{"physicalLocation",
             {{"artifactLocation", {{"uri", uri}}},
              {"region", {{"startLine", at.line}, {"startColumn", at.column}}}}}};
}

std::string message_of(const lab::Finding& finding) {
    std::string message = finding.message;
    for (const std::string& line : lab::to_lines(finding.remedy))
        message += fmt::format("\nremedy: {}", line);
    return message;
}

// A path as a relative reference (RFC 3986 section 4.2).
std::string uri_of(const std::string& path) {
    std::string uri;
    for (char c : path) {
        bool is_plain = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9')
                        || std::string_view("-._~/").find(c) != std::string_view::npos;
        uri += is_plain ? std::string(1, c) : fmt::format("%{:02X}", static_cast<unsigned char>(c));
    }
    return uri;
}

} // namespace

std::string sarif(const lab::Lab& lab, const reach::Check& check) {
    const std::string uri = uri_of(lab.source);
    std::set<plan::Cause> causes;
    Json results = Json::array();
    for (const lab::Finding& finding : check.findings) {
        causes.insert(finding.cause);
        Json result{{"ruleId", plan::slug(finding.cause)},
                    {"level", finding.severity == lab::Severity::error ? "error" : "warning"},
                    {"message", {{"text", message_of(finding)}}}};
        if (finding.at)
            result["locations"] = Json::array({place_of(finding.at, uri)});
        results.push_back(std::move(result));
    }
    Json rules = Json::array();
    for (const plan::CauseText& text : plan::all_causes())
        if (causes.contains(text.cause))
            rules.push_back({{"id", text.slug}, {"shortDescription", {{"text", text.meaning}}}});
    Json run{
        {"tool",
         {{"driver",
           {{"name", "jackal"}, {"semanticVersion", version()}, {"rules", std::move(rules)}}}}},
        {"results", std::move(results)}};
    Json log{{"version", "2.1.0"}, {"runs", Json::array({std::move(run)})}};
    return log.dump(2, ' ', false, Json::error_handler_t::replace) + "\n";
}

namespace {

// In a cell of a table.
std::string cell(std::string_view text) {
    std::string out;
    for (char c : text.empty() ? std::string_view("–") : text)
        out += c == '|' ? std::string("\\|") : c == '\n' ? std::string(" ") : std::string(1, c);
    return out;
}

// Words of a plan, as code; with marks in them that some reader of Markdown might follow
// nevertheless these are escaped instead (CommonMark 0.31, 2.4).
std::string code(std::string_view text) {
    constexpr std::string_view marks = "\\`*_[]()<>&#~";
    if (text.find_first_of("\\`[]<&") == text.npos)
        return fmt::format("`{}`", text);
    std::string out;
    for (char c : text)
        out += marks.find(c) == marks.npos ? std::string(1, c) : std::string("\\") + c;
    return out;
}

std::string row(const std::vector<std::string>& cells) {
    std::string line = "|";
    for (const std::string& text : cells)
        line += " " + cell(text) + " |";
    return line + "\n";
}

std::string section(std::string_view title, const std::vector<std::string>& headings,
                    const std::vector<std::vector<std::string>>& rows) {
    if (rows.empty())
        return "";
    std::string text = fmt::format("\n### {}\n\n", title) + row(headings) + "|";
    for (std::size_t i = 0; i < headings.size(); ++i)
        text += "---|";
    text += "\n";
    for (const auto& cells : rows)
        text += row(cells);
    return text;
}

std::string met_text(const std::optional<bool>& met) {
    return !met ? "" : *met ? "met" : "**not met**";
}

} // namespace

std::string comparison_markdown(const lab::Lab& before, const lab::Lab& after,
                                const reach::Comparison& comparison) {
    const auto [gained, lost] = reach::sum_of(comparison.reach);
    std::vector<std::vector<std::string>> reach;
    for (const reach::ReachChange& change : comparison.reach)
        reach.push_back({change.from, change.to, fmt::format("{}", change.lost),
                         fmt::format("{}", change.gained),
                         change.cause ? fmt::format(
                             "{} to {}{}: {}", change.first[0], change.first[1],
                             change.lost == 0 ? ", before" : "", change.cause->explanation)
                                      : ""});
    std::vector<std::vector<std::string>> expectations;
    for (const reach::ExpectationChange& change : comparison.expectations)
        expectations.push_back({code(change.what), met_text(change.before), met_text(change.after),
                                change.explanation});
    std::vector<std::vector<std::string>> findings;
    for (const auto& [list, word] :
         {std::pair(&comparison.come, "new"), std::pair(&comparison.gone, "gone")})
        for (const lab::Finding& finding : *list)
            findings.push_back({word, std::string(lab::to_string(finding.severity)),
                                std::string(plan::slug(finding.cause)), finding.message});
    std::vector<std::vector<std::string>> changes;
    for (const reach::Change& change : comparison.changes)
        changes.push_back({std::string(reach::to_string(change.aspect)), change.what, change.before,
                           change.after});
    std::vector<std::vector<std::string>> written;
    for (const std::string& line : written_lines(comparison.written))
        written.push_back({code(line)});
    std::string text = fmt::format("## {} to {}\n\n", before.source, after.source);
    if (comparison.is_same())
        return text + "Nothing differs.\n";
    text +=
        fmt::format("Replies lost: {} of machines; gained: {}; findings: {} new, {} gone.\n",
                    counted(lost, "pair"), gained, comparison.come.size(), comparison.gone.size());
    return text + section("Reach", {"from", "to", "lost", "gained", "why"}, reach)
           + section("Expectations", {"expectation", "before", "after", "why"}, expectations)
           + section("Findings", {"", "severity", "finding", "what"}, findings)
           + section("What moves", {"", "what", "before", "after"}, changes)
           + section("In the plan", {"change"}, written);
}

} // namespace jackal::exports
