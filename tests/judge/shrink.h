// Makes a failing case small enough to read.
#pragma once

#include <functional>
#include <nlohmann/json.hpp>

namespace judge {

/// `plan` without whatever can be left out of it so that `still_fails` stays true: entries of
/// mappings and items of lists, the large ones first, until nothing more can go.
nlohmann::ordered_json
shrink(nlohmann::ordered_json plan,
       const std::function<bool(const nlohmann::ordered_json&)>& still_fails);

} // namespace judge
