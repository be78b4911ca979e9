#include "jackal/export/capture.h"
#include "command.h"
#include "file.h"

#include <fmt/format.h>
#include <set>

namespace jackal::cli {

void add_capture_options(CLI::App& command, CaptureOptions& options) {
    command
        .add_option(
            "--capture", options.file,
            "writes the packets to a file for packet tools (pcapng), as every NIC on the way "
            "sees them")
        ->type_name("FILE");
    command.add_option("--at", options.at, "with --capture: only there; can be repeated")
        ->type_name("MACHINE[/NIC]|SWITCH/PORT");
    command.add_flag("--replace", options.replace, "write over a capture that is there already");
}

std::vector<probe::Spot> spots_of(const lab::Lab& lab, const std::vector<std::string>& names) {
    std::vector<probe::Spot> all;
    for (const std::string& name : names) {
        const std::vector<probe::Spot> found = probe::spots(lab, name);
        if (found.empty())
            throw NotAsked(
                fmt::format("the lab has no NIC or switch port {}; write MACHINE, MACHINE/NIC or "
                            "SWITCH/PORT",
                            name));
        all.insert(all.end(), found.begin(), found.end());
    }
    return all;
}

// Before the first question there is a second for names, leases and neighbours.
constexpr std::chrono::seconds first_question{1};

Capturing::Capturing(const lab::Lab& lab, const CaptureOptions& options)
    : lab_(lab), options_(options), seen_(spots_of(lab, options.at)) {
    if (options.file.empty() && !options.at.empty())
        throw NotAsked("--at says where to capture; name the file with --capture FILE");
    refuse_existing(options.file, options.replace);
}

void Capturing::add(const routing::Settled& settled, const probe::Exchange& exchange,
                    probe::Microseconds after, probe::Microseconds interval, int first) {
    if (!options_.file.empty())
        seen_.add(settled, exchange, first_question + after, interval, first);
}

std::string Capturing::write(const Style& style) {
    if (options_.file.empty())
        return "";
    if (seen_.is_full())
        throw NotAsked(fmt::format("--capture: more than {} frames; ask with a smaller --count, or "
                                   "--at fewer places",
                                   probe::Sightings::most));
    const std::vector<probe::Sighting> sightings = seen_.take();
    std::set<probe::Spot> spots;
    for (const probe::Sighting& sighting : sightings)
        spots.insert({sighting.nic, sighting.port});
    write_whole(options_.file,
                asked("--capture", [&] { return exports::capture_file(lab_, sightings); }),
                options_.replace);
    return style.faint(fmt::format("\n  {} is written: {} at {}\n", options_.file,
                                   counted(sightings.size(), "frame"),
                                   counted(spots.size(), "place")));
}

} // namespace jackal::cli
