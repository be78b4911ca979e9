#include "jackal/reach/expectations.h"

#include "jackal/limits.h"
#include "reach/foreseen.h"
#include "reach/speaker.h"

#include <algorithm>
#include <fmt/format.h>
#include <stdexcept>

namespace jackal::reach {

using lab::Lab;
using lab::NicId;

namespace {

// A site, a subnet or a NIC; or the whole lab, which has no name. Who asks for a NIC is its
// machine, which chooses what to send from.
struct Group {
    std::string asks_as; // empty if no name means just this
    std::string answers_as;
    std::vector<std::size_t> parts;
    NicId nic; // of one that has no parts
};

struct Count {
    std::uint32_t pairs = 0;
    std::uint32_t answers = 0;

    bool is_uniform() const { return answers == 0 || answers == pairs; }
};

class Freezer {
  public:
    Freezer(const routing::Settled& settled, const Asking& asking)
        : settled_(settled), lab_(settled.lab()), asking_(asking) {
        find_groups();
        if (groups_.size() > limits::frozen_ends)
            throw std::length_error(fmt::format(
                "{} sites, subnets and machines are too many to be frozen", groups_.size()));
        ask();
        counts_.resize(groups_.size() * groups_.size());
        costs_.resize(groups_.size() * groups_.size());
        for (std::size_t from = 0; from < groups_.size(); ++from) // parts come first
            for (std::size_t to = 0; to < groups_.size(); ++to)
                sum_up(from, to);
    }

    std::vector<plan::Expectation> run() {
        if (!groups_.empty())
            write(groups_.size() - 1, groups_.size() - 1);
        return std::move(expectations_);
    }

  private:
    // --- who -----------------------------------------------------------------------------------

    // By the words of an expectation: those that it asks for a subnet.
    void find_groups() {
        std::vector<std::size_t> tops;
        std::vector<std::size_t> subnets_of_site;
        for (lab::SiteId site : lab_.sites.ids()) {
            subnets_of_site.clear();
            for (lab::SubnetId id : lab_.subnets.ids())
                if (lab_.subnets[id].site == site && !lab_.subnets[id].outside)
                    if (auto group = subnet_group(id))
                        subnets_of_site.push_back(*group);
            if (subnets_of_site.empty())
                continue;
            bool has_name = is_name_of(lab_.sites[site].name, subnets_of_site);
            const std::string name = has_name ? lab_.sites[site].name : std::string{};
            tops.push_back(add({name, name, subnets_of_site, {}}));
        }
        if (!tops.empty())
            add({{}, {}, tops, {}});
    }

    std::size_t add(Group group) {
        groups_.push_back(std::move(group));
        return groups_.size() - 1;
    }

    std::optional<std::size_t> subnet_group(lab::SubnetId id) {
        const std::string& name = lab_.subnets[id].name;
        std::vector<std::size_t> parts;
        for (const probe::Endpoint& end : probe::endpoints_on(lab_, id))
            parts.push_back(
                add({lab_.machines[end.machine].name, nic_words(end.nic), {}, end.nic}));
        if (parts.empty())
            return std::nullopt;
        const bool means_it = !lab_.machine(name); // else that is what the name means
        const std::string own = means_it ? name : std::string{};
        return add({own, own, std::move(parts), {}});
    }

    bool is_name_of(const std::string& site, const std::vector<std::size_t>& subnets) const {
        if (site.empty() || lab_.machine(site) || lab_.subnet(site))
            return false;
        std::size_t count = 0;
        for (std::size_t subnet : subnets)
            count += groups_[subnet].parts.size();
        return count == probe::endpoints(lab_, site).size();
    }

    std::string nic_words(NicId nic) const {
        const lab::Machine& machine = lab_.machines[lab_.nics[nic].machine];
        bool is_only = machine.nic_count == 1 && count_addresses(lab_, nic, net::Family::ipv4) <= 1
                       && count_addresses(lab_, nic, net::Family::ipv6) <= 1;
        return is_only ? machine.name : lab_.nic_name(nic);
    }

