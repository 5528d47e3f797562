#include "optics/eye_rays.h"

#include "base/angle.h"
#include "base/smooth.h"

#include <algorithm>
#include <cmath>

namespace porb {

namespace {
Vec3 turned_right(const Vec3& d, double by_rad) {
    const double c = std::cos(by_rad), s = std::sin(by_rad);
    return {c * d.x() + s * d.z(), d.y(), c * d.z() - s * d.x()};
}
} // namespace

double EyeRays::share(const Vec3& direction) const {
    const double side = std::hypot(direction.x(), direction.z());
    const double latitude_deg = degrees(std::atan2(std::abs(direction.y()), side));
    return 1 - smooth((latitude_deg - merge_from_deg) / std::max(1e-9, merge_to_deg - merge_from_deg));
}

Vec3 EyeRays::origin_m(const Vec3& looks) const {
    const double side = std::hypot(looks.x(), looks.z());
    if (offset_m == 0 || side < 1e-12) return Vec3::Zero();
    return offset_m * share(looks) / side * Vec3(looks.z(), 0, -looks.x());
}

Vec3 EyeRays::looks(const Vec3& shown) const {
    return turn_deg == 0 ? shown : turned_right(shown, radians(turn_deg) * share(shown));
}

Vec3 EyeRays::shown(const Vec3& looks) const {
    return turn_deg == 0 ? looks : turned_right(looks, -radians(turn_deg) * share(looks));
}

EyeRays converged(EyeRays rays, double converge_m) {
    if (converge_m > 0) rays.turn_deg = -degrees(std::asin(std::clamp(rays.offset_m / converge_m, -1.0, 1.0)));
    return rays;
}

} // namespace porb
