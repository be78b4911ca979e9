// The simulated lab at the end of a wire, given frames one by one.
#include "../lab_of.h"
#include "jackal/export/capture.h"
#include "jackal/export/wire.h"
#include "jackal/probe/sightings.h"

#include <algorithm>
#include <random>

using namespace jackal;
using std::chrono::seconds;

namespace {

lab::Lab quay() {
    return lab_of(R"(lab: quay
subnets:
  quay: {prefix: [10.60.1.0/24, "fd60:0:0:1::/64"], dhcp: {size: 8}}
  mole: {prefix: [10.60.2.0/24, "fd60:0:0:2::/64"]}
guests:
  desk: {nics: [{subnet: quay, mtu: 9000}]}
  pad:  {nics: [{subnet: quay, address: dhcp, mtu: 9000}]}
  gull: {nics: [{subnet: mole}], listens: [tcp/22, udp/53]}
routers:
  one: {nics: [{subnet: quay, mtu: 9000}, {subnet: mole}]}
)");
}

// The frames that the machine's NIC sends for what is asked, as bytes.
std::vector<exports::Bytes> frames_of(const routing::Settled& settled, const std::string& from,
                                      const std::string& to, const probe::PingOptions& wishes) {
    const lab::Lab& lab = settled.lab();
    auto question = probe::question(lab, from, to, wishes);
    REQUIRE(question.has_value());
    probe::Sightings sightings(probe::spots(lab, from + "/eth0"));
    sightings.add(settled, probe::exchange(settled, *question), seconds(1));
    std::vector<exports::Bytes> frames;
    for (const probe::Sighting& sighting : sightings.take())
        if (sighting.leaves)
            frames.push_back(exports::bytes_of(lab, sighting.frame));
    return frames;
}

lab::NicId nic_of(const lab::Lab& lab, const std::string& name) {
    return probe::spots(lab, name).front().nic;
}

// Puts the right sum of the bytes (RFC 1071), and of what is told besides, to its place.
void set_checksum(exports::Bytes& frame, std::size_t first, std::size_t last, std::size_t place,
                  std::uint64_t besides) {
    if (last > frame.size() || place + 2 > last)
        return;
    frame[place] = frame[place + 1] = 0;
    std::uint64_t sum = besides;
    for (std::size_t i = first; i < last; ++i)
        sum += std::uint64_t{frame[i]} << ((i - first) % 2 == 0 ? 8 : 0);
    while (sum > 0xffff)
        sum = (sum >> 16) + (sum & 0xffff);
    frame[place] = static_cast<std::uint8_t>(~sum >> 8);
    frame[place + 1] = static_cast<std::uint8_t>(~sum);
}

// With checksums as a sender of just these bytes would have them, so that they are looked at.
void repair(exports::Bytes& frame) {
    constexpr std::size_t ip = 14;
    if (frame.size() < ip + 40)
        return;
    const bool is_ipv4 = frame[ip] >> 4 == 4;
    const std::size_t header = is_ipv4 ? (frame[ip] & 0xfU) * std::size_t{4} : 40;
    const std::size_t told = is_ipv4 ? std::size_t{frame[ip + 2]} << 8 | frame[ip + 3]
                                     : (std::size_t{frame[ip + 4]} << 8 | frame[ip + 5]) + 40;
    const std::uint8_t protocol = frame[ip + (is_ipv4 ? 9 : 6)];
    if (is_ipv4)
        set_checksum(frame, ip, ip + header, ip + 10, 0);
    std::uint64_t besides = 0;
    for (std::size_t i = is_ipv4 ? ip + 12 : ip + 8; i < ip + (is_ipv4 ? 20 : 40); ++i)
        besides += std::uint64_t{frame[i]} << (i % 2 == 0 ? 8 : 0);
    besides += protocol + (told - header);
    const std::size_t place = protocol == 6 ? 16 : protocol == 17 ? 6 : 2;
    set_checksum(frame, ip + header, ip + told, ip + header + place, protocol == 1 ? 0 : besides);
}

// An Ethernet frame with an IP packet, in pieces (RFC 791 section 3.2, RFC 8200 section 4.5).
std::vector<exports::Bytes> cut_up(const exports::Bytes& frame, std::size_t step, int id) {
    const bool is_ipv4 = frame[14] >> 4 == 4;
    const std::size_t headers = is_ipv4 ? 14 + 20 : 14 + 40;
    std::vector<exports::Bytes> pieces;
    for (std::size_t first = headers; first < frame.size(); first += step) {
        const std::size_t last = std::min(frame.size(), first + step);
        const bool goes_on = last < frame.size();
        exports::Bytes piece(frame.begin(), frame.begin() + static_cast<std::ptrdiff_t>(headers));
        auto set = [&](std::size_t at, std::size_t number) {
            piece[at] = static_cast<std::uint8_t>(number >> 8);
            piece[at + 1] = static_cast<std::uint8_t>(number);
        };
        if (is_ipv4) {
            set(14 + 2, 20 + last - first);
            set(14 + 4, static_cast<std::size_t>(id));
            set(14 + 6, (first - headers) / 8 | (goes_on ? 0x2000U : 0U));
            set_checksum(piece, 14, 34, 14 + 10, 0);
        } else {
            set(14 + 4, 8 + last - first);
            piece[14 + 6] = 44;
            piece.resize(headers + 8);
            piece[headers] = frame[14 + 6];
            set(headers + 2, first - headers + (goes_on ? 1 : 0));
            set(headers + 6, static_cast<std::size_t>(id));
        }
        piece.insert(piece.end(), frame.begin() + static_cast<std::ptrdiff_t>(first),
                     frame.begin() + static_cast<std::ptrdiff_t>(last));
        pieces.push_back(std::move(piece));
    }
    return pieces;
}

} // namespace

