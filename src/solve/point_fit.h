#pragma once

#include "optics/rig.h"

#include <span>

namespace porb {

/// A control point by its cameras' numbers, ready for solving.
struct Sight {
    std::size_t a = 0, b = 0; ///< into the rig's cameras
    Vec2 a_px, b_px;
    double weight = 1;
    int track = -1; ///< sights with equal numbers show one thing, at the same place of camera a; -1: a thing
                    ///< of its own
};

/// Where a point lies in the rig, and by how much each camera's place misses it.
struct PointFit {
    Vec3 direction{0, 0, 1};
    double inverse_m = 0;            ///< one over its distance; below 0: its rays part
    Vec2 miss_a{0, 0}, miss_b{0, 0}; ///< source pixels: seen minus predicted
    double miss_a_rad = 0, miss_b_rad = 0;
    double miss_px() const { return std::sqrt(0.5 * (miss_a.squaredNorm() + miss_b.squaredNorm())); }
};

/// The places in space that fit the sights best, by Gauss-Newton on direction and inverse distance (Civera et
/// al. 2008), pixels at both ends weighing alike. `fixed_inverse_m`: all distances are given instead.
std::vector<PointFit> fit_points(const Rig& rig, std::span<const Sight> sights,
                                 const double* fixed_inverse_m = nullptr);

/// Root of the mean of squared misses over both ends of all points, source pixels and minutes of arc.
struct Rms {
    double px = 0, arcmin = 0;
};
Rms rms_of(std::span<const PointFit> fits);

} // namespace porb
