// Whether the names in a plan are well formed, used once, and refer to something.
#pragma once

#include "jackal/api.h"
#include "jackal/plan/plan.h"

namespace jackal::plan {

/// Everything that keeps `plan` from being built into a lab: names that are no host-name label
/// (RFC 1123 section 2.1) or stand twice, references to nothing, contradicting keys. An unknown
/// name comes with the nearest known one. Empty for every plan that plan::read gives back.
JACKAL_API std::vector<Problem> problems(const Plan& plan);

/// Splits `MACHINE/NIC`; the second part is empty where there is no slash.
JACKAL_API std::pair<std::string_view, std::string_view> split_endpoint(std::string_view text);

/// The name that a NIC has: its own, or `eth` and its position among the machine's NICs, those
/// of links counted after those written at the machine.
JACKAL_API std::string nic_name(const Machine& machine, std::size_t position);

} // namespace jackal::plan
