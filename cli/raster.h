// Pictures in formats that are not text.
#pragma once

#include <string>

namespace jackal::cli {

/// The PNG of an SVG, `scale` pixels for each of its own. Throws NotAsked if it would be too large.
std::string png_of(const std::string& svg, double scale);

/// The PDF of an SVG, one page of its size.
std::string pdf_of(const std::string& svg);

} // namespace jackal::cli