TEST_CASE("pieces of a packet are answered once all of them have come, in any order") {
    const lab::Lab lab = quay();
    const routing::Settled settled = routing::settle(lab);
    const lab::NicId desk = nic_of(lab, "desk/eth0");
    for (const net::Family family : net::both_families) {
        const exports::Bytes whole =
            frames_of(settled, "desk", "gull",
                      {.family = family, .count = 1, .payload_bytes = 5000})
                .back();
        REQUIRE(whole.size() == (family == net::Family::ipv4 ? 14 + 20 : 14 + 40) + 8 + 5000);
        std::vector<exports::Bytes> pieces = cut_up(whole, 1200, 7);
        const std::vector<exports::Bytes> others = cut_up(whole, 4000, 8);
        exports::Wire wire(lab, {desk});
        std::mt19937_64 random(7);
        probe::Microseconds now = seconds(10);
        for (int i = 0; i < 20; ++i) {
            CAPTURE(i);
            std::ranges::shuffle(pieces, random);
            wire.receive(now, desk, others.front()); // of a packet of which no more comes
            for (const exports::Bytes& piece : pieces) {
                CHECK(wire.due(now).empty());
                wire.receive(now, desk, piece);
            }
            now += seconds(1);
            CHECK(wire.due(now).size() == 4); // by NICs of 1,500 bytes
        }
        // One is missing, and another is there twice, once in its place.
        const std::vector<exports::Bytes> odd = cut_up(whole, 1200, 9);
        for (std::size_t i = 0; i + 1 < odd.size(); ++i)
            wire.receive(now, desk, odd[i]);
        wire.receive(now, desk, odd.front());
        exports::Bytes overlaps = odd.front();
        overlaps[family == net::Family::ipv4 ? 14 + 7 : 14 + 40 + 3] ^=
            family == net::Family::ipv4 ? 1 : 8;
        if (family == net::Family::ipv4)
            set_checksum(overlaps, 14, 34, 14 + 10, 0);
        wire.receive(now, desk, overlaps);
        CHECK(wire.due(now + seconds(100)).empty());
    }
}

TEST_CASE("whatever comes in by the wire, what is right is answered afterwards") {
    const lab::Lab lab = quay();
    const routing::Settled settled = routing::settle(lab);
    const lab::NicId pad = nic_of(lab, "pad/eth0"); // asks for its lease, too
    std::vector<exports::Bytes> good;
    for (const net::Family family : net::both_families)
        for (const char* service : {"", "tcp/22", "tcp/23", "udp/53", "udp/9"})
            for (const exports::Bytes& frame : frames_of(settled, "pad", "gull",
                                                         {.service = net::parse_service(service),
                                                         .family = family,
                                                         .count = 1,
                                                         .payload_bytes = 2000}))
                good.push_back(frame);
    REQUIRE(good.size() > 30);
    const std::vector<exports::Bytes> ping = frames_of(settled, "pad", "gull", {.count = 1});

    exports::Wire wire(lab, {pad});
    wire.serve(*lab.machine("gull"), 23);
    std::mt19937_64 random(11);
    const auto below = [&](std::size_t n) {
        return std::uniform_int_distribution(std::size_t{0}, n - 1)(random);
    };
    probe::Microseconds now = seconds(10);
    for (int i = 0; i < 20'000; ++i) {
        exports::Bytes frame = good[below(good.size())];
        for (std::size_t flips = below(4); flips != 0; --flips)
            frame[below(frame.size())] = static_cast<std::uint8_t>(random());
        if (below(4) == 0)
            frame.resize(below(frame.size() + 1));
        if (below(2) == 0)
            repair(frame);
        wire.receive(now, pad, frame);
        for (const exports::Wire::Heard& heard : wire.heard())
            if (heard.is_new)
                below(2) == 0 ? wire.accept(heard.connection) : wire.finish(heard.connection, true);
        if (i % 100 == 0) {
            now += seconds(30);
            wire.due(now);
        }
    }
    for (int i = 0; i < 20; ++i) { // connections that nobody answers are given up
        now += seconds(100);
        wire.due(now);
        wire.heard();
    }
    wire.receive(now, pad, ping.back());
    CHECK(wire.due(now + seconds(1)).size() == 1);
    CHECK(wire.count().dropped == 0);
    CHECK(wire.count().received == 20'001);
}

TEST_CASE("what no machine would take gets nothing") {
    const lab::Lab lab = quay();
    const routing::Settled settled = routing::settle(lab);
    const lab::NicId pad = nic_of(lab, "pad/eth0");
    exports::Wire wire(lab, {pad});
    probe::Microseconds now = seconds(10);
    auto answers = [&](const exports::Bytes& frame) {
        wire.receive(now, pad, frame);
        now += seconds(1);
        return wire.due(now).size();
    };
    for (const net::Family family : net::both_families) {
        const exports::Bytes ping =
            frames_of(settled, "pad", "gull", {.family = family, .count = 1}).back();
        CHECK(answers(ping) == 1);
        exports::Bytes odd = ping;
        odd.back() ^= 1;
        CHECK(answers(odd) == 0);
        repair(odd);
        CHECK(answers(odd) == 1);
        odd = ping;
        odd[family == net::Family::ipv4 ? 14 + 8 : 14 + 7] ^=
            1; // TTL, hop limit: IPv4 has a sum of those
        CHECK(answers(odd) == (family == net::Family::ipv4 ? 0 : 1));
        exports::Bytes tagged = ping;
        const std::uint8_t tag[] = {0x81, 0, 0, 20};
        tagged.insert(tagged.begin() + 12, tag, tag + 4);
        CHECK(answers(tagged) == 0);
    }
}