    // --- whether -------------------------------------------------------------------------------

    void ask() {
        std::vector<probe::Endpoint> ends;
        for (const Group& group : groups_)
            if (group.nic)
                ends.push_back(end_at(lab_, group.nic));
        foreseen_.emplace(settled_, ends, ends, asking_.service, asking_.threads);
    }

    bool gets_answer(std::size_t from, std::size_t to) const {
        const probe::PingQuestion question{.from =
                                               end_at(lab_, lab_.nics[groups_[from].nic].machine),
                                           .to = end_at(lab_, groups_[to].nic),
                                           .service = asking_.service};
        if (auto told = foreseen_->reaches(question))
            return *told;
        return probe::exchange(settled_, question).replied();
    }

    Count& count(std::size_t from, std::size_t to) { return counts_[from * groups_.size() + to]; }
    std::uint32_t& cost(std::size_t from, std::size_t to) {
        return costs_[from * groups_.size() + to];
    }

    void sum_up(std::size_t from, std::size_t to) {
        Count& all = count(from, to);
        if (groups_[from].nic && groups_[to].nic) {
            if (lab_.nics[groups_[from].nic].machine != lab_.nics[groups_[to].nic].machine)
                all = {1, gets_answer(from, to) ? 1U : 0U};
        } else if (groups_[from].nic) {
            for (std::size_t part : groups_[to].parts)
                add_to(all, count(from, part));
        } else {
            for (std::size_t part : groups_[from].parts)
                add_to(all, count(part, to));
        }
        cost(from, to) = all.pairs == 0 ? 0
                         : can_be_said(from, to)
                             ? 1
                             : std::min(by_sender(from, to), by_target(from, to));
    }

    static void add_to(Count& all, const Count& part) {
        all.pairs += part.pairs;
        all.answers += part.answers;
    }

    // True if one entry says it.
    bool can_be_said(std::size_t from, std::size_t to) {
        return count(from, to).is_uniform() && !groups_[from].asks_as.empty()
               && !groups_[to].answers_as.empty();
    }

    static constexpr std::uint32_t impossible = 1U << 30;

    // The entries that it takes with the senders split, or the targets.
    std::uint32_t by_sender(std::size_t from, std::size_t to) {
        std::uint32_t sum = groups_[from].nic ? impossible : 0;
        for (std::size_t part : groups_[from].parts)
            sum += cost(part, to);
        return sum;
    }
    std::uint32_t by_target(std::size_t from, std::size_t to) {
        std::uint32_t sum = groups_[to].nic ? impossible : 0;
        for (std::size_t part : groups_[to].parts)
            sum += cost(from, part);
        return sum;
    }

    void write(std::size_t from, std::size_t to) {
        if (count(from, to).pairs == 0)
            return;
        if (can_be_said(from, to)) {
            bool answered = count(from, to).answers != 0;
            plan::Expectation wanted;
            wanted.from.value = groups_[from].asks_as;
            wanted.to.value = groups_[to].answers_as;
            wanted.service = asking_.service;
            wanted.gets.value = asking_.service ? (answered ? "open" : "closed")
                                                : (answered ? "reply" : "no-reply");
            expectations_.push_back(std::move(wanted));
        } else if (by_sender(from, to) <= by_target(from, to)) {
            for (std::size_t part : groups_[from].parts)
                write(part, to);
        } else {
            for (std::size_t part : groups_[to].parts)
                write(from, part);
        }
    }

    const routing::Settled& settled_;
    const Lab& lab_;
    const Asking asking_;
    std::vector<Group> groups_; // each after its parts
    std::optional<Foreseen> foreseen_;
    std::vector<Count> counts_;
    std::vector<std::uint32_t> costs_;
    std::vector<plan::Expectation> expectations_;
};

} // namespace

std::vector<plan::Expectation> expectations(const routing::Settled& settled, const Asking& asking) {
    return Freezer(settled, asking).run();
}

} // namespace jackal::reach
