// Every pair of a random lab at once, held against a walk of each.
#include "../sanitized.h"
#include "jackal/jackal.h"
#include "random_lab.h"
#include "seeds.h"

#include <cstdlib>
#include <doctest/doctest.h>

using namespace jackal;

namespace {

probe::Endpoint end_at(const lab::Lab& lab, lab::AddressId id) {
    lab::NicId nic = lab.addresses[id].nic;
    return {.name = lab.nic_name(nic),
            .machine = lab.nics[nic].machine,
            .nic = nic,
            .address = lab.addresses[id].address};
}

struct Held {
    std::uint64_t ends = 0;
    std::uint64_t classes = 0;
    std::uint64_t pairs = 0;
    std::uint64_t replies = 0;
    std::uint64_t walked = 0;
    std::uint64_t differ = 0;
};

void hold(const routing::Settled& settled, net::Family family, std::optional<net::Service> service,
          Held& held) {
    const lab::Lab& lab = settled.lab();
    reach::Matrix matrix =
        reach::matrix(settled, reach::ends(lab, family), {.service = service, .threads = 2});
    held.ends += matrix.ends().size();
    held.classes += matrix.classes();
    held.walked += matrix.walked();
    const auto& ends = matrix.ends();
    std::uint64_t others = 0;
    for (std::size_t from = 0; from < ends.size(); ++from)
        for (std::size_t to = 0; to < ends.size(); ++to) {
            probe::PingQuestion question{.from = end_at(lab, ends[from]),
                                         .to = end_at(lab, ends[to]),
                                         .service = service,
                                         .source = lab.addresses[ends[from]].address,
                                         .count = 1};
            bool walk = probe::exchange(settled, question).reaches;
            ++held.pairs;
            held.replies += walk ? 1 : 0;
            others += walk && from != to ? 1 : 0;
            if (matrix.reaches(from, to) == walk)
                continue;
            if (held.differ++ != 0)
                continue;
            INFO(question.from.name, " ", net::to_string(*question.source), " to ",
                 question.to.name, " ", net::to_string(*question.to.address), ": walk says ", walk,
                 ", services ", service ? net::to_string(*service) : "none", ", class ",
                 matrix.class_of(from), " to ", matrix.class_of(to));
            CHECK(matrix.reaches(from, to) == walk);
        }
    CHECK(matrix.replies() == others);
}

std::optional<net::Service> any_service(const lab::Lab& lab, std::uint64_t seed) {
    std::vector<net::Service> all{{net::Protocol::tcp, 22}, {net::Protocol::udp, 53}};
    for (const lab::Duties& duties : lab.duties)
        all.insert(all.end(), duties.listens.begin(), duties.listens.end());
    return all[seed % all.size()];
}

// The grid of all machines, each for itself, by asking every pair.
reach::Grid asked_one_by_one(const routing::Settled& settled, const reach::GridQuestion& question,
                             bool is_served = false) {
    const lab::Lab& lab = settled.lab();
    auto counts = [&](lab::NicId nic) {
        return lab.segments[lab.nics[nic].segment].subnet || lab.nics[nic].address_count != 0;
    };
    auto is_asked = [&](lab::NicId nic) { // nobody is asked where only its own way out leads
        return counts(nic) && !lab.is_own_way_out(lab.nics[nic].segment);
    };
    auto has_addresses = [&](lab::MachineId machine) {
        return std::ranges::any_of(
            lab.nics_of(machine), [&](lab::NicId nic) { return lab.nics[nic].address_count != 0; });
    };
    reach::Grid grid;
    std::vector<lab::MachineId> rows;
    std::vector<lab::MachineId> columns;
    for (lab::MachineId id : lab.machines.ids()) {
        bool is_host_outside = lab.machines[id].kind == plan::MachineKind::guest;
        if (std::ranges::none_of(lab.nics_of(id), counts))
            continue;
        if (!lab.machines[id].outside)
            rows.push_back(id);
        if (lab.machines[id].outside ? is_host_outside && has_addresses(id)
                                     : std::ranges::any_of(lab.nics_of(id), is_asked))
            columns.push_back(id);
    }
    for (lab::MachineId from : rows)
        for (lab::MachineId to : columns) {
            reach::Cell cell;
            for (lab::NicId nic : lab.nics_of(to)) {
                if (from == to || !is_asked(nic))
                    continue;
                auto exchange = probe::exchange(
                    settled, {.from = {.name = lab.machines[from].name, .machine = from},
                              .to = {.name = lab.nic_name(nic), .machine = to, .nic = nic},
                              .service = question.service,
                              .is_served = is_served,
                              .family = question.family,
                              .count = 1});
                bool one_family = exchange.gap == probe::Gap::no_address && has_addresses(from)
                                  && has_addresses(to);
                cell.pairs += one_family ? 0 : 1;
                cell.replies += exchange.reaches ? 1 : 0;
            }
            grid.cells.push_back(cell);
        }
    return grid;
}

} // namespace

