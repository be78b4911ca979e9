#include "outages.h"

#include "live_lab.h"
#include "speakers.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdio>
#include <fmt/format.h>
#include <fstream>
#include <thread>

namespace judge {

using namespace jackal;
using std::chrono::milliseconds;
using std::chrono::seconds;

namespace {

constexpr milliseconds interval{50};
constexpr milliseconds waited{500};
constexpr seconds cut_at{3};
constexpr seconds mended_at{23};
constexpr seconds end_at{43};
// It need not wait with its neighbours (MinLSInterval) if it meets them before it has announced
// that its NIC is up, which is luck.
constexpr double may_not_wait_s = 5;

struct Reply {
    double at_s = 0; ///< since the first ping
    int ttl = 0;
};

Losses losses_of(const std::vector<Reply>& replies, double cut_s, double mended_s, double end_s) {
    Losses found;
    auto look = [&](double from, double until, double& longest, int& ttl) {
        double last = from;
        ttl = 0;
        for (const Reply& reply : replies) {
            if (reply.at_s < from || reply.at_s >= until)
                continue;
            longest = std::max(longest, reply.at_s - last);
            last = reply.at_s;
            ttl = reply.ttl;
        }
        longest = std::max(longest, until - last);
        const double silent = 1; // so long before the end it is out
        if (until - last > silent)
            ttl = 0;
    };
    look(cut_s, mended_s, found.cut_s, found.ttl_while_cut);
    look(mended_s, end_s, found.mended_s, found.ttl_at_end);
    return found;
}

double in_seconds(probe::Microseconds time) {
    return std::chrono::duration<double>(time).count();
}

struct Plan {
    probe::TimelineQuestion question;
    lab::NicId nic;
    net::Address from;
    net::Address to;
    Losses foretold;
};

Losses foretold_of(const lab::Lab& lab, const probe::TimelineQuestion& question, bool& works) {
    const probe::Timeline timeline = probe::timeline(lab, question);
    std::vector<Reply> replies;
    for (const probe::Stretch& stretch : timeline.stretches)
        for (int i = 0; i < stretch.count && stretch.received > 0; ++i)
            replies.push_back(
                {in_seconds(question.interval) * (stretch.first + i), stretch.answer.reply_ttl});
    works = !replies.empty() && replies.front().at_s == 0;
    return losses_of(replies, in_seconds(cut_at), in_seconds(mended_at), in_seconds(end_at));
}

// The ping and the NIC that lose most for a while, but come back by another way if any does.
std::optional<Plan> choose(const routing::Settled& settled) {
    constexpr double soon_s = 12;
    const lab::Lab& lab = settled.lab();
    std::optional<Plan> best;
    auto rank = [&](const Losses& losses) { // 2: there is another way; 1: none
        const bool comes_back = losses.cut_s < soon_s && losses.ttl_while_cut != 0;
        return losses.cut_s < 0.2 || losses.mended_s > soon_s ? 0 : comes_back ? 2 : 1;
    };
    std::size_t tried = 0;
    for (const lab::Speaker& speaker : lab.speakers)
        for (lab::NicId nic : lab.nics_of(speaker.machine)) {
            // Routes of the plan, and IPv6 addresses, go with a NIC and would not come back.
            if (lab.nics[nic].is_loopback() || !lab.routes_of(speaker.machine).empty()
                || lab.tunnel(nic) || lab.first_address(nic, net::Family::ipv4) == nullptr)
                continue;
            for (lab::MachineId from : lab.machines.ids())
                for (lab::MachineId to : lab.machines.ids()) {
                    auto source = probe::endpoint(lab, lab.machines[from].name);
                    auto target = probe::endpoint(lab, lab.machines[to].name);
                    if (from == to || lab.machines[from].outside || lab.machines[to].outside
                        || from == speaker.machine || to == speaker.machine || !source || !target)
                        continue;
                    probe::PingQuestion ping{.from = *source, .to = *target};
                    ping.family = net::Family::ipv4;
                    const probe::Exchange asked = probe::exchange(settled, ping);
                    if (!asked.replied() || ++tried > 200)
                        continue;
                    ping.source = asked.source; // as the real one sends all of its requests
                    probe::TimelineQuestion question{
                        .ping = ping,
                        .count = static_cast<int>(end_at / interval),
                        .interval = interval,
                        .events = {{cut_at, false, routing::NicCut{nic}},
                                   {mended_at, true, routing::NicCut{nic}}}};
                    bool works = false;
                    const Losses losses = foretold_of(lab, question, works);
                    if (works && rank(losses) > (best ? rank(best->foretold) : 0))
                        best = {question, nic, *asked.source, *asked.destination, losses};
                }
        }
    return best;
}

// The replies that `ping -D` prints, by the time at which their requests were sent; or at which
// they came, if a request waited for its next hop's answer to ARP, as it may for three seconds.
std::vector<Reply> replies_in(const std::string& path, double began_s) {
    std::vector<Reply> replies;
    std::ifstream lines(path);
    for (std::string line; std::getline(lines, line);) {
        Reply reply;
        double milliseconds_there = 0;
        const std::size_t ttl = line.find(" ttl=");
        if (line.find(" bytes from ") == std::string::npos || ttl == std::string::npos
            || std::sscanf(line.c_str(), "[%lf]", &reply.at_s) != 1
            || std::sscanf(line.c_str() + ttl, " ttl=%d time=%lf", &reply.ttl, &milliseconds_there)
                   != 2)
            continue;
        const double there_s = milliseconds_there / 1000;
        reply.at_s -= began_s + (there_s < in_seconds(waited) ? there_s : 0);
        replies.push_back(reply);
    }
    return replies;
}

double now_s() {
    return std::chrono::duration<double>(std::chrono::system_clock::now().time_since_epoch())
        .count();
}

} // namespace

bool OutageHeld::agrees() const {
    const double earlier = foretold.cut_s - real.cut_s;
    const double earlier_back = foretold.mended_s - real.mended_s;
    return std::abs(earlier) <= tolerance_s && earlier_back >= -tolerance_s
           && earlier_back <= tolerance_s + may_not_wait_s
           && foretold.ttl_while_cut == real.ttl_while_cut
           && foretold.ttl_at_end == real.ttl_at_end;
}

std::optional<OutageHeld> hold_outage(const routing::Settled& settled) {
    const lab::Lab& lab = settled.lab();
    const std::optional<Plan> plan = repeats_router_id(settled) ? std::nullopt : choose(settled);
    if (!plan)
        return std::nullopt;
    OutageHeld held{.what = fmt::format("{} to {} without {}", plan->question.ping.from.name,
                                        plan->question.ping.to.name, lab.nic_name(plan->nic)),
                    .foretold = plan->foretold,
                    .tolerance_s = in_seconds(routing::play(lab, *settled.lessons()))};
    LiveLab live(settled, {.with_routing = true});
    const std::string said = fmt::format("/tmp/{}.pings", lab.name);
    const double began_s = now_s();
    std::jthread pinging([&] {
        // With -w it would end at the first error that it gets.
        const std::string command = fmt::format(
            "timeout -s INT {} ip netns exec {} ping -4 -n -D -i {} -I {} {} >{} 2>&1",
            end_at.count(), live.space_of(plan->question.ping.from.machine), in_seconds(interval),
            net::to_string(plan->from), net::to_string(plan->to), said);
        [[maybe_unused]] int status = std::system(command.c_str()); // 1 if any was lost
    });
    auto turn = [&](seconds at, const char* how) {
        std::this_thread::sleep_for(
            std::chrono::duration<double>(began_s + static_cast<double>(at.count()) - now_s()));
        const std::string command =
            fmt::format("ip -n {} link set {} {}", live.space_of(lab.nics[plan->nic].machine),
                        lab.nics[plan->nic].name, how);
        if (std::system(command.c_str()) != 0)
            throw std::runtime_error(command + " fails");
    };
    turn(cut_at, "down");
    const double cut_s = now_s() - began_s;
    turn(mended_at, "up");
    pinging.join();
    held.real =
        losses_of(replies_in(said, began_s), cut_s, in_seconds(mended_at), in_seconds(end_at));
    std::remove(said.c_str());
    return held;
}

} // namespace judge
