#include "grammar.h"

#include "jackal/export/reference.h"

#include <algorithm>
#include <map>
#include <nlohmann/json.hpp>
#include <vector>

namespace fuzz {

namespace {

using nlohmann::json;
using Words = std::vector<std::string>;

const Words machines = {"r1", "r2", "g1", "g2", "r3", "g3"};
const Words subnets = {"s1", "s2", "s3"};
const Words sites = {"i1", "i2", "i3"};
const Words addresses = {"10.1.0.1",   "10.1.0.9",     "10.2.0.1", "fd10:1::1",
                         "10.1.0.255", "198.51.100.7", "0.0.0.0"};
const Words prefixes = {"10.1.0.0/24", "10.2.0.0/24",   "10.1.0.0/16",  "fd10:1::/64",
                        "fd10:1::/48", "10.1.0.128/25", "192.0.2.0/24", "0.0.0.0/0"};
const Words nics = {"eth0", "eth1", "s1", "all", "lo"};
const Words strange = {"", "$crew", "a b", "-1", "~", "\x1b[1m", "eth0/1", "999999999999"};

// What strings are called: by the definition they stand in and their key, by their key, or by the
// definition that they are.
const std::map<std::string_view, Words, std::less<>> words_by_key = {
    {"guests", {"g1", "g2", "g3"}},
    {"routers", {"r1", "r2", "r3"}},
    {"subnets", subnets},
    {"sites", sites},
    {"pools", {"p1"}},
    {"filters", {"f1", "f2"}},
    {"policies", {"y1"}},
    {"switches", {"w1", "w2"}},
    {"ports", {"p1", "p2", "p3"}},
    {"regions", {"n1", "n2"}},
    {"parameters", {"crew"}},
    {"areas", {"0", "1", "7"}},
    {"neighbours", {"r1", "r2", "r3", "10.1.0.1", "s1"}},
    {"site", sites},
    {"pool", {"p1"}},
    {"filter", {"f1", "f2"}},
    {"policy", {"y1"}},
    {"region", {"n1", "n2"}},
    {"subnet", subnets},
    {"segment", subnets},
    {"like", machines},
    {"starts-after", machines},
    {"link.between", {"r1", "r2", "r3", "g1", "g2"}},
    {"tunnel.between", {"r1", "r2", "r3"}},
    {"peering.between", sites},
    {"server", {"r1", "r2", "g1"}},
    {"relay", {"r2", "r1", "g1"}},
    {"border", {"r1", "r2"}},
    {"via", {"r1", "r2", "10.1.0.1", "10.2.0.1", "fd10:1::1", "10.1.0.9"}},
    {"to", {"default", "s1", "s2", "s3", "10.9.0.0/16", "g1", "fd10:2::/64"}},
    {"gets", {"reply", "no-return-route", "open", "no-route"}},
    {"name", {"eth0", "one", "two"}},
    {"nic", nics},
    {"mac", {"02:00:00:00:00:01", "02:00:00:00:00:02"}},
    {"address", addresses},
    {"prefix", prefixes},
    {"region-of", {"+10-+19", "10.1.0.16-10.1.0.31", "+100", "10.1.0.64/28"}},
    {"end", {"g1", "g2", "r1", "r2", "s1", "s2", "g1/eth0", "10.1.0.9"}},
    {"ends", {"g1", "s1", "10.1.0.0/24", "10.1.0.9"}},
    {"host", {"r1", "g1", "10.1.0.1"}},
    {"delay", {"2ms", "250us", "1s"}},
    {"seconds", {"10s", "40s"}},
    {"amount", {"512M", "4G"}},
    {"service", {"tcp/22", "udp/53", "tcp/80"}},
    {"switch-port", {"w1/p1", "w1/p2", "w2/p1"}},
    {"nic-name", nics},
    {"port", {"22", "80-90"}},
};

// What every plan has, so that most names mean something; what is made goes over it.
constexpr const char* base = R"({
  "lab": "f",
  "pools": {"p1": {"space": "10.99.0.0/16"}},
  "subnets": {"s1": {"prefix": "10.1.0.0/24"}, "s2": {"prefix": ["10.2.0.0/24", "fd10:2::/64"]}, "s3": {}},
  "switches": {"w1": {"ports": {"p1": {}, "p2": {}, "p3": {}}}, "w2": {"ports": {"p1": {}, "p2": {}}}},
  "filters": {"f1": {"default": "allow"}, "f2": {"default": "deny"}},
  "policies": {"y1": {"default": "accept"}},
  "guests": {"g1": {"nics": [{"subnet": "s1"}]}, "g2": {"nics": [{"subnet": "s2"}]},
             "g3": {"nics": [{"subnet": "s3"}, {"subnet": "s1"}]}},
  "routers": {"r1": {"nics": [{"subnet": "s1"}, {"subnet": "s2"}]}, "r2": {"nics": [{"subnet": "s2"}, {"subnet": "s3"}]},
              "r3": {"nics": [{"subnet": "s3"}, {"subnet": "s1"}]}}
})";
constexpr const char* base_sites = R"({
  "sites": {"i1": {"space": "10.1.0.0/16", "routing": "automatic"}, "i2": {"space": "10.2.0.0/16"},
            "i3": {"space": "10.3.0.0/16", "routing": "automatic"}},
  "subnets": {"s1": {"site": "i1"}, "s2": {"site": "i2", "prefix": "10.2.0.0/24"}, "s3": {"site": "i3"}}
})";

