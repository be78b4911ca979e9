// Prefixes while they are chosen: what the steps share. Each step stands in the file of its name.
#pragma once

#include "lab/address/allocate.h"

#include <algorithm>
#include <string>
#include <unordered_map>

namespace jackal::lab {

enum class What : std::uint8_t { subnet, link, loopback };

struct Wish {
    What what;
    std::size_t row; // of the plan's subnets, links or machines
    net::Family family;
    int length;
    Choice* into;
};

// Wishes that are granted from the same spaces.
struct Source {
    std::string name;       // "site harbour"
    SiteId site;            // none for a pool
    bool own = true;        // the plan writes its spaces
    PerFamily<bool> wanted; // what its subnets and links want prefixes of
    std::vector<net::Prefix> spaces;
    std::vector<Wish> wishes;

    bool serves(net::Family family) const {
        return std::ranges::any_of(spaces, [&](const auto& p) { return p.family() == family; });
    }
};

/// The prefix length that a subnet wants.
int wanted_length(const plan::Subnet& subnet, net::Family family);

/// `a /24 for 100 hosts and 50% growth`.
std::string wish_text(const plan::Subnet& subnet, int length);

struct Planning {
    const plan::Plan& plan;
    const std::vector<SiteId>& site_of_subnet;
    const std::vector<SiteId>& site_of_link;
    const std::vector<SiteId>& site_of_machine;
    Allocation result = {};
    std::vector<Source> sources = {};
    std::unordered_map<std::string, std::size_t> pool_rows = {};
    std::vector<net::Prefix> taken = {}; ///< sorted, but while it is put together
};

// --- sources.cpp -----------------------------------------------------------------------------

std::size_t site_count(const Planning& p);
std::size_t pool_source(const Planning& p, const plan::Pool& pool);
void add_sources(Planning& p);
Source& source_of(Planning& p, const plan::Placed<std::string>& pool, SiteId site);

// --- decided.cpp -----------------------------------------------------------------------------

void take_written(Planning& p);
/// Pins count for entries that are there and write no prefix of their own.
void take_pinned(Planning& p);
std::vector<net::Prefix> all_chosen(const Planning& p);

// --- spaces.cpp ------------------------------------------------------------------------------

void find_spaces(Planning& p);
/// A site that no space was found for still wants IPv4 prefixes, so that the want is told.
void note_families(Planning& p);

// --- wishes.cpp ------------------------------------------------------------------------------

void wish(Planning& p);
void wish(Source& source, PerFamily<Choice>& row, Wish wish);
void grant(Planning& p, Source& source, const std::vector<net::Prefix>& taken);

} // namespace jackal::lab
