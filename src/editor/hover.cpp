#include "editor/lab_words.h"
#include "jackal/editor/view.h"
#include "jackal/export/words.h"
#include "jackal/lab/usage.h"

#include <algorithm>
#include <fmt/format.h>

namespace jackal::editor {

namespace {

std::string joined(const std::vector<std::string>& words, std::string_view between = ", ") {
    std::string text;
    for (const std::string& word : words)
        text += (text.empty() ? std::string_view() : between), text += word;
    return text;
}

class Teller {
  public:
    Teller(const View& view, const reach::Check* check)
        : view_(view), check_(check), plan_(*view.plan()), lab_(*view.lab()) {}

    // Empty if there is nothing to say.
    std::string mention(const Mention& mention) const {
        switch (mention.kind) {
        case Kind::site: return site(mention.name);
        case Kind::subnet: return subnet(mention.name);
        case Kind::machine: return machine(mention.name);
        case Kind::filter: return filter(mention.name);
        case Kind::port: return port(mention.name);
        case Kind::pool: return pool(mention.name);
        default: return "";
        }
    }

    std::string spot(const Spot& spot) const {
        const auto& path = spot.path;
        const std::string& section = path.front().key;
        if (path.size() >= 4 && (section == "guests" || section == "routers")
            && path[2].key == "nics" && path[3].key.empty())
            return nic_of(path[1].key, path[3].index);
        if (path.size() >= 4 && section == "filters" && path[2].key == "rules"
            && path[3].key.empty())
            return rule(path[1].key, path[3].index);
        if (path.size() < 2 || !path[1].key.empty())
            return "";
        if (section == "expect")
            return expectation(path[1].index);
        if (section == "links")
            return link(path[1].index);
        return "";
    }

  private:
    static void add(std::string& text, const std::string& line) { text += "- " + line + "\n"; }

    static std::string head(std::string_view kind, std::string_view name, std::string_view about) {
        std::string text = fmt::format("**{} {}**\n\n", kind, name);
        if (!about.empty())
            text += plan::printable(about) + "\n\n";
        return text;
    }

    std::string nic_line(lab::NicId id) const {
        const lab::Nic& nic = lab_.nics[id];
        std::vector<std::string> addresses;
        for (lab::AddressId address : lab_.addresses_of(id))
            addresses.push_back(fmt::format("{}/{} ({})",
                                            net::to_string(lab_.addresses[address].address),
                                            lab_.addresses[address].length,
                                            exports::to_string(lab_.addresses[address].origin)));
        std::string text =
            fmt::format("{}: {}", nic.name, addresses.empty() ? "no address" : joined(addresses));
        if (!nic.is_loopback())
            text +=
                fmt::format("; {} on {}", net::to_string(nic.mac), lab_.segment_name(nic.segment));
        if (const std::string wires = exports::wires_text(lab_, id); !wires.empty())
            text += ", " + wires;
        if (!nic.up)
            text += "; down";
        return text;
    }

    std::string machine(const std::string& entry) const {
        auto id = machine_of(lab_, entry);
        if (!id)
            return "";
        const lab::Machine& row = lab_.machines[*id];
        const plan::Machine* written = plan_.machine(row.name);
        std::string text = head(exports::kind_text(row), row.name,
                                written != nullptr && written->about ? *written->about : "");
        for (lab::NicId nic : lab_.nics_of(*id))
            add(text, nic_line(nic));
        for (lab::RouteId route : lab_.routes_of(*id))
            add(text, fmt::format("{} via {}", net::to_string(lab_.routes[route].to),
                                  net::to_string(lab_.routes[route].via)));
        add(text, row.forwards_any() ? "forwards" : "does not forward");
        if (!row.up)
            add(text, "off");
        return text;
    }

    std::string nic_of(const std::string& entry, std::size_t index) const {
        auto id = machine_of(lab_, entry);
        if (!id)
            return "";
        for (lab::NicId nic : lab_.nics_of(*id))
            if (lab_.nics[nic].plan_index == index && !lab_.nics[nic].is_loopback()) {
                std::string text = head("NIC", lab_.nic_name(nic), "");
                add(text, nic_line(nic));
                if (auto filters = exports::filters_on(lab_, nic); !filters.empty())
                    add(text, "filters: " + joined(filters));
                return text;
            }
        return "";
    }

