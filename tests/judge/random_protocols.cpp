#include "random_lab.h"

#include <algorithm>
#include <fmt/format.h>

namespace judge {

namespace {

// What a router is joined to by one of its NICs: a subnet, or another router.
struct Joint {
    std::string name;   // as the NIC may be called
    std::string subnet; // empty for a link
    int other = -1;     // of a link: the router at its other end
};

class ProtocolMaker {
  public:
    ProtocolMaker(Json& plan, Random& random, bool quick)
        : plan_(plan), random_(random), is_quick_(quick) {
        count_ = static_cast<int>(plan_["routers"].size());
    }

    void run() {
        for (int i = 0; i < count_; ++i) {
            if (random_.percent(90))
                at(i)["router-id"] = fmt::format("10.99.0.{}", i + 1);
            if (random_.percent(25))
                at(i)["loopback"] = {fmt::format("10.98.0.{}", i + 1),
                                     fmt::format("fd98::{}", i + 1)};
        }
        switch (random_.below(6)) {
        case 0: ospf(0, count_, false); break;
        case 1: ospf(0, count_, true); break;
        case 2: rip(0, count_); break;
        case 3: bgp(0, count_); break;
        case 4: // two protocols that hand over to each other
            ospf(0, (count_ + 1) / 2 + 1, random_.percent(40));
            rip((count_ + 1) / 2, count_);
            hand_over((count_ + 1) / 2, "ospf", "rip");
            break;
        default:
            ospf(0, count_, random_.percent(30));
            bgp(0, count_);
            for (int i = 0; i < count_; ++i)
                hand_over(i, "ospf", "bgp");
        }
        for (int mistakes = random_.below(4); mistakes > 0; --mistakes)
            make_mistake();
    }

  private:
    Json& at(int i) { return plan_["routers"][fmt::format("r{}", i)]; }
    int any() { return random_.below(static_cast<std::size_t>(count_)); }
    static int number(const std::string& name) { return std::stoi(name.substr(1)); }

    std::vector<Joint> joints(int i) {
        std::vector<Joint> found;
        for (const Json& nic : at(i)["nics"])
            found.push_back({fmt::format("eth{}", found.size()), nic["subnet"].get<std::string>()});
        for (const Json& link : plan_["links"]) {
            std::string one = link["between"][0];
            std::string other = link["between"][1];
            if (number(one) == i || number(other) == i)
                found.push_back(number(one) == i ? Joint{other, "", number(other)}
                                                 : Joint{one, "", number(one)});
        }
        return found;
    }

    bool is_joined(int i, const std::string& subnet) {
        for (const Json& nic : at(i)["nics"])
            if (nic["subnet"] == subnet)
                return true;
        return false;
    }

    // With areas, whatever a router of the later half is on is in area 1, or 2 for the last.
    std::string area(int i, const Joint& joint) {
        int last = joint.other;
        for (int j = 0; j < count_; ++j)
            if (joint.other < 0 && is_joined(j, joint.subnet))
                last = j;
        last = std::max(last, i);
        return last < (count_ + 1) / 2 ? "0" : last + 1 == count_ && count_ > 4 ? "2" : "1";
    }

    void ospf(int from, int to, bool areas) {
        const char* special = !areas                ? nullptr
                              : random_.percent(30) ? "stub"
                              : random_.percent(30) ? "nssa"
                                                    : nullptr;
        for (int i = from; i < std::min(to, count_); ++i) {
            Json entry = {{"areas", Json::object()}};
            if (!areas) {
                entry["areas"]["0"] = "all";
            } else {
                for (const Joint& joint : joints(i)) {
                    Json& list = entry["areas"][area(i, joint)];
                    if (std::find(list.begin(), list.end(), joint.name) == list.end())
                        list.push_back(joint.name);
                }
                if (entry["areas"].empty())
                    entry["areas"]["0"] = "all";
                if (special != nullptr && entry["areas"].contains("1"))
                    entry[special] = {1};
            }
            for (const Joint& joint : joints(i)) {
                if (is_quick_)
                    entry["hello"][joint.name] = "1s";
                if (random_.percent(30))
                    entry["cost"][joint.name] = random_.between(1, 30);
                if (random_.percent(10))
                    entry["priority"][joint.name] = random_.between(0, 3);
                if (random_.percent(8))
                    entry["network"][joint.name] =
                        random_.percent(50) ? "broadcast" : "point-to-point";
            }
            redistribute(entry);
            at(i)["ospf"] = entry;
        }
        if (areas && special == nullptr && random_.percent(60))
            virtual_links(from, std::min(to, count_));
    }

    // Through area 1, from whoever joins it to another area to whoever joins it to the backbone.
    void virtual_links(int from, int to) {
        auto joins = [&](int i, const char* area) {
            const Json& areas = at(i)["ospf"]["areas"];
            return areas.contains("1") && areas.contains(area);
        };
        auto add = [&](int i, int j) {
            if (!random_.percent(5)) // or one end has it alone
                at(i)["ospf"]["virtual-links"]["1"].push_back(fmt::format("r{}", j));
        };
        for (int i = from; i < to; ++i)
            for (int j = from; j < i; ++j)
                if (joins(j, "0") && (joins(i, "0") || joins(i, "2")) && random_.percent(70)) {
                    add(i, j);
                    add(j, i);
                }
    }

