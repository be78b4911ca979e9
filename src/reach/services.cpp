#include "jackal/reach/services.h"

#include "jackal/limits.h"
#include "jackal/sorted.h"
#include "reach/pairs.h"
#include "reach/service_ranges.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>
#include <stdexcept>

namespace jackal::reach {

namespace {

constexpr std::uint16_t first_port = 1;
constexpr std::uint16_t last_port = 65535;

// The ports that a stretch of alike ones starts at.
using Starts = std::vector<std::uint32_t>;

void add(const net::Ports& ports, Starts& into) {
    into.push_back(ports.first);
    into.push_back(std::uint32_t{ports.last} + 1);
}

Starts starts(const lab::Lab& lab, net::Protocol protocol) {
    Starts found{first_port};
    auto is_about = [&](net::Protocol other) {
        return other == protocol || other == net::Protocol::any;
    };
    for (const lab::Filter& filter : lab.filters)
        for (const lab::FilterRule& rule : filter.rules)
            if (is_about(rule.protocol))
                for (const net::Ports& ports : rule.ports)
                    add(ports, found);
    for (const lab::Duties& duties : lab.duties)
        for (const lab::Translation& rule : duties.translations)
            if (is_about(rule.protocol) && rule.port != 0)
                add({rule.port, rule.port}, found);
    std::erase_if(found, [](std::uint32_t port) { return port < first_port || port > last_port; });
    sort_unique(found);
    return found;
}

// Ranges side by side as one.
std::vector<ServiceRange> joined(const std::vector<ServiceRange>& ranges) {
    std::vector<ServiceRange> all;
    for (const ServiceRange& range : ranges)
        if (!all.empty() && all.back().protocol == range.protocol
            && std::uint32_t{all.back().ports.last} + 1 == range.ports.first)
            all.back().ports.last = range.ports.last;
        else
            all.push_back(range);
    return all;
}

bool is_whole(const ServiceRange& range) {
    return range.protocol == net::Protocol::icmp
           || (range.ports.first == first_port && range.ports.last == last_port);
}

} // namespace

std::string to_string(const std::vector<ServiceRange>& services) {
    if (services.empty())
        return "nothing";
    if (services.size() == 3 && std::ranges::all_of(services, is_whole))
        return "everything";
    std::string text;
    for (const ServiceRange& range : services) {
        text += text.empty() ? "" : ", ";
        text += net::to_string(range.protocol);
        if (!is_whole(range))
            text += '/' + net::to_string(range.ports);
    }
    return text;
}

std::vector<ServiceRange> service_classes(const lab::Lab& lab) {
    std::vector<ServiceRange> classes{{net::Protocol::icmp, {}}};
    for (net::Protocol protocol : {net::Protocol::tcp, net::Protocol::udp}) {
        Starts found = starts(lab, protocol);
        for (std::size_t i = 0; i < found.size(); ++i) {
            std::uint32_t end = i + 1 < found.size() ? found[i + 1] : last_port + 1U;
            classes.push_back(
                {protocol,
                 {static_cast<std::uint16_t>(found[i]), static_cast<std::uint16_t>(end - 1)}});
        }
    }
    return classes;
}

std::optional<net::Service> example_of(const ServiceRange& range) {
    if (range.protocol == net::Protocol::icmp)
        return std::nullopt;
    return net::Service{range.protocol,
                        net::has_ports(range.protocol) ? range.ports.first : std::uint16_t{0}};
}

void refuse_many(const std::vector<ServiceRange>& classes) {
    if (classes.size() > limits::service_classes)
        throw std::length_error(fmt::format("rules tell {} ranges of ports apart, more than {}",
                                            classes.size(), limits::service_classes));
}

ServicesGrid services(const routing::Settled& settled, const GridQuestion& question,
                      const std::function<void(std::size_t, std::size_t)>& progress) {
    const std::vector<ServiceRange> classes = service_classes(settled.lab());
    refuse_many(classes);
    std::vector<Asking> askings;
    for (const ServiceRange& one : classes)
        askings.push_back({.service = example_of(one), .is_served = true});
    Pairs pairs(settled, question, askings);
    pairs.refuse_many_cells();
    ServicesGrid grid{.rows = pairs.rows(), .columns = pairs.columns(), .cells = {}};
    for (std::size_t row = 0; row < grid.rows.size(); ++row) {
        for (std::size_t column = 0; column < grid.columns.size(); ++column) {
            std::map<std::vector<bool>, std::uint64_t> counts;
            pairs.each(row, column, [&](const PairOfNics& pair) {
                std::vector<bool> through(classes.size());
                for (std::size_t i = 0; i < classes.size(); ++i)
                    through[i] = pairs.gets_answer(pair, i);
                counts[through] += pair.pairs;
            });
            ServicesCell& cell = grid.cells.emplace_back();
            for (const auto& [through, count] : counts) {
                std::vector<ServiceRange> ranges;
                for (std::size_t i = 0; i < classes.size(); ++i)
                    if (through[i])
                        ranges.push_back(classes[i]);
                cell.through.push_back({count, joined(ranges)});
            }
            std::ranges::stable_sort(cell.through, std::greater(), &Through::pairs);
        }
        if (progress)
            progress(row + 1, grid.rows.size());
    }
    return grid;
}

} // namespace jackal::reach
