#pragma once

#include "optics/rig.h"

namespace porb {

/// By how much the viewing rays of two rigs with the same cameras differ: the angle between where each says a
/// pixel looks, over a grid of the image circles, after the one turn of the whole rig that makes them agree
/// best.
struct RayError {
    double mean_deg = 0, worst_camera_deg = 0; ///< mean over all; the largest mean of one camera
    std::vector<double> camera_deg;            ///< mean of each
};
RayError ray_error(const Rig& a, const Rig& b);

} // namespace porb
