// Reading what real machines say of themselves.
#pragma once

#include "jackal/export/facts.h"

#include <string>

namespace jackal::cli {

/// What is in a folder that the script of `jackal export --as gather` has written. Throws NotAsked
/// if it cannot be read, or if a file is not what it should be, with its place.
reach::Facts read_facts(const std::string& folder);

} // namespace jackal::cli
