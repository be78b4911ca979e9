// What passes on the wires of a lab, as the bytes that packet tools read.
#pragma once

#include "jackal/api.h"
#include "jackal/probe/sightings.h"

#include <string>
#include <vector>

namespace jackal::exports {

/// The frame from its first MAC address on, with right checksums.
JACKAL_API std::vector<std::uint8_t> bytes_of(const lab::Lab& lab, const probe::Frame& frame);

/// A capture file (pcapng, draft-ietf-opsawg-pcapng): one interface for each NIC and switch port,
/// named as the lab names them, frames by time, the first second being that of 1970. Throws
/// std::length_error beyond 256 MiB.
JACKAL_API std::string capture_file(const lab::Lab& lab,
                                    const std::vector<probe::Sighting>& sightings);

/// The frame in a line of words: "10.41.0.34 to 10.40.8.10  echo request 1, TTL 64, 84 bytes".
JACKAL_API std::string frame_text(const lab::Lab& lab, const probe::Frame& frame);

/// "echo request 1", "TCP SYN": what the frame bears alone.
JACKAL_API std::string what_text(const lab::Lab& lab, const probe::Frame& frame);

/// The flows that a machine has seen as messages of IPFIX (RFC 7011), each at most `most_bytes`
/// long: templates first, with the names of its NICs (RFC 5102: interfaceName), then the flows. Put
/// one behind another they are an IPFIX file (RFC 5655). NICs have the numbers of their row, from
/// 1, and 0 is the machine itself.
JACKAL_API std::vector<std::string> ipfix_messages(const lab::Lab& lab, lab::MachineId machine,
                                                   const std::vector<probe::SeenFlow>& flows,
                                                   std::size_t most_bytes = 1400);

/// What is asked of `jackal watch --format json`: the frames, or the flows.
JACKAL_API std::string frames_json(const lab::Lab& lab,
                                   const std::vector<probe::Sighting>& sightings);
JACKAL_API std::string flows_json(const lab::Lab& lab, lab::MachineId machine,
                                  const std::vector<probe::SeenFlow>& flows);

} // namespace jackal::exports