TEST_CASE("the grid counts what asking every pair counts, and explains what gets no reply") {
    std::uint64_t count = sanitized ? 8 : 150;
    for (std::uint64_t seed = 1; seed <= count; ++seed) {
        CAPTURE(seed);
        lab::Lab lab = lab::build(*plan::read(judge::random_any(seed).dump(), "made-up.yaml").plan);
        routing::Settled settled = routing::settle(lab);
        reach::GridQuestion question{.by = reach::By::machine,
                                     .kind = reach::Kind::all,
                                     .service =
                                         seed % 5 == 0 ? any_service(lab, seed) : std::nullopt,
                                     .threads = 2};
        if (seed % 7 == 0)
            question.family = net::Family::ipv6;
        reach::Grid grid = reach::grid(settled, question);
        reach::Grid wanted = asked_one_by_one(settled, question);
        REQUIRE(grid.cells.size() == wanted.cells.size());
        for (std::size_t i = 0; i < grid.cells.size(); ++i) {
            CAPTURE(grid.rows[i / grid.columns.size()]);
            CAPTURE(grid.columns[i % grid.columns.size()]);
            CHECK(grid.cells[i].pairs == wanted.cells[i].pairs);
            CHECK(grid.cells[i].replies == wanted.cells[i].replies);
        }
        reach::Cell total = grid.total();
        std::uint64_t explained = grid.unexplained;
        for (const reach::GridGap& gap : grid.gaps)
            explained += gap.pairs;
        CHECK(explained == total.pairs - total.replies);
        for (reach::By by : {reach::By::subnet, reach::By::site}) {
            question.by = by;
            reach::Cell other = reach::grid(settled, question).total();
            CHECK(other.pairs >= total.pairs); // who is on several subnets asks from each
            CHECK((other.replies == other.pairs) == (total.replies == total.pairs));
        }
    }
}

TEST_CASE("what gets through is what would be answered on every port") {
    auto has = [](const reach::Through& through, const net::Service& service) {
        return std::ranges::any_of(through.services, [&](const reach::ServiceRange& range) {
            return range.protocol == service.protocol && range.ports.first <= service.port
                   && service.port <= range.ports.last;
        });
    };
    std::size_t told_apart = 0;
    std::uint64_t count = sanitized ? 2 : 40;
    for (std::uint64_t seed = 1; seed <= count; ++seed) {
        CAPTURE(seed);
        lab::Lab lab = lab::build(*plan::read(judge::random_any(seed).dump(), "made-up.yaml").plan);
        routing::Settled settled = routing::settle(lab);
        reach::GridQuestion question{.by = reach::By::machine, .kind = reach::Kind::all};
        reach::ServicesGrid grid = reach::services(settled, question);
        for (const reach::ServicesCell& cell : grid.cells)
            told_apart += cell.through.size() > 1
                                  || (!cell.through.empty() && cell.through[0].services.size() > 3)
                              ? 1
                              : 0;
        for (unsigned port : {1, 22, 23, 53, 80, 8080, 9000, 65535})
            for (net::Protocol protocol : {net::Protocol::tcp, net::Protocol::udp}) {
                question.service = net::Service{protocol, static_cast<std::uint16_t>(port)};
                CAPTURE(net::to_string(*question.service));
                reach::Grid wanted = asked_one_by_one(settled, question, true);
                std::size_t differ = 0;
                for (std::size_t i = 0; i < grid.cells.size(); ++i) {
                    std::uint64_t through = 0;
                    for (const reach::Through& some : grid.cells[i].through)
                        through += has(some, *question.service) ? some.pairs : 0;
                    differ += through == wanted.cells[i].replies ? 0 : 1;
                }
                CHECK(differ == 0);
            }
    }
    CHECK(told_apart > count);
}

