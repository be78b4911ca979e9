#include "reach/engine/columns.h"

#include "jackal/sorted.h"
#include "reach/parallel.h"

#include <algorithm>
#include <memory>

namespace jackal::reach {

Columns::Columns(const routing::Settled& settled, const std::vector<EndClass>& classes,
                 const Packets& packets, unsigned threads)
    : settled_(settled), lab_(settled.lab()), classes_(classes), packets_(packets),
      doors_(settled, packets), points_(lab_), near_answers_(classes.size()) {
    find_entrances();
    fill_all(threads);
    for (std::uint32_t c = 0; c < classes_.size(); ++c)
        for (const auto& [from, fate] : answers_to(c).near)
            near_answers_[from].emplace_back(c, fate);
}

std::uint32_t Columns::add_entrance(Doors::Place place) {
    auto [found, is_new] =
        entrance_numbers_.try_emplace(place, static_cast<std::uint32_t>(entrances_.size()));
    if (is_new)
        entrances_.push_back(place);
    return found->second;
}

void Columns::find_entrances() {
    for (std::uint32_t c = 0; c < classes_.size(); ++c) {
        const EndClass& sender = classes_[c];
        std::uint32_t number = nowhere;
        if (!sender.is_plain)
            number = add_entrance(doors_.sender(machine(sender.first)));
        else if (sender.gateway)
            number = add_entrance(doors_.door(sender.gateway));
        entrance_of_.push_back(number);
        if (sender.is_host)
            hosts_[lab_.addresses[sender.first].prefix()].push_back(c);
        else
            for (lab::NicId in : lab_.nics_of(machine(sender.first)))
                add_entrance(doors_.answerer(doors_.door(in)));
    }
    for (const auto& [prefix, hosts] : hosts_)
        host_lengths_.push_back(prefix.length());
    sort_unique(host_lengths_);
}

std::uint32_t Columns::answers_from(std::uint32_t end_class, Doors::Place door) const {
    if (classes_[end_class].is_host || door == Fate::none)
        return entrance_of_[end_class];
    return entrance_numbers_.at(doors_.answerer(door));
}

void Columns::fill_all(unsigned threads) {
    constexpr std::size_t stretch = 16;
    for (auto& side : columns_)
        side.resize(classes_.size());
    struct Worker {
        Points points;
        Column column;
        std::vector<std::uint32_t> filled;
        Worker(const Columns& all)
            : points(all.lab_), column(all.settled_, all.packets_, all.doors_, points) {}
    };
    std::vector<std::unique_ptr<Worker>> workers(threads);
    in_parallel(classes_.size(), stretch, threads,
                [&](unsigned number, std::size_t first, std::size_t last) {
                    std::unique_ptr<Worker>& worker = workers[number];
                    if (!worker)
                        worker = std::make_unique<Worker>(*this);
                    for (std::size_t c = first; c < last; ++c) {
                        fill(static_cast<std::uint32_t>(c), worker->column);
                        worker->filled.push_back(static_cast<std::uint32_t>(c));
                    }
                });
    for (const auto& worker : workers) {
        if (!worker)
            continue;
        std::vector<std::uint32_t> numbers = points_.merge(worker->points);
        for (std::uint32_t c : worker->filled)
            for (auto& side : columns_) {
                for (Fate& fate : side[c].fates)
                    fate.points = numbers[fate.points];
                for (auto& [from, fate] : side[c].near)
                    fate.points = numbers[fate.points];
            }
    }
}

void Columns::fill(std::uint32_t c, Column& column) {
    if (classes_[c].is_walked)
        return;
    fill(c, column, false);
    if (column.differs_for_answers())
        fill(c, column, true);
}

void Columns::fill(std::uint32_t c, Column& column, bool is_answer) {
    const EndClass& target = classes_[c];
    OfClass& into = columns_[is_answer ? 1 : 0][c];
    net::Address address = lab_.addresses[target.first].address;
    column.aim_at(address, is_answer);
    for (Doors::Place place : entrances_)
        into.fates.push_back(column.fate(place));
    auto add_near = [&](std::uint32_t near, lab::AddressId sender) {
        into.near.emplace_back(near, column.fate(doors_.sender(machine(sender))));
    };
    for (int length : host_lengths_) {
        auto hosts = hosts_.find(net::Prefix(address, length));
        if (hosts == hosts_.end())
            continue;
        for (std::uint32_t near : hosts->second)
            if (near != c)
                add_near(near, classes_[near].first);
            else if (target.second)
                add_near(near, target.second);
    }
    std::ranges::sort(into.near, {}, [](const auto& near) { return near.first; });
    into.self = column.fate(doors_.sender(machine(target.first)));
}

} // namespace jackal::reach