void take_out(json& value, const char* key) {
    if (value.is_object())
        value.erase(key);
    for (json& inner : value)
        if (inner.is_structured())
            take_out(inner, key);
}

class Grammar {
  public:
    explicit Grammar(std::span<const std::uint8_t> bytes)
        : bytes_(bytes), schema_(schema()), definitions_(schema_.at("$defs")) {}

    std::string run() {
        oddity_ = next() % 4;
        bool has_sites = next() % 2 == 0;
        json plan = json::parse(base);
        if (has_sites)
            plan.merge_patch(json::parse(base_sites));
        json made = value(schema_, "", "", 0);
        if (!has_sites)
            for (const char* key : {"site", "sites", "peerings", "regions"})
                take_out(made, key);
        for (json& expected : made["expect"])
            if (expected.is_object() && !expected.contains("ping") && !expected.contains("connect"))
                expected["ping"] = {"g1", "g2"};
        plan.merge_patch(made);
        return plan.dump();
    }

  private:
    static const json& schema() {
        static const json parsed = json::parse(jackal::exports::plan_schema());
        return parsed;
    }

    std::uint8_t next() { return at_ < bytes_.size() ? bytes_[at_++] : 0; }

    // Whether something that does not belong comes next: in three plans of four now and then, as
    // most are to be read to their end.
    bool is_odd() {
        constexpr std::uint8_t seldom[] = {255, 254, 252, 240};
        return oddity_ != 0 && next() > seldom[oddity_];
    }

    template <class List>
    const auto& one_of(const List& list) {
        return list[next() % list.size()];
    }

    json value(const json& rule, std::string context, std::string key, int depth) {
        if (depth > 0 && is_odd())
            return misshapen(depth);
        if (auto ref = rule.find("$ref"); ref != rule.end()) {
            std::string name = ref->get<std::string>().substr(sizeof "#/$defs/" - 1);
            const json& meant = definitions_.at(name);
            if (meant.contains("pattern") || meant.contains("anyOf"))
                return value(meant, context, words(context, key) != nullptr ? key : name, depth);
            return value(meant, name, key, depth);
        }
        if (auto values = rule.find("enum"); values != rule.end())
            return one_of(*values);
        if (auto only = rule.find("const"); only != rule.end())
            return *only;
        if (auto choice = rule.find("anyOf"); choice != rule.end())
            return value(choice->back().value("type", json()) == "null" && !is_odd()
                             ? choice->front()
                             : one_of(*choice),
                         context, key, depth);
        const json& type = rule.value("type", json("string"));
        return of_type(type.is_array() ? type[is_odd() ? type.size() - 1 : 0] : type, rule, context,
                       key, depth);
    }

