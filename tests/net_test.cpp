#include "jackal/net/mac.h"
#include "jackal/net/place.h"
#include "jackal/net/prefix_table.h"

#include <doctest/doctest.h>
#include <random>

using namespace jackal::net;

TEST_CASE("addresses are read and written in their family's notation") {
    struct Row {
        const char* in;
        const char* out; // null: refused
    };
    // The IPv6 rows follow RFC 5952 section 4.
    const Row rows[] = {
        {"10.40.0.1", "10.40.0.1"},
        {"255.255.255.255", "255.255.255.255"},
        {"2001:DB8::1", "2001:db8::1"},
        {"2001:db8:0:0:1:0:0:1", "2001:db8::1:0:0:1"},
        {"2001:db8:0:1:1:1:1:1", "2001:db8:0:1:1:1:1:1"},
        {"2001:0db8::0001", "2001:db8::1"},
        {"::", "::"},
        {"::1", "::1"},
        {"1::", "1::"},
        {"::ffff:10.0.0.1", "10.0.0.1"},
        {"10.40.0", nullptr},
        {"10.40.0.256", nullptr},
        {"10.40.0.1 ", nullptr},
        {"fe80::1%eth0", nullptr},
        {"1:2:3", nullptr},
        {"", nullptr},
    };
    for (const Row& row : rows) {
        CAPTURE(row.in);
        auto address = parse_address(row.in);
        REQUIRE(address.has_value() == (row.out != nullptr));
        if (address)
            CHECK(to_string(*address) == row.out);
    }
}

TEST_CASE("usable addresses of a prefix") {
    struct Row {
        const char* prefix;
        const char* first;
        const char* last;
        std::uint64_t usable;
    };
    const Row rows[] = {
        {"10.0.0.0/24", "10.0.0.1", "10.0.0.254", 254},
        {"10.0.0.8/31", "10.0.0.8", "10.0.0.9", 2}, // RFC 3021
        {"10.0.0.8/32", "10.0.0.8", "10.0.0.8", 1},
        {"0.0.0.0/0", "0.0.0.1", "255.255.255.254", (std::uint64_t{1} << 32) - 2},
        {"fd00::/64", "fd00::1", "fd00::ffff:ffff:ffff:ffff", (std::uint64_t{1} << 63) - 1},
        {"fd00::2/127", "fd00::2", "fd00::3", 2}, // RFC 6164
    };
    for (const Row& row : rows) {
        CAPTURE(row.prefix);
        Prefix prefix = *parse_prefix(row.prefix);
        CHECK(to_string(prefix) == row.prefix);
        CHECK(to_string(prefix.first_usable()) == row.first);
        CHECK(to_string(prefix.last_usable()) == row.last);
        CHECK(prefix.usable() == row.usable);
    }
    CHECK(parse_prefix("10.0.0.7/24") == parse_prefix("10.0.0.0/24"));
    for (const char* bad : {"10.0.0.0", "10.0.0.0/33", "10.0.0.0/-1", "fd00::/129", "10.0.0.0/x"})
        CHECK_FALSE(parse_prefix(bad).has_value());
    CHECK_FALSE(parse_prefix("::/0")->contains(*parse_address("10.0.0.1")));
}

