#include "jackal/export/facts.h"

#include "export/settings/settings.h"
#include "jackal/export/json.h"
#include "jackal/limits.h"

#include <algorithm>
#include <fmt/format.h>
#include <nlohmann/json.hpp>

namespace jackal::exports {

using nlohmann::json;

namespace {

class Reader {
  public:
    Reader(const std::string& name, const std::map<std::string, std::string>& files,
           std::vector<std::string>& problems)
        : files_(files), problems_(problems) {
        found_.name = name;
    }

    reach::FoundMachine run() {
        found_.answers = !files_.contains("silent");
        if (!found_.answers)
            return std::move(found_);
        read("address.json", [&](const json& rows) { nics(rows); });
        read("route.json", [&](const json& rows) { routes(rows, net::Family::ipv4); });
        read("route6.json", [&](const json& rows) { routes(rows, net::Family::ipv6); });
        read("neighbour.json", [&](const json& rows) { neighbours(rows); });
        read("nft.json", [&](const json& all) { read_rules(all.at("nftables"), found_); });
        if (auto file = files_.find("forwarding"); file != files_.end())
            for (net::Family family : net::both_families)
                if (const std::size_t at = family == net::Family::ipv4 ? 0 : 2;
                    file->second.size() > at)
                    found_.forwards[family] = file->second[at] != '0';
        return std::move(found_);
    }

  private:
    template <class Use>
    void read(const std::string& file, Use use) {
        auto text = files_.find(file);
        if (text == files_.end())
            return;
        if (const auto at = too_deep_at(text->second))
            return complain(
                file, *at, fmt::format("this nests deeper than {} levels", limits::document_depth));
        try {
            use(json::parse(text->second.empty() ? "[]" : text->second));
        } catch (const json::parse_error& error) {
            complain(file, error.byte == 0 ? 0 : error.byte - 1, "this is no JSON");
        } catch (const json::exception&) {
            complain(file, 0, "this is not what `ip -json` or `nft -j` prints");
        }
    }

    void complain(const std::string& file, std::size_t byte, std::string_view what) {
        const std::string_view before = std::string_view(files_.at(file)).substr(0, byte);
        const auto line = std::ranges::count(before, '\n') + 1;
        const std::size_t column = before.size() - (before.rfind('\n') + 1) + 1;
        problems_.push_back(fmt::format("{}/{}:{}:{}: {}", found_.name, file, line, column, what));
    }

    // What the kernel lets a device be called (dev_valid_name of its net/core/dev.c).
    static bool is_device_name(std::string_view name) {
        constexpr std::size_t longest = 15;
        return !name.empty() && name.size() <= longest && name != "." && name != ".."
               && name.find_first_of("/: \t\n\v\f\r\xa0") == name.npos;
    }

    static std::string word(const json& row, const char* key) {
        return row.value(key, std::string());
    }

    void nics(const json& rows) {
        for (const json& row : rows) {
            if (!row.contains("ifname")) // ip prints empty objects for what it leaves out
                continue;
            reach::FoundNic nic{
                .name = word(row, "ifname"),
                .mac = net::parse_mac(word(row, "address")).value_or(net::Mac{}),
                .mtu_bytes = static_cast<std::uint16_t>(std::min(row.value("mtu", 0U), 65535U))};
            if (!is_device_name(nic.name)) {
                complain(
                    "address.json", 0,
                    fmt::format("no interface can be called \"{}\"", plan::printable(nic.name)));
                continue;
            }
            for (const json& flag : row.value("flags", json::array())) {
                nic.up |= flag == "UP";
                nic.has_carrier |= flag == "LOWER_UP";
            }
            for (const json& entry : row.value("addr_info", json::array())) {
                const std::string scope = word(entry, "scope");
                auto address = net::parse_address(word(entry, "local"));
                const bool is_hosts_own = scope == "host" || scope == "link";
                if (address && !is_hosts_own)
                    nic.addresses.push_back(
                        {*address, static_cast<std::uint8_t>(entry.value("prefixlen", 0U))});
            }
            found_.nics.push_back(std::move(nic));
        }
    }

    // What the kernel adds itself, and what routers advertise, is left out.
    void routes(const json& rows, net::Family family) {
        for (const json& row : rows) {
            constexpr std::array set{"static", "boot", "dhcp"};
            constexpr std::array taught{"bird", "ospf", "rip", "bgp", "zebra", "isis", "babel"};
            auto is_one_of = [&](const auto& words) {
                return std::ranges::find(words, row.value("protocol", "boot")) != words.end();
            };
            const json& way = row.contains("nexthops") ? row["nexthops"].at(0) : row;
            const auto via = net::parse_address(word(way, "gateway"));
            if (!via || !(is_one_of(set) || is_one_of(taught)))
                continue;
            std::string to = word(row, "dst");
            if (to == "default")
                to = net::to_string(net::Prefix::everything(family));
            else if (to.find('/') == to.npos)
                to += fmt::format("/{}", net::address_bits(family));
            if (auto prefix = net::parse_prefix(to))
                found_.routes.push_back(
                    {*prefix, *via, word(way, "dev"), row.value("metric", 0U), is_one_of(taught)});
        }
    }

    void neighbours(const json& rows) {
        std::map<std::string, reach::FoundNic*> nics;
        for (reach::FoundNic& nic : found_.nics)
            nics.emplace(nic.name, &nic);
        for (const json& row : rows) {
            const auto mac = net::parse_mac(word(row, "lladdr"));
            auto nic = nics.find(word(row, "dev"));
            if (mac && nic != nics.end())
                nic->second->heard.push_back(*mac);
        }
    }

    const std::map<std::string, std::string>& files_;
    std::vector<std::string>& problems_;
    reach::FoundMachine found_;
};

} // namespace

reach::FoundMachine found_machine(const std::string& name,
                                  const std::map<std::string, std::string>& files,
                                  std::vector<std::string>& problems) {
    return Reader(name, files, problems).run();
}

std::string gather_script(const lab::Lab& lab) {
    std::string names;
    std::size_t line = 0;
    for (const lab::Machine& machine : lab.machines) {
        if (machine.outside)
            continue;
        constexpr std::size_t width = 90;
        const bool is_full = names.size() - line + machine.name.size() > width;
        names += names.empty() ? "" : is_full ? "\n" : " ";
        line = is_full ? names.size() : line;
        names += machine.name;
    }
    return fmt::format(fmt::runtime(gather_text), lab.name, names);
}

} // namespace jackal::exports
