// patch: what replaces what should not be in the picture: clean plates, regions found, filling, painting,
// light that is followed, exchange with paint programs. What is drawn from it, stitch draws.
#pragma once

#include "base/progress.h"
#include "stitch/compose.h"

#include <functional>
#include <vector>

namespace porb {

/// What one camera shows of a patch's surface, each pixel of the patch's square where that lies on it.
struct SurfaceView {
    std::size_t camera = 0;        ///< of the shot
    std::vector<Picture> pictures; ///< one for each moment, toned; alpha 0 where it does not see
    /// How well it sees, 0 to 1, row by row: less towards the rim of what it sees, and where it looks from
    /// further away or more slantingly.
    std::vector<float> quality;
};

/// Every camera's, `side` pixels a side, at some moments; those that see nothing are left out. The shot's
/// cameras of either eye count. About 1 s for six cameras and 1024 pixels, and half of that for each further
/// moment of a rig that does not move. Throws as compose() does.
std::vector<SurfaceView> surface_views(Composer& composer, const Project& project, const Shot& shot,
                                       const Patch& patch, std::span<const Seconds> times, int side,
                                       const Cancel& cancel = {});

/// Inverse distance, 1/m, of the patch's surface in a direction of the rig's centre; 0: infinitely far.
double surface_inverse_m(const Shot& shot, const Patch& patch, Seconds time, const Vec3& world_direction);

/// How far below the rig's centre the floor is (above it the ceiling, for a patch that looks up), metres:
/// the height at which neighbouring cameras see the same on it, round the patch's direction. Nothing when
/// none is better than others. A few seconds of work.
std::optional<double> found_height_m(Composer& composer, const Project& project, const Shot& shot,
                                     const Patch& patch, Seconds time, const TellShare& tell = {},
                                     const Cancel& cancel = {});

} // namespace porb
