#pragma once

#include "base/progress.h"
#include "project/calibrating.h"
#include "solve/bundle/point_fit.h"

#include <optional>

namespace porb {

/// A line, ready for solving: its places on one camera, and what each is good to across it.
struct LineObservation {
    std::size_t camera = 0;
    LineKind kind = LineKind::straight;
    std::vector<Vec2> places_px;
    double noise_px = 0.5;
};

/// What a solve found out about the scene, so that the next one over nearly the same points need not ask
/// again.
struct Decided {
    bool far = false;        ///< no parallax is visible
    bool distortion = false; ///< the points tell it
    bool positions = false;  ///< the points tell them
    double noise_px = 0.3;   ///< what one place is good to along one axis, estimated
};

struct BundleProblem {
    Rig start; ///< where solving begins, and the rig's place as a whole
    Rig prior; ///< what focal length, centre, distortion and position are held near
    std::vector<bool> lens_locked, pose_locked; ///< by camera
    std::vector<int> alike;                     ///< cameras with equal numbers share what is shared
    std::vector<Observation> observations;
    std::vector<LineObservation> lines;
    SolveSettings settings;
    double agree_distance_m = 0; ///< for points without a distance of their own; 0: infinitely far
    bool rough = false;          ///< a first solve: turns and lenses only, distances not judged
    std::optional<Decided> warm; ///< `start` is nearly right already
    bool last = true;            ///< uncertainties are wanted, and what cannot be told is put back
};

struct BundleSolution {
    Rig rig;
    std::vector<double> joint_residuals_px; ///< the residual of each observation against what all
                                            ///< observations of its thing agree on
    std::vector<ValueFigure> values;
    Decided decided;
};

/// Bundle adjustment (Triggs et al. 2000) by Ceres: residuals in source pixels with a Cauchy loss, points by
/// direction and inverse distance, priors from the settings, the mean of all cameras' turns and places held.
/// Staged: turns, then lenses, then positions. Values that the points cannot tell are put back to their start
/// and held while the rest is solved again. Throws Error when there is nothing to solve, Cancelled.
BundleSolution solve_bundle(const BundleProblem& problem, const Cancel& cancel);

} // namespace porb
