#pragma once

#include "project/project.h"
#include "solve/bundle/point_fit.h"

namespace porb {

/// The distance that the solved points of a region agree on (a robust mean of inverse distances of points
/// within `radius_deg` of a direction of the rig). `fits` are the shot's, of measure_points.
struct AgreeSuggestion {
    double distance_m = 0; ///< 0: infinitely far
    int points = 0;
    double spread = 0; ///< standard deviation of 1/m
};
std::optional<AgreeSuggestion> suggest_agree_distance(const Shot& shot, std::span<const PointFit> fits,
                                                      const Vec3& rig_direction, double radius_deg);
/// How far apart, in source pixels, the two cameras of each used point show it when all agree at
/// `distance_m`.
std::vector<double> doubling_px(const Shot& shot, std::span<const PointFit> fits, double distance_m);

} // namespace porb
