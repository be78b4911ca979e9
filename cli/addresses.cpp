#include "command.h"

#include <charconv>
#include <fmt/format.h>

namespace jackal::cli {

namespace {

// The lower half of an IPv6 address, as it stands behind its /64: `::1`.
std::string host_part(net::Address a) {
    std::string text = net::to_string(net::Address(0, a.low()));
    return text.starts_with("::") ? text : "::" + text;
}

std::string count_text(std::uint64_t n) {
    constexpr std::uint64_t readable = 10'000'000;
    return n > readable ? "plenty" : fmt::format("{}", n);
}

// `10.40.0.1-126`, or in IPv6 the host parts: `::1 to ::ff`, `::1 and up` where all follow.
std::string range_text(const net::Range& range) {
    if (range.first.family() == net::Family::ipv6) {
        if (range.last.low() == ~std::uint64_t{0})
            return host_part(range.first) + " and up";
        return fmt::format("{} to {}", host_part(range.first), host_part(range.last));
    }
    std::uint64_t first = range.first.low();
    std::uint64_t last = range.last.low();
    std::string text = net::to_string(range.first);
    if (first == last)
        return text;
    if (first >> 8 == last >> 8)
        return fmt::format("{}-{}", text, last & 0xff);
    return fmt::format("{} to {}", text, net::to_string(range.last));
}

std::string gateway_text(const lab::PrefixUsage& row) {
    if (!row.gateway)
        return "";
    bool short_is_enough = row.prefix.family() == net::Family::ipv6 && row.prefix.length() <= 64
                           && row.prefix.contains(*row.gateway);
    return short_is_enough ? host_part(*row.gateway) : net::to_string(*row.gateway);
}

// One mark for each part of a space: how much of it is in use.
std::string bar(const lab::SpaceUsage& row) {
    std::string marks;
    for (double share : row.parts)
        marks += share == 0 ? '.' : share < 0.5 ? '-' : share < 1 ? '+' : '#';
    return fmt::format("[{}]", marks);
}

std::string percent(double share) {
    if (share > 0 && share < 0.001)
        return "under 0.1 %";
    return fmt::format("{:.1f} %", share * 100);
}

// The largest blocks first, as many as there is room for on a line.
std::string free_blocks(std::vector<net::Prefix> free) {
    constexpr std::size_t widest = 44;
    if (free.empty())
        return "nothing";
    std::ranges::stable_sort(free, {}, &net::Prefix::length);
    std::string text = net::to_string(free.front());
    std::size_t shown = 1;
    for (; shown < free.size(); ++shown) {
        std::string more = "  " + net::to_string(free[shown]);
        if (text.size() + more.size() > widest)
            break;
        text += more;
    }
    if (shown < free.size())
        text += fmt::format("  and {} smaller", free.size() - shown);
    return text;
}

std::string spaces_text(const Style& style, const lab::Lab& lab) {
    Table table({"site or pool", "space", "in use", "", "largest free blocks"});
    std::vector<lab::SpaceUsage> rows = lab::space_usage(lab);
    std::string last;
    for (const lab::SpaceUsage& row : rows) {
        std::string name = row.pool ? "pool " + lab.pools[row.pool].name : lab.sites[row.site].name;
        if (row.site && lab.sites[row.site].space_chosen)
            name += name.empty() ? "(chosen)" : " (chosen)";
        table.add({name == last ? "" : style.strong(name), net::to_string(row.space), bar(row),
                   percent(row.used_share), free_blocks(row.free)});
        last = name;
    }
    if (rows.empty())
        return "";
    return "\n" + table.text(style, 2)
           + style.faint("\n  each mark is a 32nd of the space:  . free  - less than half in use  "
                         "+ more than half  # all in use\n");
}

struct AddressesOptions {
    PlanOptions plan;
    std::string free;
    std::string whose;
    std::string why;
    std::string renumber;
    bool pin = false;
    bool write = false;
};

// `/26` or `26`: up to 32 an IPv4 prefix, beyond it an IPv6 one.
std::pair<net::Family, int> size_wanted(const std::string& text) {
    std::string digits = text.substr(text.starts_with('/') ? 1 : 0);
    int length = -1;
    auto [end, error] = std::from_chars(digits.data(), digits.data() + digits.size(), length);
    if (error != std::errc{} || end != digits.data() + digits.size() || length < 1 || length > 128)
        throw NotAsked(
            fmt::format("--free {}: write a prefix length such as /26, or /64 for IPv6", text));
    return {length <= 32 ? net::Family::ipv4 : net::Family::ipv6, length};
}

std::string rooms_text(const Style& style, const lab::Lab& lab,
                       const std::vector<lab::Room>& rooms) {
    Table table({"site", "next place", "in the free block", "that holds"});
    lab::SiteId last;
    for (const lab::Room& room : rooms) {
        table.add({room.site == last ? "" : style.strong(lab.sites[room.site].name),
                   net::to_string(room.first), net::to_string(room.block), count_text(room.count)});
        last = room.site;
    }
    return table.text(style, 2);
}

Outcome show_rooms(const Style& style, const lab::Lab& lab, const AddressesOptions& options) {
    auto [family, length] = size_wanted(options.free);
    std::vector<lab::Room> rooms = lab::rooms(lab, family, length);
    int status = rooms.empty() ? status_no : status_well;
    if (options.plan.format == Format::csv)
        return {exports::rooms_csv(lab, rooms), status};
    if (options.plan.json())
        return {exports::rooms_json(lab, rooms) + "\n", status};
    if (rooms.empty())
        return {fmt::format("no site has room for a /{}\n", length), status};
    return {rooms_text(style, lab, rooms), status};
}

Outcome show_whose(const Style& style, const lab::Lab& lab, const AddressesOptions& options) {
    auto address = net::parse_address(options.whose);
    if (!address)
        throw NotAsked(fmt::format("--whose {}: not an IPv4 or IPv6 address", options.whose));
    if (options.plan.format == Format::csv)
        throw NotAsked("--whose has no csv; write --format json");
    lab::Whose whose = lab::AddressMap(lab).whose(*address);
    int status = whose.kind == lab::Whose::Kind::outside ? status_no : status_well;
    if (options.plan.json())
        return {exports::whose_json(lab, *address, whose) + "\n", status};
    return {fmt::format("{} {}\n", style.strong(net::to_string(*address)),
                        exports::whose_text(lab, *address, whose)),
            status};
}

Outcome show_why(const Style& style, const Opened& opened, const AddressesOptions& options) {
    std::vector<exports::Why> whys = exports::why(opened.plan, opened.lab, options.why);
    if (whys.empty())
        throw NotAsked(fmt::format("--why {}: no subnet, link (ONE--OTHER) or loopback "
                                   "(MACHINE/lo) of that name has a prefix",
                                   options.why));
    if (options.plan.format == Format::csv)
        throw NotAsked("--why has no csv; write --format json");
    if (options.plan.json())
        return {exports::why_json(opened.plan, options.why, whys) + "\n"};
    std::string text;
    for (const exports::Why& why : whys)
        text += fmt::format("{} has {}: {}\n", options.why,
                            style.strong(net::to_string(why.prefix)), why.text);
    return {text};
}

Outcome show_all(const Style& style, const lab::Lab& lab, const PlanOptions& options) {
    int status = lab.unplaced.empty() ? status_well : status_no;
    if (options.format == Format::csv)
        return {exports::addresses_csv(lab), status};
    if (options.json())
        return {exports::addresses_json(lab) + "\n", status};
    std::string text = addresses_text(style, lab);
    constexpr std::size_t most = 20;
    for (std::size_t i = 0; i < std::min(most, lab.unplaced.size()); ++i) {
        const lab::Unplaced& row = lab.unplaced[i];
        text += fmt::format("{}{} {}: {}\n", i == 0 ? "\n" : "", style.bad("no room"),
                            style.faint(plan::to_string(row.at, lab.source)),
                            fmt::format("{}, but {}", row.what, row.why));
    }
    if (lab.unplaced.size() > most)
        text += fmt::format("and {} more\n", lab.unplaced.size() - most);
    return {text, status};
}

} // namespace

std::string addresses_text(const Style& style, const lab::Lab& lab) {
    Table table(
        {"segment", "prefix", "mask", "usable", "gateway", "DHCP", "used", "free", "growth left"});
    for (std::size_t column : {6, 7, 8})
        table.right(column);
    std::vector<lab::PrefixUsage> rows = lab::usage(lab);
    auto add_group = [&](const std::string& heading, auto belongs) {
        lab::SegmentId last;
        for (const lab::PrefixUsage& row : rows) {
            if (!belongs(row))
                continue;
            if (!last)
                table.add_line("\n" + heading);
            bool ipv4 = row.prefix.family() == net::Family::ipv4;
            bool alone = row.prefix.host_bits() == 0;
            table.add(
                {row.segment == last ? "" : lab.segment_name(row.segment),
                 net::to_string(row.prefix), ipv4 ? exports::mask_text(row.prefix) : "",
                 alone ? "" : range_text({row.prefix.first_usable(), row.prefix.last_usable()}),
                 gateway_text(row), row.dhcp ? range_text(*row.dhcp) : "",
                 fmt::format("{}", row.used), count_text(row.free),
                 row.growth_left ? count_text(*row.growth_left) : ""});
            last = row.segment;
        }
    };
    for (lab::SiteId site : lab.sites.ids()) {
        const lab::Site& entry = lab.sites[site];
        add_group(entry.name.empty() ? fmt::format("lab {}", style.strong(lab.name))
                                     : fmt::format("site {}", style.strong(entry.name)),
                  [&](const lab::PrefixUsage& row) { return row.site == site; });
    }
    add_group("links", [&](const auto& row) { return bool(lab.segments[row.segment].link); });
    add_group("loopbacks",
              [&](const auto& row) { return bool(lab.segments[row.segment].loopback); });
    return table.text(style, 2) + spaces_text(style, lab);
}

void add_addresses(CLI::App& app, Run& run) {
    auto options = std::make_shared<AddressesOptions>();
    CLI::App* command =
        app.add_subcommand("addresses", "the address plan: prefixes, gateways, used and free");
    add_table_options(*command, options->plan);
    auto* free = command->add_option("--free", options->free,
                                     "where a new subnet with a prefix of that length could go");
    free->type_name("/LENGTH");
    auto* whose = command->add_option("--whose", options->whose, "what this address is");
    whose->type_name("ADDRESS")->excludes(free);
    auto* why = command->add_option(
        "--why", options->why,
        "why a subnet, link (ONE--OTHER) or loopback (MACHINE/lo) has its prefixes");
    why->type_name("NAME")->excludes(free)->excludes(whose);
    auto* renumber = command->add_option(
        "--renumber", options->renumber,
        "what moves when a site or subnet gets this range instead; with --write, move it");
    renumber->type_name("NAME=PREFIX")->excludes(free)->excludes(whose)->excludes(why);
    command->add_flag("--write", options->write, "carry --renumber out in the plan file")
        ->needs(renumber);
    command
        ->add_flag("--pin", options->pin,
                   "write what was chosen into the plan file, so that no edit moves it later")
        ->excludes(free)
        ->excludes(whose)
        ->excludes(why)
        ->excludes(renumber);
    command->footer(
        "Examples:\n"
        "  jackal addresses skerry.yaml\n"
        "  jackal addresses skerry.yaml --free /26\n"
        "  jackal addresses skerry.yaml --whose 10.40.8.20\n"
        "  jackal addresses skerry.yaml --why quay\n"
        "  jackal addresses skerry.yaml --pin\n"
        "  jackal addresses skerry.yaml --renumber skerry=10.44.0.0/16 --write\n"
        "\n"
        "Exit status 1 if something found no room, nothing is free, the address is\n"
        "outside the lab, or a renumbering brings an error. Files are written whole or\n"
        "not at all.");
    command->callback([&run, options] {
        run = [options](const Style& style) -> Outcome {
            if (options->pin)
                return pin_plan(style, options->plan);
            if (!options->renumber.empty())
                return renumber_plan(style, options->plan, options->renumber, options->write);
            Opened opened = open_plan(options->plan);
            if (!options->why.empty())
                return show_why(style, opened, *options);
            if (!options->free.empty())
                return show_rooms(style, opened.lab, *options);
            if (!options->whose.empty())
                return show_whose(style, opened.lab, *options);
            return show_all(style, opened.lab, options->plan);
        };
    });
}

} // namespace jackal::cli