    void rip(int from, int to) {
        for (int i = from; i < to; ++i) {
            Json entry = {{"nics", "all"}};
            if (is_quick_)
                entry["update"] = "2s";
            for (const Joint& joint : joints(i))
                if (random_.percent(20))
                    entry["cost"][joint.name] = random_.between(1, 4);
            if (random_.percent(20))
                entry["split-horizon"] = false;
            redistribute(entry);
            at(i)["rip"] = entry;
        }
    }

    void redistribute(Json& entry) {
        if (random_.percent(20))
            entry["redistribute"] = {"static"};
        if (random_.percent(15))
            entry["redistribute"].push_back(
                {{"from", "connected"}, {"metric", random_.between(1, 12)}});
        if (random_.percent(15))
            entry["default"] = random_.percent(50) ? "always" : "true";
    }

    int as_of(int i) const { return 64512 + i / as_size_; }

    // Everybody names everybody on a shared segment, and those of its AS; or there the first one,
    // that reflects.
    void bgp(int from, int to) {
        as_size_ = random_.percent(50) ? 1 : random_.percent(60) ? 2 : 4;
        const bool is_reflected = as_size_ == 4 && random_.percent(70);
        plan_["policies"]["wary"] = {
            {"default", "accept"},
            {"rules",
             {{{"do", "refuse"}, {"prefix", {"10.31.1.0/24", "fd31::/48"}}, {"longer", true}},
              {{"do", "accept"},
               {"prefix", {"10.31.0.0/16"}},
               {"longer", true},
               {"preference", 150},
               {"prepend", 2},
               {"med", 5}}}}};
        for (int i = from; i < to; ++i) {
            Json entry = {{"as", as_of(i)}, {"neighbours", Json::object()}};
            for (int j = from; j < to; ++j) {
                bool near = false;
                for (const Joint& joint : joints(i))
                    near |= joint.other == j || (joint.other < 0 && is_joined(j, joint.subnet));
                if (j == i || !(near || as_of(i) == as_of(j)))
                    continue;
                const bool is_inner = as_of(i) == as_of(j);
                if (is_inner && is_reflected && i % as_size_ != 0 && j % as_size_ != 0
                    && random_.percent(80))
                    continue;
                Json neighbour = {{"as", as_of(j)}};
                if (is_inner && is_reflected && (i % as_size_ == 0 || random_.percent(20))
                    && random_.percent(80))
                    neighbour["client"] = true;
                if (random_.percent(25))
                    neighbour["next-hop-self"] = true;
                if (random_.percent(20))
                    neighbour[random_.percent(50) ? "takes" : "gives"] = "wary";
                entry["neighbours"][fmt::format("r{}", j)] = neighbour;
            }
            for (const Json& nic : at(i)["nics"])
                if (random_.percent(70))
                    entry["networks"].push_back(nic["subnet"]);
            if (random_.percent(30))
                entry["redistribute"] = {"connected"};
            if (random_.percent(20))
                entry["equal-paths"] = true;
            if (random_.percent(15))
                entry["default"] = "always";
            at(i)["bgp"] = entry;
        }
    }

    void hand_over(int i, const std::string& one, const std::string& other) {
        if (i >= count_ || !at(i).contains(one) || !at(i).contains(other))
            return;
        if (random_.percent(70))
            at(i)[one]["redistribute"].push_back(other);
        if (random_.percent(70))
            at(i)[other]["redistribute"].push_back(one);
    }

    void make_mistake() {
        Json& router = at(any());
        switch (random_.below(7)) {
        case 0: router["router-id"] = "10.99.0.1"; break;
        case 1:
            if (router.contains("ospf")) {
                router["ospf"]["areas"] = {{random_.percent(50) ? "0" : "3", "all"}};
                router["ospf"].erase("virtual-links");
            }
            break;
        case 2:
            if (router.contains("ospf") && !router["nics"].empty())
                router["ospf"]["passive"] = {"eth0"};
            break;
        case 3:
            if (router.contains("ospf") && !router["nics"].empty())
                router["ospf"]["hello"]["eth0"] = "7s";
            break;
        case 4:
            for (const char* protocol : {"ospf", "rip", "bgp"})
                if (random_.percent(40))
                    router.erase(protocol);
            break;
        case 5:
            if (!router.contains("bgp"))
                break;
            router["bgp"]["as"] = 65000;
            for (Json& neighbour : router["bgp"]["neighbours"])
                neighbour.erase("client"); // of the same AS only
            break;
        default:
            if (router.contains("rip") && !router["nics"].empty())
                router["rip"]["passive"] = {"eth0"};
        }
    }

    Json& plan_;
    Random& random_;
    bool is_quick_;
    int count_ = 0;
    int as_size_ = 1;
};

} // namespace

void add_protocols(Json& plan, Random& random, bool quick) {
    ProtocolMaker(plan, random, quick).run();
}

} // namespace judge
