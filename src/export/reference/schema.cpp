#include "jackal/export/reference.h"
#include "plan/fields/shape.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>
#include <nlohmann/json.hpp>

namespace jackal::exports {

namespace {

using json = nlohmann::ordered_json;
using plan::Rule;
using plan::Sort;

// A text with a parameter in it stands for any value.
constexpr std::string_view or_parameter = "|\\$";

class SchemaWriter {
  public:
    std::string run() {
        json schema{
            {"$schema", "https://json-schema.org/draft/2020-12/schema"},
            {"title", "Jackal plan file"},
            {"description",
             "A network lab: subnets, guests, routers, links and what is expected of them."}};
        const json whole = sort(plan::sort_of_plans());
        for (const auto& [key, value] : whole.items())
            schema[key] = value;
        json& definitions = schema["$defs"];
        for (auto& [name, definition] : definitions_)
            definitions[name] = std::move(definition);
        return schema.dump(2) + "\n";
    }

  private:
    static json names(const std::vector<plan::NameKind>& kinds) {
        json words = json::array();
        for (plan::NameKind kind : kinds)
            words.push_back(to_string(kind));
        return words;
    }

    static json text(std::string_view pattern) {
        return {{"type", "string"}, {"pattern", fmt::format("{}{}", pattern, or_parameter)}};
    }

    // What is named stands in the definitions once.
    json shape(const plan::Shape& of) {
        if (of.sort != nullptr)
            return reference(std::string(of.sort().name), [&] { return sort(of.sort()); });
        if (of.name.empty())
            return inner(of);
        json made = reference(std::string(of.name), [&] {
            json definition = inner(of);
            definition.erase("x-names");
            if (!of.about.empty())
                definition["description"] = plan::sentence(of.about);
            return definition;
        });
        if (!of.names.empty())
            made["x-names"] = names(of.names);
        return made;
    }

    template <class Make>
    json reference(const std::string& name, Make make) {
        if (definitions_.try_emplace(name).second) {
            json made = make();
            definitions_[name] = std::move(made);
        }
        return {{"$ref", "#/$defs/" + name}};
    }

    json inner(const plan::Shape& of) {
        json made = json::object();
        if (!of.words.empty())
            made = words(of.words);
        else if (!of.pattern.empty())
            made = text(of.pattern);
        else if (of.number)
            made = number(of);
        else if (of.is_text)
            made["type"] = {"string", "number", "boolean"};
        else if (of.is_flag)
            made["anyOf"] = {{{"type", "boolean"}}, {{"enum", {"true", "false"}}}};
        else if (!of.list.empty())
            made = list(of);
        else if (!of.map.empty())
            made = map(of);
        else
            for (const plan::Shape& form : of.forms)
                made["anyOf"].push_back(shape(form));
        if (!of.names.empty())
            made["x-names"] = names(of.names);
        return made;
    }

    static json words(const std::vector<std::string_view>& of) {
        json made{{"enum", json::array()}};
        for (std::string_view word : of) {
            const bool is_number =
                std::ranges::all_of(word, [](char c) { return c >= '0' && c <= '9'; });
            made["enum"].push_back(is_number ? json(std::stoi(std::string(word))) : json(word));
        }
        return made;
    }

    static json number(const plan::Shape& of) {
        json number{{"type", of.is_amount ? "number" : "integer"},
                    {"minimum", of.number->least},
                    {"maximum", of.number->most}};
        return {{"anyOf",
                 {number, text(of.is_amount ? "^([0-9]+(\\.[0-9]*)?|\\.[0-9]+)$" : "^[0-9]+$")}}};
    }

    json list(const plan::Shape& of) {
        json made{
            {"type", of.list.front().sort != nullptr ? json{"array", "null"} : json("array")}};
        if (of.is_tuple) {
            for (const plan::Shape& item : of.list)
                made["prefixItems"].push_back(shape(item));
            made["minItems"] = made["maxItems"] = of.list.size();
            return made;
        }
        made["items"] = shape(of.list.front());
        if (of.fewest != 0)
            made["minItems"] = of.fewest;
        if (of.all_differ)
            made["uniqueItems"] = true;
        if (of.most != plan::Shape::any_number)
            made["maxItems"] = of.most;
        return made;
    }

    json map(const plan::Shape& of) {
        json made{{"type", of.fewest != 0 ? json("object") : json{"object", "null"}}};
        json key = json::object();
        if (of.map.front().pattern != "^.") // which any key has; a parameter is no key
            key["pattern"] = of.map.front().pattern;
        if (of.entries)
            key["x-entry"] = to_string(*of.entries);
        if (!of.map.front().names.empty())
            key["x-names"] = names(of.map.front().names);
        if (!key.empty())
            made["propertyNames"] = key;
        made["additionalProperties"] = shape(of.map.back());
        if (of.fewest != 0)
            made["minProperties"] = of.fewest;
        return made;
    }

    json sort(const Sort& of) {
        const bool needs_keys = std::ranges::any_of(of.rules, [](const Rule& rule) {
            return rule.kind == Rule::Kind::needs || rule.kind == Rule::Kind::one_of;
        });
        json made{{"type", needs_keys ? json("object") : json{"object", "null"}}};
        made["properties"] = json::object();
        for (const plan::Row& row : of.rows) {
            json value = shape(row.shape());
            value["description"] = plan::sentence(row);
            made["properties"][std::string(row.key)] = std::move(value);
        }
        made["additionalProperties"] = false;
        if (of.others) {
            made["propertyNames"] = {{"x-names", names(of.others->map.front().names)}};
            made["additionalProperties"] = shape(of.others->map.back());
        }
        for (const Rule& rule : of.rules)
            add(made, rule);
        return made;
    }

    static json required(const std::vector<std::string_view>& keys) { return {{"required", keys}}; }

    static void add(json& made, const Rule& rule) {
        switch (rule.kind) {
        case Rule::Kind::needs: made["required"] = rule.keys; break;
        case Rule::Kind::one_of:
            for (std::string_view key : rule.keys)
                made["oneOf"].push_back(required({key}));
            break;
        case Rule::Kind::not_both: made["allOf"].push_back({{"not", required(rule.keys)}}); break;
        case Rule::Kind::with:
            made["dependentRequired"][std::string(rule.keys.front())] =
                std::vector<std::string_view>(rule.keys.begin() + 1, rule.keys.end());
            break;
        case Rule::Kind::ipv4_only:
            json denied = required(rule.keys);
            denied["properties"][std::string(rule.keys.back())] = {
                {"type", "string"}, {"pattern", "^/([89]|[12][0-9]|3[0-2])$"}};
            made["allOf"].push_back({{"not", denied}});
            break;
        }
    }

    std::map<std::string, json> definitions_;
};

} // namespace

std::string plan_schema() {
    return SchemaWriter().run();
}

} // namespace jackal::exports