    json of_type(const json& type, const json& rule, const std::string& context,
                 const std::string& key, int depth) {
        if (type == "object")
            return mapping(rule, context, key, depth);
        if (type == "array")
            return list(rule, context, key, depth);
        if (type == "boolean")
            return next() % 2 == 0;
        if (type == "integer" || type == "number")
            return number(rule);
        if (type == "null")
            return nullptr;
        bool counts =
            rule.value("pattern", "").starts_with("^[0-9]") && words(context, key) == nullptr;
        return counts ? json(std::to_string(next() % 100 + 1)) : text(context, key);
    }

    json mapping(const json& rule, const std::string& context, const std::string& key, int depth) {
        json made = json::object();
        if (auto properties = rule.find("properties"); properties != rule.end()) {
            const json& needed = rule.value("required", json::array());
            for (const auto& [name, inner] : properties->items()) {
                bool is_needed = std::find(needed.begin(), needed.end(), name) != needed.end();
                if (is_needed || next() % (depth == 0 ? 2 : 5) == 1)
                    made[name] = value(inner, context, name, depth + 1);
            }
        }
        auto others = rule.find("additionalProperties");
        if (others == rule.end() || !others->is_object())
            return made;
        for (int left = next() % 4; left > 0; --left) {
            std::string name = text(context, key).get<std::string>();
            made[name] = value(*others, context, name, depth + 1);
        }
        return made;
    }

    json list(const json& rule, const std::string& context, const std::string& key, int depth) {
        json made = json::array();
        std::size_t count = rule.value("minItems", 0U) + next() % 3U;
        count = std::min<std::size_t>(count, rule.value("maxItems", 8U));
        for (std::size_t i = 0; i < count; ++i) {
            const json& inner = rule.contains("prefixItems") ? rule["prefixItems"].at(i)
                                : rule.contains("items")     ? rule["items"]
                                                             : any_;
            json item = value(inner, context, key, depth + 1);
            for (int again = 0; again < 4 && !is_odd() && item.is_string()
                                && std::find(made.begin(), made.end(), item) != made.end();
                 ++again)
                item = value(inner, context, key, depth + 1);
            made.push_back(std::move(item));
        }
        return made;
    }

    json number(const json& rule) {
        double least = rule.value("minimum", 0.0);
        double most = rule.value("maximum", 100.0);
        switch (next() % 8) {
        case 0: return static_cast<std::int64_t>(least);
        case 1: return static_cast<std::int64_t>(most);
        case 2: return static_cast<std::int64_t>(most) + (is_odd() ? 1 : 0);
        default: return std::min(static_cast<std::int64_t>(most), std::int64_t{next()} % 16 + 1);
        }
    }

    static const Words* words(const std::string& context, const std::string& key) {
        auto found = words_by_key.find(context + "." + key);
        if (found == words_by_key.end())
            found = words_by_key.find(key);
        return found == words_by_key.end() ? nullptr : &found->second;
    }

    json text(const std::string& context, const std::string& key) {
        const Words* known = words(context, key);
        if (is_odd())
            return one_of(strange);
        return one_of(known != nullptr ? *known : machines);
    }

    json misshapen(int depth) {
        switch (next() % 8) {
        case 0: return nullptr;
        case 1: return json::array();
        case 2: return json::object();
        case 3: return json::array({"r1"});
        case 4: return json{{"r1", "s1"}};
        case 5: return json::array({json::array({"r1", json{{"a", nullptr}}})});
        case 6: return depth;
        default: return one_of(strange);
        }
    }

    std::span<const std::uint8_t> bytes_;
    std::size_t at_ = 0;
    std::size_t oddity_ = 0;
    const json& schema_;
    const json& definitions_;
    const json any_ = json::object();
};

} // namespace

std::string plan_from(std::span<const std::uint8_t> bytes) {
    return Grammar(bytes).run();
}

} // namespace fuzz