TEST_CASE("what reaches what, as expectations, is met and covers every pair") {
    std::uint64_t count = sanitized ? 4 : 100;
    std::size_t entries = 0;
    std::size_t pairs = 0;
    for (std::uint64_t seed = 1; seed <= count; ++seed) {
        CAPTURE(seed);
        judge::Json text = judge::random_any(seed);
        lab::Lab lab = lab::build(*plan::read(text.dump(), "made-up.yaml").plan);
        std::optional<net::Service> service = seed % 4 == 1 ? any_service(lab, seed) : std::nullopt;
        auto wanted = reach::expectations(routing::settle(lab), {.service = service});
        text.erase("expect");
        std::string section = exports::expect_section(wanted);
        judge::Json list = judge::Json::array();
        for (const plan::Expectation& one : wanted) {
            judge::Json ends{one.from.value, one.to.value};
            if (one.service)
                ends.push_back(net::to_string(*one.service));
            list.push_back({{one.service ? "connect" : "ping", ends}, {"gets", one.gets.value}});
        }
        text["expect"] = list;
        plan::Reading reading = plan::read(text.dump(), "frozen.yaml");
        REQUIRE(reading.plan);
        lab::Lab again = lab::build(*reading.plan);
        for (const reach::Verdict& verdict : reach::verify(routing::settle(again))) {
            CAPTURE(verdict.explanation);
            CHECK(verdict.passed);
        }
        std::set<std::pair<lab::MachineId, lab::NicId>> covered; // a machine asks for a NIC
        for (const plan::Expectation& one : wanted)
            probe::asked(lab, one.from.value, one.to.value)
                .each([&](const probe::Endpoint& from, const probe::Endpoint& to) {
                    covered.emplace(from.machine,
                                    to.nic ? to.nic : lab.machines[to.machine].first_nic);
                });
        std::vector<probe::Endpoint> ends;
        for (const lab::Subnet& subnet : lab.subnets)
            if (!subnet.outside)
                for (probe::Endpoint& end : probe::endpoints(lab, subnet.name))
                    ends.push_back(std::move(end));
        std::set<std::pair<lab::MachineId, lab::NicId>> all;
        for (const probe::Endpoint& from : ends)
            for (const probe::Endpoint& to : ends)
                if (from.machine != to.machine)
                    all.emplace(from.machine, to.nic);
        CHECK(covered == all);
        CHECK(wanted.size() <= ends.size() * ends.size());
        CHECK(section.size() > 8 * wanted.size());
        entries += wanted.size();
        pairs += all.size();
    }
    MESSAGE(entries, " entries for ", pairs, " pairs");
    CHECK(entries * 2 < pairs);
}

TEST_CASE("the matrix says of every pair what a walk says") {
    Held held;
    for (std::uint64_t seed : judge::seeds(300, 12)) {
        CAPTURE(seed);
        std::string text = judge::random_any(seed).dump();
        plan::Reading reading = plan::read(text, "made-up.yaml");
        REQUIRE(reading.plan);
        lab::Lab lab = lab::build(*reading.plan);
        routing::Settled settled = routing::settle(lab);
        std::uint64_t before = held.differ;
        for (net::Family family : net::both_families) {
            hold(settled, family, std::nullopt, held);
            hold(settled, family, any_service(lab, seed), held);
        }
        if (held.differ != before) {
            MESSAGE("seed ", seed, " differs in ", held.differ - before);
            if (std::getenv("JACKAL_PRINT") != nullptr)
                MESSAGE(text);
        }
    }
    MESSAGE(held.ends, " ends, ", held.classes, " classes, ", held.pairs, " pairs, ", held.replies,
            " answered, ", held.walked, " walked, ", held.differ, " differ");
    CHECK(held.differ == 0);
    CHECK(held.replies > held.pairs / 10);
    CHECK(held.walked < held.pairs / 2);
    CHECK(held.classes < held.ends);
}
