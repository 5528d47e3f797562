#pragma once

#include "optics/rig.h"
#include "project/seams.h"

#include <memory>
#include <optional>

namespace porb {

/// What a camera's shapes do, over its picture: how far (in degrees, about) a place lies outside every
/// cut-out, and how far inside a restore. Signed distances on a raster, so that many places are looked up
/// fast; a shape's own feather is in them, as a stretch towards the feather of the lens.
class ShapeField {
  public:
    /// `shapes` as they are at the moment (their first keys count); `lens_feather_deg` is the camera's.
    ShapeField(const std::vector<Shape>& shapes, const Lens& lens, double lens_feather_deg);

    /// A lens's clearance inside its reach, with shapes: what is cut lies outside, what is restored inside as
    /// far as the lens sees (`seen_deg` inside its circle).
    double inside_deg(const Vec2& px, double reach_inside_deg, double seen_deg) const;
    /// By how much the steepest edge makes these angles grow faster than the directions themselves; 1 and
    /// more.
    double steepest() const { return steepest_; }

  private:
    double read(const std::vector<float>& field, const Vec2& px) const;
    Vec2 centre_;
    double cells_per_px_ = 1, steepest_ = 1;
    std::vector<float> outside_cuts_, inside_restores_; ///< empty: no such shape
};

/// Distance from a closed polygon's edge, positive inside (even-odd rule).
double inside_polygon(const std::vector<Vec2>& polygon, const Vec2& at);

/// Where a camera sees a direction from the rig's centre at the agree distance (0: infinitely far), in radii
/// of its circle; nothing where it does not look at all. And the direction of such a place.
std::optional<Vec2> shape_place(const Camera& camera, const Vec3& rig_direction, double agree_distance_m);
std::optional<Vec3> shape_direction(const Camera& camera, const Vec2& place, double agree_distance_m);

} // namespace porb