    std::string subnet(const std::string& name) const {
        auto id = lab_.subnet(name);
        if (!id)
            return "";
        const lab::Subnet& row = lab_.subnets[*id];
        const plan::Subnet* written = plan_.subnet(name);
        std::string text =
            head("subnet", name, written != nullptr && written->about ? *written->about : "");
        if (row.site && !lab_.sites[row.site].name.empty())
            add(text, "of site " + lab_.sites[row.site].name);
        for (const lab::PrefixUsage& usage : lab::usage(lab_))
            if (usage.segment == row.segment)
                add(text, usage_line(usage, row));
        if (row.vlan != 0)
            add(text, fmt::format("VLAN {}", row.vlan));
        std::vector<std::string> machines;
        constexpr std::size_t most = 12;
        const auto& nics = lab_.segments[row.segment].nics;
        for (std::size_t i = 0; i < std::min(nics.size(), most); ++i)
            machines.push_back(lab_.nic_name(nics[i]));
        if (nics.size() > most)
            machines.push_back(fmt::format("and {} more", nics.size() - most));
        if (!machines.empty())
            add(text, joined(machines));
        return text;
    }

    static std::string usage_line(const lab::PrefixUsage& usage, const lab::Subnet& subnet) {
        std::string text =
            fmt::format("{}: {} to {}, {} used, {} free", net::to_string(usage.prefix),
                        net::to_string(usage.prefix.first_usable()),
                        net::to_string(usage.prefix.last_usable()), usage.used, usage.free);
        if (!subnet.prefix_written)
            text += "; chosen by the planner";
        if (usage.gateway)
            text += "; gateway " + net::to_string(*usage.gateway);
        if (usage.dhcp)
            text += "; DHCP " + net::to_string(*usage.dhcp);
        if (usage.reserved != 0)
            text += fmt::format("; {} reserved", usage.reserved);
        return text;
    }

    std::string spaces(std::string text, const auto& is_meant) const {
        for (const lab::SpaceUsage& usage : lab::space_usage(lab_))
            if (is_meant(usage))
                add(text,
                    fmt::format("{}: {:.0f} % used{}", net::to_string(usage.space),
                                100 * usage.used_share,
                                usage.free.empty() ? std::string()
                                                   : "; largest free block "
                                                         + net::to_string(largest(usage.free))));
        return text;
    }

    static net::Prefix largest(const std::vector<net::Prefix>& blocks) {
        return *std::ranges::max_element(blocks, {}, &net::Prefix::host_bits);
    }

    std::string site(const std::string& name) const {
        auto id = lab_.site(name);
        if (!id)
            return "";
        std::string about;
        for (const plan::Site& written : plan_.sites)
            if (written.name == name)
                about = written.about;
        return spaces(head("site", name, about),
                      [&](const lab::SpaceUsage& usage) { return usage.site == *id; });
    }

    std::string pool(const std::string& name) const {
        return spaces(head("pool", name, ""), [&](const lab::SpaceUsage& usage) {
            return usage.pool && lab_.pools[usage.pool].name == name;
        });
    }

    std::string port(const std::string& name) const {
        for (lab::PortId id : lab_.ports.ids())
            if (lab_.port_name(id) == name)
                return head("port", name, "") + "- " + exports::port_text(lab_.ports[id])
                       + (lab_.ports[id].up ? "\n" : "; down\n");
        return "";
    }

    // Where a filter stands.
    std::string places_of(const std::string& filter) const {
        std::vector<std::string> places;
        for (const plan::Site& site : plan_.sites)
            if (site.filter.value == filter)
                places.push_back("the core of " + site.name);
        for (const plan::Subnet& subnet : plan_.subnets)
            if (subnet.filter.value == filter)
                places.push_back("the NIC of every guest of " + subnet.name);
        for (const plan::Machine& machine : plan_.machines)
            if (machine.duties && machine.duties->filter.value == filter)
                places.push_back(machine.name);
        for (lab::NicId id : lab_.nics.ids())
            if (const lab::GuardId guard = lab_.nics[id].guard;
                guard && lab_.guards[guard].nic
                && lab_.filters[lab_.guards[guard].nic].name == filter)
                places.push_back(lab_.nic_name(id));
        return places.empty() ? "stands nowhere" : "stands on " + joined(places);
    }

    const plan::Filter* filter_of(const std::string& name) const {
        for (const plan::Filter& filter : plan_.filters)
            if (filter.name == name)
                return &filter;
        return nullptr;
    }

    std::string filter(const std::string& name) const {
        const plan::Filter* found = filter_of(name);
        if (found == nullptr)
            return "";
        std::string text = head("filter", name, found->about);
        add(text, fmt::format("{} {}; what none names is {}", found->rules.size(),
                              found->rules.size() == 1 ? "rule" : "rules",
                              found->allows ? "allowed" : "dropped"));
        add(text, places_of(name));
        return text;
    }

    static std::string ends_text(const std::vector<plan::Placed<plan::Ends>>& ends,
                                 const std::vector<net::Prefix>& prefixes) {
        if (ends.empty())
            return "anybody";
        std::vector<std::string> words;
        bool has_name = false;
        for (const auto& end : ends) {
            words.push_back(plan::to_string(end.value));
            has_name = has_name || std::holds_alternative<std::string>(end.value);
        }
        std::vector<std::string> means;
        constexpr std::size_t most = 8;
        for (std::size_t i = 0; i < std::min(prefixes.size(), most); ++i)
            means.push_back(net::to_string(prefixes[i]));
        if (prefixes.size() > most)
            means.push_back("…");
        return joined(words) + (has_name ? fmt::format(" ({})", joined(means)) : std::string());
    }

