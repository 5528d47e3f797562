#include "optics/sphere_grid.h"

#include <algorithm>
#include <cmath>

namespace porb {

Vec3 octahedral_direction(const Vec2& place) {
    double p = 2 * place.x() - 1, q = 2 * place.y() - 1;
    const double down = 1 - std::abs(p) - std::abs(q);
    if (down < 0) {
        const double folded = (1 - std::abs(q)) * (p < 0 ? -1 : 1);
        q = (1 - std::abs(p)) * (q < 0 ? -1 : 1);
        p = folded;
    }
    return Vec3(p, down, q).normalized();
}

SphereGrid::SphereGrid(int cells_a_side, int channel_count, float value)
    : side(cells_a_side), channels(channel_count),
      values(std::size_t(side + 2) * std::size_t(side + 2) * std::size_t(channels), value) {}

double SphereGrid::at(const Vec3& d, int channel) const {
    const Vec2 p = octahedral_place(d);
    const double x = p.x() * side - 0.5, y = p.y() * side - 0.5;
    const int x0 = std::clamp(int(std::floor(x)), -1, side - 1),
              y0 = std::clamp(int(std::floor(y)), -1, side - 1);
    const double fx = x - x0, fy = y - y0;
    const auto v = [&](int i, int j) { return double(cell(i, j)[channel]); };
    return (1 - fy) * ((1 - fx) * v(x0, y0) + fx * v(x0 + 1, y0)) +
           fy * ((1 - fx) * v(x0, y0 + 1) + fx * v(x0 + 1, y0 + 1));
}

} // namespace porb
