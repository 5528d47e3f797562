#pragma once

#include "stitch/plan/plan_key.h"

#include <memory>
#include <optional>

namespace porb {

/// Degrees about a cut-out or restore within which flow, and mixing what it lays on each other, fade out.
inline constexpr double kShapeClear_deg = 4;

/// What a camera's shapes do, over its picture, on rasters so that many places are looked up fast. A cut-out
/// takes away all that is inside it and fades over its feather outside; a restore brings back all but its
/// feather inside. What is cut is left to the others; nothing changes elsewhere.
class ShapeField {
  public:
    ShapeField(const std::vector<KeyShape>& shapes, const Lens& lens);

    struct At {
        float available = 1;  ///< of what the lens would supply there, 0 to 1
        float restored = 0;   ///< how far its whole circle counts instead of its reach
        float edge_deg = 1e3; ///< how far away the nearest change is, at least
    };
    At at(const Vec2& px) const;

  private:
    Vec2 centre_;
    double cells_per_px_ = 1;
    std::vector<At> field_;
};

/// Distance from a closed polygon's edge, positive inside (even-odd rule).
double inside_polygon(const std::vector<Vec2>& polygon, const Vec2& at);

/// Where a camera sees a direction from the rig's centre at the agree distance (0: infinitely far), in radii
/// of its circle; nothing where it does not look at all. And the direction of such a place.
std::optional<Vec2> shape_place(const Camera& camera, const Vec3& rig_direction, double agree_distance_m);
std::optional<Vec3> shape_direction(const Camera& camera, const Vec2& place, double agree_distance_m);

} // namespace porb
