#include "export/renumber/renumberer.h"
#include "jackal/export/pin.h"
#include "jackal/lab/build.h"

#include <fmt/format.h>

namespace jackal::exports {

Renumbering renumber(std::string_view text, const std::string& source,
                     const plan::Settings& settings, std::string_view name, const net::Prefix& to) {
    Renumberer r{.text = text, .source = source, .settings = settings, .to = to};
    plan::Reading reading = plan::read(text, source, settings);
    r.result.problems = std::move(reading.problems);
    if (!reading.plan)
        return std::move(r.result);
    r.plan = std::move(*reading.plan);
    r.lab = lab::build(*r.plan);
    if (auto site = r.lab.site(name))
        find_site_moves(r, *site);
    else if (auto subnet = r.lab.subnet(name))
        find_subnet_move(r, *subnet);
    else
        r.problem({}, fmt::format("there is no site or subnet \"{}\" to renumber", name));
    if (r.result.problems.empty())
        rewrite(r);
    return std::move(r.result);
}

} // namespace jackal::exports
