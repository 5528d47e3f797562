#pragma once

#include "optics/vec.h"

#include <array>
#include <vector>

namespace porb {

/// What two cameras share, unrolled so that parallax runs along rows: columns are the angle alpha from the
/// line between them (from a to b), rows the angle phi about it. A thing that a sees at alpha is seen by b at
/// alpha plus its parallax, in the same row (epipolar curves of a sphere are meridians about the baseline; Li
/// 2006, "Real-time spherical stereo").
struct Strip {
    Mat3 to_rig;                           ///< from the strip's axes; z runs from a to b
    Vec3 a_m, b_m;                         ///< entrance pupils
    double first_alpha = 0, first_phi = 0; ///< radians; edges of pixel (0, 0)
    double step = 0, row_step = 0;         ///< radians from column to column, and from row to row
    int width = 0, height = 0;
    std::vector<float> sines, cosines; ///< of alpha at every column's edge, times the baseline in metres

    double baseline_m() const { return (b_m - a_m).norm(); }
    /// The direction of a place, rig axes. Continuous coordinates, as everywhere.
    Vec3 direction(double x, double y) const;
    /// The place of a direction in rig axes; x or y lie outside where it is not on the strip.
    Vec2 place(const Vec3& rig_direction) const;
    /// Metres from b to a thing that b sees at column `x` with that parallax (radians, above 0): as the
    /// triangle of a, b and the thing says, base sin(alpha - parallax) / sin(parallax).
    float distance_from_b(float x, float parallax) const;
};

/// The strip on which cameras at `a_m` and `b_m` (rig axes) both see things in these directions from the
/// rig's centre, whether they are infinitely far or as near as `most_inverse_m` (1/m), with `margin_rad`
/// around; empty (width 0) without directions or with a baseline of under a millimetre.
Strip strip_about(const Vec3& a_m, const Vec3& b_m, const std::vector<Vec3>& directions,
                  double most_inverse_m, double margin_rad, double step_rad, double row_step_rad);

/// The columns of a strip on which both cameras see things in these directions, far or near, and as much
/// around: from the first to the one after the last.
std::array<int, 2> columns_about(const Strip& strip, const std::vector<Vec3>& directions,
                                 double most_inverse_m, double margin_rad);

} // namespace porb