namespace {

Address random_address(std::mt19937_64& random) {
    // Few distinct high bits, so that prefixes nest often.
    if (random() % 2 == 0)
        return Address::ipv4(static_cast<std::uint32_t>(10U << 24 | (random() & 0x00030fff)));
    return {0xfd00'0000'0000'0000 | (random() & 0x3), random() & 0xff};
}

} // namespace

TEST_CASE("the prefix table finds what a search through all prefixes finds") {
    std::mt19937_64 random(7);
    for (int round = 0; round < 200; ++round) {
        std::vector<PrefixTable::Entry> entries;
        for (std::uint32_t i = 0; i < 1 + random() % 40; ++i) {
            Address a = random_address(random);
            int length =
                static_cast<int>(random() % static_cast<unsigned>(address_bits(a.family()) + 1));
            entries.push_back({Prefix(a, length), i});
        }
        PrefixTable table(entries);
        for (int i = 0; i < 200; ++i) {
            Address asked = random_address(random);
            std::uint32_t expected = PrefixTable::none;
            int longest = -1;
            for (const auto& entry : entries)
                if (entry.prefix.contains(asked) && entry.prefix.length() > longest) {
                    longest = entry.prefix.length();
                    expected = entry.value;
                }
            REQUIRE(table.lookup(asked) == expected);
        }
    }
    CHECK(PrefixTable().lookup({}) == PrefixTable::none);
}

TEST_CASE("free space gives aligned blocks that never overlap, and all of them") {
    std::mt19937_64 random(11);
    for (int round = 0; round < 100; ++round) {
        FreeSpace free;
        free.add(*parse_prefix("10.0.0.0/22"));
        std::vector<Prefix> taken;
        for (int i = 0; i < 3; ++i) {
            Prefix fixed(Address::ipv4(static_cast<std::uint32_t>(10U << 24 | random() % 1024)),
                         static_cast<int>(25 + random() % 6));
            free.remove(fixed);
            taken.push_back(fixed);
        }
        // Single addresses fill whatever is left, to the last one.
        std::size_t fixed_count = taken.size();
        for (int length : {26, 28, 29})
            while (auto block = free.take(Family::ipv4, length))
                taken.push_back(*block);
        for (std::size_t i = fixed_count; i < taken.size(); ++i)
            for (std::size_t j = 0; j < i; ++j)
                REQUIRE_FALSE(taken[i].overlaps(taken[j]));
        while (auto block = free.take(Family::ipv4, 32))
            taken.push_back(*block);
        std::vector<bool> covered(1024);
        for (const Prefix& prefix : taken)
            for (std::uint64_t k = 0; k < prefix.size(); ++k)
                covered[(prefix.first().low() + k) & 1023] = true;
        REQUIRE(std::find(covered.begin(), covered.end(), false) == covered.end());
    }
}

namespace {

// Whether there is a way to place the wishes from number `next` on, tried out.
bool fits(const std::vector<Prefix>& taken, const std::vector<PlaceWish>& wishes,
          const Prefix& space, std::size_t next) {
    if (next == wishes.size())
        return true;
    Prefix candidate(space.first(), wishes[next].length);
    for (; space.contains(candidate);
         candidate = Prefix(candidate.last().plus(1), wishes[next].length))
        if (std::none_of(taken.begin(), taken.end(),
                         [&](const Prefix& p) { return p.overlaps(candidate); })) {
            auto more = taken;
            more.push_back(candidate);
            if (fits(more, wishes, space, next + 1))
                return true;
        }
    return false;
}

} // namespace

TEST_CASE("wishes are placed whenever an exact search finds places for them") {
    std::mt19937 random(23);
    int found = 0;
    int missed = 0;
    for (int round = 0; round < 3000; ++round) {
        const Prefix space = *parse_prefix(round % 2 == 0 ? "10.0.0.0/28" : "fd00::/124");
        Family family = space.family();
        std::vector<Prefix> reserved;
        for (unsigned i = 0; i < random() % 4; ++i)
            reserved.emplace_back(space.first().plus(random() % 16),
                                  space.length() + 2 + static_cast<int>(random() % 3));
        std::vector<PlaceWish> wishes;
        for (unsigned i = 0; i < 1 + random() % 5; ++i)
            wishes.push_back({family, space.length() + 1 + static_cast<int>(random() % 4)});

        Placements placed = place({&space, 1}, reserved, wishes);
        bool all = placed.shortages.empty();
        REQUIRE(all == fits(reserved, wishes, space, 0));
        (all ? found : missed)++;
        std::vector<Prefix> taken = reserved;
        for (std::size_t i = 0; i < wishes.size(); ++i) {
            if (!placed.prefixes[i])
                continue;
            REQUIRE(placed.prefixes[i]->length() == wishes[i].length);
            REQUIRE(space.contains(*placed.prefixes[i]));
            for (const Prefix& other : taken)
                REQUIRE_FALSE(other.overlaps(*placed.prefixes[i]));
            taken.push_back(*placed.prefixes[i]);
        }
        for (const Prefix& block : placed.free)
            for (const Prefix& other : taken)
                REQUIRE_FALSE(other.overlaps(block));
        Placements again = place({&space, 1}, reserved, wishes);
        REQUIRE(again.prefixes == placed.prefixes);
    }
    CHECK(found > 500);
    CHECK(missed > 500);
}

TEST_CASE("a prefix for so many hosts is the smallest that has room for them") {
    for (std::uint64_t hosts : {1U, 2U, 3U, 6U, 7U, 254U, 255U, 65534U, 65535U}) {
        Prefix prefix(Address::ipv4(10U << 24), length_for_hosts(hosts));
        CHECK(prefix.usable() >= hosts);
        CHECK((prefix.length() == 30 || prefix.lower_half().usable() < hosts));
    }
    CHECK(length_for_hosts(~std::uint64_t{0}) == 0);
}

TEST_CASE("MAC addresses from names are stable, local and unicast") {
    Mac mac = mac_from_names("tide-gauge", "eth0");
    CHECK(mac == mac_from_names("tide-gauge", "eth0"));
    CHECK(mac != mac_from_names("tide-gauge", "eth1"));
    CHECK(mac != mac_from_names("tide-gauge-e", "th0"));
    CHECK_FALSE(mac.is_multicast());
    CHECK((mac.bits >> 41 & 1) == 1);
    CHECK(parse_mac(to_string(mac)) == mac);
    for (const char* bad : {"02:00:5e:10:00", "02:00:5e:10:00:0g", "02:00-5e:10:00:07", ""})
        CHECK_FALSE(parse_mac(bad).has_value());
}
