#pragma once

#include <cmath>
#include <numbers>

namespace porb {

inline constexpr double kPi = std::numbers::pi;

constexpr double radians(double degrees) {
    return degrees * (kPi / 180.0);
}
constexpr double degrees(double rad) {
    return rad * (180.0 / kPi);
}

/// The same direction in (-180, 180].
inline double wrapped_deg(double deg) {
    const double w = std::remainder(deg, 360.0);
    return w <= -180.0 ? w + 360.0 : w;
}

} // namespace porb
