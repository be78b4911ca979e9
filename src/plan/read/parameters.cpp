#include "parameters.h"

#include "jackal/limits.h"
#include "plan/suggester.h"

#include <map>
#include <unordered_set>

namespace jackal::plan {

namespace {

class Parameters {
  public:
    Parameters(Document& document, Reader& r) : document_(document), r_(r) {}

    void run(const Settings& settings) {
        read_defaults();
        for (const auto& [name, value] : settings) {
            auto found = values_.find(name);
            if (found == values_.end())
                r_.problem(Mark{}, unknown(name));
            else
                found->second = value;
        }
        for (NodeId id = 0; id < document_.size(); ++id)
            if (document_.text(id).find('$') != std::string_view::npos && !own_.contains(id))
                substitute(id);
    }

  private:
    void read_defaults() {
        if (document_.kind(document_.root()) != NodeKind::mapping)
            return;
        r_.each_pair_quietly(document_.root(), [&](NodeId key, NodeId value) {
            if (r_.text(key) != "params")
                return;
            r_.each_pair(value, "params", [&](NodeId name, NodeId given) {
                own_.insert(given);
                if (!is_name(r_.text(name)))
                    r_.problem(name, fmt::format("the name {} is not a host-name label: a-z, 0-9 "
                                                 "and inner hyphens",
                                                 shown(r_.text(name))));
                if (auto text = r_.scalar(given, "a single value"))
                    values_[std::string(r_.text(name))] = *text;
            });
        });
    }

    std::string unknown(std::string_view name) {
        return fmt::format(
            "there is no parameter {}{}", shown(name),
            suggester_.suggestion(name, values_,
                                  [](const auto& v) -> std::string_view { return v.first; }));
    }

    // `$name` as the whole value, or `${name}` anywhere in it; any other `$` is just a letter.
    void substitute(NodeId id) {
        std::string text(document_.text(id));
        std::string result;
        if (text.front() == '$' && is_name(std::string_view(text).substr(1))) {
            if (!append(result, id, text.substr(1)))
                return;
        } else {
            std::size_t at = 0;
            for (;;) {
                std::size_t open = text.find("${", at);
                std::size_t close = open == text.npos ? text.npos : text.find('}', open);
                if (close == text.npos)
                    break;
                result += text.substr(at, open - at);
                if (!append(result, id, text.substr(open + 2, close - open - 2)))
                    return;
                at = close + 1;
            }
            result += text.substr(at);
        }
        added_ += result.size();
        if (added_ > most_added)
            return r_.problem(id, "the parameters make the plan too long");
        document_.set_text(id, result);
    }

    bool append(std::string& result, NodeId id, const std::string& name) {
        auto found = values_.find(name);
        if (found != values_.end())
            result += found->second;
        else
            r_.problem(id, unknown(name));
        return found != values_.end();
    }

    static constexpr std::size_t most_added = limits::parameter_bytes;

    Document& document_;
    Reader& r_;
    std::map<std::string, std::string, std::less<>> values_;
    std::unordered_set<NodeId> own_; // the values in `params` themselves
    std::size_t added_ = 0;
    Suggester suggester_;
};

} // namespace

void fill_in_parameters(Document& document, Reader& r, const Settings& settings) {
    Parameters(document, r).run(settings);
}

} // namespace jackal::plan
