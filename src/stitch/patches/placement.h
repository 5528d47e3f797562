#pragma once

#include "optics/eye_rays.h"
#include "project/project.h"
#include "stitch/plan/view.h"

namespace porb {

/// Where a patch lies for an eye at a moment: equal placements show equal patches at equal places.
struct PatchPlacement {
    Mat3 to_patch = Mat3::Identity(); ///< world directions to its own axes: x right, y down, z towards it
    double half_width = 1;            ///< of its square on the plane at distance 1: tan(width / 2)
    PatchSurface surface = PatchSurface::far;
    double distance_m = 1;
    Vec3 down = Vec3(0, 1, 0); ///< of its floor (or up, of its ceiling), world axes
    EyeRays rays;              ///< of the eye that sees it, world axes
    bool operator==(const PatchPlacement&) const = default;
};
PatchPlacement placement_of(const Shot& shot, const Patch& patch, const PatchKey& place, Seconds time,
                            Eye eye);

/// The place on the patch's square, (-1, -1) at its upper left corner and (1, 1) at the lower right, that is
/// seen in a world direction of the eye's picture; nothing where the patch's plane is not met. May lie
/// outside the square.
std::optional<Vec2> square_place(const PatchPlacement& placement, const Vec3& shown);
/// The world direction, from the rig's centre, of a place on the square.
Vec3 direction_of(const PatchPlacement& placement, const Vec2& square);

/// The square seen straight on from the rig's centre, `side` pixels a side: what all that is painted is
/// painted in.
View patch_view(const PatchPlacement& placement, int side);
/// The half angle of the cone about the patch's direction that holds it for any eye, radians.
double cone_of(const PatchPlacement& placement);

} // namespace porb
