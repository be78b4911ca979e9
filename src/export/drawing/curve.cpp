#include "export/drawing/curve.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <numbers>

namespace jackal::exports::drawing {

namespace {

Point between(Point a, Point b, double t) {
    return {a.x + (b.x - a.x) * t, a.y + (b.y - a.y) * t};
}

// The points of de Casteljau's algorithm for one curve: its two parts at `t`.
struct Parts {
    Curve before; // four points
    Curve after;
};

Parts cut(const Point* p, double t) {
    Point a = between(p[0], p[1], t);
    Point b = between(p[1], p[2], t);
    Point c = between(p[2], p[3], t);
    Point d = between(a, b, t);
    Point e = between(b, c, t);
    Point f = between(d, e, t);
    return {{p[0], a, d, f}, {f, e, c, p[3]}};
}

// Which curve of the way, and where on it.
std::pair<std::size_t, double> split(const Curve& curve, double t) {
    std::size_t count = (curve.size() - 1) / 3;
    double place = std::clamp(t, 0.0, 1.0) * static_cast<double>(count);
    std::size_t part = std::min(count - 1, static_cast<std::size_t>(place));
    return {part, place - static_cast<double>(part)};
}

} // namespace

OnCurve along(const Curve& curve, double t) {
    auto [part, rest] = split(curve, t);
    Parts parts = cut(&curve[part * 3], rest);
    Point at = parts.after[0];
    Point from = parts.before[2];
    Point to = parts.after[1];
    return {at, std::atan2(to.y - from.y, to.x - from.x) * 180 / std::numbers::pi};
}

std::pair<Curve, Curve> halves(const Curve& curve) {
    auto [part, rest] = split(curve, 0.5);
    Parts parts = cut(&curve[part * 3], rest);
    auto from = curve.begin();
    Curve first(from, from + static_cast<std::ptrdiff_t>(part * 3));
    first.insert(first.end(), parts.before.begin(), parts.before.end());
    Curve second = parts.after;
    second.insert(second.end(), from + static_cast<std::ptrdiff_t>(part * 3 + 4), curve.end());
    return {first, second};
}

std::string path_text(const Curve& curve) {
    std::string text = fmt::format("M{:.1f} {:.1f}", curve[0].x, curve[0].y);
    for (std::size_t i = 1; i + 2 < curve.size(); i += 3)
        text += fmt::format("C{:.1f} {:.1f} {:.1f} {:.1f} {:.1f} {:.1f}", curve[i].x, curve[i].y,
                            curve[i + 1].x, curve[i + 1].y, curve[i + 2].x, curve[i + 2].y);
    return text;
}

} // namespace jackal::exports::drawing
