#pragma once

// A camera as plans look through it; for the files of stitching alone.
#include "stitch/plan/plan.h"
#include "stitch/plan/shapes.h"

namespace porb {

/// One camera ready for many directions.
struct PlanLens {
    LensMap map;
    Mat3 from_world; ///< world directions to the camera's
    Vec3 position_m; ///< entrance pupil in the camera's axes
    double reach_rad, feather_deg;
    double mix_deg; ///< width of the transition to a neighbour where both show the same: the feather, or more
    double rad_per_px; ///< near the rim: turns clearance into an angle
    double support;    ///< source pixels around a position that are read
    int level;
    std::size_t index;
    Vec3 row_turn;                            ///< of the plan's key, in the camera's axes
    double cos_far;                           ///< of the angle past which a direction is certainly not seen
    std::shared_ptr<const ShapeField> shapes; ///< or none

    Vec3 ray(const Vec3& world, double inverse_m) const {
        return from_world * world - inverse_m * position_m;
    }
    /// Of a ray that looks from elsewhere than the rig's centre; its own inverse distance.
    Vec3 ray(const Vec3& world, const Vec3& origin_m, double inverse_m) const {
        return from_world * (world + inverse_m * origin_m) - inverse_m * position_m;
    }
};

/// Angle (degrees) by which a ray lies inside both reach and circle, and where it lands.
struct Landing {
    Vec2 px;
    double margin_deg;      ///< kCutAway_deg where a cut-out leaves nothing
    float available = 1;    ///< of what it would supply, by its shapes
    float edge_deg = 1e3;   ///< how far the nearest change by a shape is
    double lead_deg = -1e9; ///< of two cameras the one ahead supplies; by found lines where there are any
};
inline constexpr double kCutAway_deg = -1e3;
/// Where a ray in a lens's axes lands, rows read at other moments than the frame's own allowed for.
Landing land(const PlanLens& lens, const Vec3& ray);

/// How often a lens's picture is to be halved so that its proxy will do, and no less often than `level`; one
/// so small that little would be left is not halved further.
int level_for_proxies(int level, const Lens& lens, int proxy_level);

/// The contributing cameras of a plan, in its order.
std::vector<PlanLens> plan_lenses(const PlanKey& key);

/// What narrow_weights() takes for these lenses: their transitions on the mean.
int feather_power_of(const std::vector<PlanLens>& lenses);

inline constexpr double kWideMix_deg = 40;  ///< the transition's width
inline constexpr double kWideZone_deg = 50; ///< in which pictures are compared for it, as a flow's zone_deg

/// The part of a view's target that is made.
inline Region whole_region(const View& view) {
    return view.region.width > 0 ? view.region : Region{0, 0, view.target.width, view.target.height};
}

} // namespace porb
