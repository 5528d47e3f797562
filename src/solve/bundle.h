#pragma once

#include "base/progress.h"
#include "project/calibrating.h"

#include <span>

namespace porb {

/// A control point by its cameras' numbers, ready for solving.
struct Sight {
    std::size_t a = 0, b = 0; ///< into the rig's cameras
    Vec2 a_px, b_px;
    double weight = 1;
    int track = -1; ///< sights with equal numbers show one thing, at the same place of camera a; -1: a thing of its own
};

/// A drawn line, ready for solving: its places on one camera.
struct LineSight {
    std::size_t camera = 0;
    LineKind kind = LineKind::straight;
    std::vector<Vec2> places_px;
};

/// Where a point lies in the rig, and by how much each camera's place misses it.
struct PointFit {
    Vec3 direction{0, 0, 1};
    double inverse_m = 0; ///< one over its distance; below 0: its rays part
    Vec2 miss_a{0, 0}, miss_b{0, 0}; ///< source pixels: seen minus predicted
    double miss_a_rad = 0, miss_b_rad = 0;
    double miss_px() const { return std::sqrt(0.5 * (miss_a.squaredNorm() + miss_b.squaredNorm())); }
};

/// The places in space that fit the sights best, by Gauss-Newton on direction and inverse distance (Civera et al.
/// 2008), pixels at both ends weighing alike. `fixed_inverse_m`: all distances are given instead.
std::vector<PointFit> fit_points(const Rig& rig, std::span<const Sight> sights, const double* fixed_inverse_m = nullptr);

/// Root of the mean of squared misses over both ends of all points, source pixels and minutes of arc.
struct Rms {
    double px = 0, arcmin = 0;
};
Rms rms_of(std::span<const PointFit> fits);

/// What a solve found out about the scene, so that the next one over nearly the same points need not ask again.
struct Decided {
    bool far = false;        ///< no parallax is visible
    bool distortion = false; ///< the points tell it
    bool positions = false;  ///< the points tell them
    double noise_px = 0.3;
};

struct BundleProblem {
    Rig start;                    ///< where solving begins, and the rig's place as a whole
    Rig prior;                    ///< what focal length, centre, distortion and position are held near
    std::vector<bool> lens_locked, pose_locked; ///< by camera
    std::vector<int> alike;       ///< cameras with equal numbers share what is shared
    std::vector<Sight> sights;
    std::vector<LineSight> lines;
    SolveSettings settings;
    double agree_distance_m = 0;  ///< for points without a distance of their own; 0: infinitely far
    bool rough = false;           ///< a first solve: turns and lenses only, distances not judged
    std::optional<Decided> warm;  ///< `start` is nearly right already
    bool last = true;             ///< uncertainties are wanted, and what cannot be told is put back
};

struct BundleSolution {
    Rig rig;
    std::vector<PointFit> fits;       ///< of the sights, in their order, each by itself
    std::vector<double> together_px;  ///< by how much each misses what all sights of its thing agree on
    std::vector<ValueFigure> values;
    Decided decided;
    double noise_px = 0; ///< of one place along one axis, estimated
    int rounds = 0;
};

/// Bundle adjustment (Triggs et al. 2000) by Ceres: misses in source pixels with a Cauchy loss, points by direction and
/// inverse distance, priors from the settings, the mean of all cameras' turns and places held. Staged: turns, then
/// lenses, then positions. Values that the points cannot tell are put back to their start and held while the rest is
/// solved again. Throws Error when there is nothing to solve, Cancelled.
BundleSolution solve_bundle(const BundleProblem& problem, const Cancel& cancel);

} // namespace porb
