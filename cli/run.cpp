#include "run.h"

#include "process.h"

#include <cstdio>
#include <fmt/format.h>

namespace jackal::cli {

namespace {

// Help as CLI11 makes it, but for the words of ping and trace, whose first one may be left out.
class HelpFormatter : public CLI::Formatter {
  public:
    std::string make_option_usage(const CLI::Option* option) const override {
        std::string name = word(option);
        return option->get_required() ? name : fmt::format("[{}]", name);
    }
    std::string make_option_name(const CLI::Option* option, bool positional) const override {
        return positional ? word(option) : CLI::Formatter::make_option_name(option, positional);
    }
    std::string make_option_opts(const CLI::Option* option) const override {
        if (option->get_positional())
            return "";
        std::string type = option->get_type_size() == 0 ? "" : " " + option->get_type_name();
        bool takes_more = option->get_expected_max() > option->get_expected_min();
        return takes_more ? type + " ..." : type;
    }

  private:
    static std::string word(const CLI::Option* option) {
        std::string name = option->get_name(true);
        return name == "WORDS"           ? "[PLAN] FROM TO"
               : name == "SERVICE_WORDS" ? "[PLAN] FROM TO SERVICE"
               : name == "SITE_WORDS"    ? "[PLAN] SITE SITE"
                                         : name;
    }
};

} // namespace

void set_help(CLI::App& app) {
    auto formatter = std::make_shared<HelpFormatter>();
    formatter->column_width(30);
    app.formatter(formatter);
}

int print(const Outcome& outcome) {
    std::size_t written = std::fwrite(outcome.text.data(), 1, outcome.text.size(), stdout);
    if (written == outcome.text.size() && std::fflush(stdout) == 0)
        return outcome.status;
    complain("the answer could not be written to standard output");
    return status_not_asked;
}

} // namespace jackal::cli