    std::string rule(const std::string& name, std::size_t index) const {
        const plan::Filter* found = filter_of(name);
        if (found == nullptr || index >= found->rules.size())
            return "";
        const plan::FilterRule& written = found->rules[index];
        const auto row = static_cast<std::size_t>(found - plan_.filters.data());
        const lab::FilterRule& means =
            lab_.filters[lab::FilterId(static_cast<std::uint32_t>(row))].rules[index];
        std::string what = written.protocol == net::Protocol::any
                               ? "everything"
                               : std::string(net::to_string(written.protocol));
        for (std::size_t i = 0; i < written.ports.size(); ++i)
            what +=
                fmt::format("{}{}", i == 0 ? " to port " : ", ", net::to_string(written.ports[i]));
        std::string text = head("rule", fmt::format("{} of {}", index + 1, name), "");
        add(text, fmt::format("{} {} from {} to {}{}", written.allows ? "lets pass" : "drops", what,
                              ends_text(written.from, means.from), ends_text(written.to, means.to),
                              !written.way                     ? ""
                              : *written.way == plan::Way::in  ? ", coming in"
                              : *written.way == plan::Way::out ? ", going out"
                                                               : ", forwarded"));
        add(text, "the filter " + places_of(name));
        return text;
    }

    std::string link(std::size_t item) const {
        // Cables between switches stand among them, so the place tells which it is.
        for (lab::LinkId id : lab_.links.ids()) {
            const lab::Link& row = lab_.links[id];
            if (id.row < plan_.links.size() && item == item_of(row.at)) {
                std::string text = head("link", lab_.segment_name(row.segment), "");
                for (lab::NicId nic : {row.first, row.second})
                    add(text, lab_.machine_name(nic) + " " + nic_line(nic));
                return text;
            }
        }
        return "";
    }

    // The position in its list of what stands at a mark.
    std::size_t item_of(plan::Mark at) const {
        auto spot = view_.outline()->spot(at);
        return spot && spot->path.size() > 1 && spot->path[0].key == "links" ? spot->path[1].index
                                                                             : ~std::size_t{0};
    }

    std::string expectation(std::size_t index) const {
        if (check_ == nullptr || index >= check_->verdicts.size())
            return "";
        const reach::Verdict& verdict = check_->verdicts[index];
        std::string text = verdict.passed ? "**met**\n\n" : "**not met**\n\n";
        if (!verdict.passed)
            add(text, verdict.explanation);
        if (verdict.pairs > 1)
            add(text, fmt::format("{} of {} pairs as expected", verdict.pairs - verdict.failed,
                                  verdict.pairs));
        if (!verdict.answer)
            return text;
        if (verdict.answer->out)
            add(text, "there: " + journey_text(*verdict.answer->out));
        if (verdict.answer->back)
            add(text, "back: " + journey_text(*verdict.answer->back));
        if (verdict.answer->replied())
            add(text, fmt::format("round trip {:.3f} ms",
                                  verdict.answer->round_trip.mean.count() / 1000));
        return text;
    }

    std::string journey_text(const packet::Journey& journey) const {
        std::vector<std::string> machines;
        for (const packet::Step& step : journey.steps)
            machines.push_back(lab_.machines[step.machine].name);
        return joined(machines, " > ")
               + (journey.ending == packet::Ending::delivered ? "" : " and no further");
    }

    const View& view_;
    const reach::Check* check_;
    const plan::Plan& plan_;
    const lab::Lab& lab_;
};

} // namespace

std::optional<Words> hover(const View& view, const reach::Check* check, plan::Mark mark) {
    if (view.outline() == nullptr)
        return std::nullopt;
    const Mention* mention = view.outline()->at(mark);
    const auto spot = view.outline()->spot(mark);
    std::string text;
    Span at{mark, mark};
    if (spot && spot->at.begin)
        at = spot->at;
    if (view.lab() != nullptr) {
        const Teller teller(view, check);
        if (mention != nullptr)
            text = teller.mention(*mention);
        if (!text.empty())
            at = mention->at;
        else if (spot && spot->path.size() > 1)
            text = teller.spot(*spot);
    }
    if (spot && !spot->about.empty() && (text.empty() || spot->is_key)) {
        const std::string& key = spot->path.back().key;
        text += (text.empty() ? "" : "\n")
                + (key.empty() ? spot->about : fmt::format("`{}`: {}", key, spot->about));
    }
    return text.empty() ? std::nullopt : std::optional(Words{at, std::move(text)});
}

} // namespace jackal::editor
