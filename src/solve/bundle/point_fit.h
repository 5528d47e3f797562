#pragma once

#include "optics/rig.h"

#include <span>

namespace porb {

/// A control point by its cameras' numbers, ready for solving.
struct Observation {
    std::size_t a = 0, b = 0; ///< into the rig's cameras
    Vec2 a_px, b_px;
    double weight = 1;
    int track = -1; ///< observations with equal numbers show one thing, at the same place of camera a; -1: a
                    ///< thing of its own
};

/// Where a point lies in the rig, and the residual of each camera's place.
struct PointFit {
    Vec3 direction{0, 0, 1};
    double inverse_m = 0;                    ///< one over its distance; below 0: its rays part
    Vec2 residual_a{0, 0}, residual_b{0, 0}; ///< source pixels: seen minus predicted
    double residual_a_rad = 0, residual_b_rad = 0;
    double residual_px() const {
        return std::sqrt(0.5 * (residual_a.squaredNorm() + residual_b.squaredNorm()));
    }
};

/// The places in space that fit the observations best, by Gauss-Newton on direction and inverse distance
/// (Civera et al. 2008), pixels at both ends weighing alike. `fixed_inverse_m`: all distances are given
/// instead.
std::vector<PointFit> fit_points(const Rig& rig, std::span<const Observation> observations,
                                 const double* fixed_inverse_m = nullptr);

/// Root of the mean of squared residuals over both ends of all points, source pixels and minutes of arc.
struct Rms {
    double px = 0, arcmin = 0;
};
Rms rms_of(std::span<const PointFit> fits);

} // namespace porb
