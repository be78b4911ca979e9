// Ways of lines: a start and then Bezier curves of three points each.
#pragma once

#include "export/drawing/layout.h"

#include <utility>

namespace jackal::exports::drawing {

using Curve = std::vector<Point>;

/// A point on the way, and where the way leads from there, in degrees clockwise from the right.
struct OnCurve {
    Point at;
    double degrees = 0;
};

/// The point that is the share `t` of the way along, counted in curves; 0 to 1.
OnCurve along(const Curve& curve, double t);

/// The way up to its middle, and from there.
std::pair<Curve, Curve> halves(const Curve& curve);

/// The way as the value of `d` of an SVG path.
std::string path_text(const Curve& curve);

} // namespace jackal::exports::drawing
