#pragma once

#include "optics/rig.h"

namespace porb {

/// A place in space as solvers move it: a direction, tilted a little along two axes across it, and an inverse
/// distance.
struct PointBlock {
    Vec3 d, e1, e2;
    double v[3] = {}; ///< along e1, along e2, inverse distance
    Vec3 direction() const { return (d + v[0] * e1 + v[1] * e2).normalized(); }
    double inverse() const { return v[2] / (d + v[0] * e1 + v[1] * e2).norm(); }
};
/// The block about a unit direction.
PointBlock point_about(const Vec3& d);

/// A camera as a fit looks through it.
struct FitEye {
    LensMap map;
    Mat3 to_camera;
    Vec3 position;
    explicit FitEye(const Camera& camera);
    /// Where it sees the place minus where it should: source pixels.
    Vec2 residual(const PointBlock& point, const Vec2& px) const;
};
std::vector<FitEye> fit_eyes(const Rig& rig);

} // namespace porb
