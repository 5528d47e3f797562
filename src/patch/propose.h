#pragma once

#include "patch/plates.h"

namespace porb {

/// What is proposed to be covered, and what it would be covered with.
struct Proposal {
    TileImage mask;          ///< 1 on what stands there, with some of what lies about it
    Picture plate;           ///< from neighbours that see behind it; alpha 0 where none does
    std::vector<float> hole; ///< by pixel of the square, 0 or 1: of the mask, what the plate does not know
    double share = 0;        ///< of the square that is masked
    bool moves = false;      ///< the rig turns or moves over what is below it: the plate is of one moment
};

/// Looks for what is fixed to the rig in a patch's square: a stand, its clamps and feet. Where cameras are
/// apart, it lies at another place of the patch's surface to each of them, which tells it from what is on the
/// floor itself; where the rig turns or moves, it is what does not change while all else does. Its feet,
/// where all cameras see the same, are told by its colours, as far as they are connected with it. `patch`
/// says where to look, its surface and resolution. Throws Error when nothing is found, as compose() does, and
/// Cancelled.
Proposal proposed(Composer& composer, const Project& project, const Shot& shot, const Patch& patch,
                  std::span<const Seconds> times, const TellShare& tell = {}, const Cancel& cancel = {});

/// A soft edge for a mask about what `inside` covers (0 or 1 by pixel), where plate and footage differ least:
/// the closed way of least difference round it, by dynamic programming over directions from its middle.
/// Nothing of it lies in `inside`; at most `reach` (a share of the square's side) away from it.
TileImage least_edge(const Picture& plate, const Picture& footage, const std::vector<float>& inside,
                     double reach = 0.25);

/// A patch for the floor below: straight down, as wide as a stand needs, as fine as a sphere of that width,
/// on the floor where that is found.
Patch ground_patch(Composer& composer, const Project& project, const Shot& shot, Seconds time,
                   int sphere_width, const TellShare& tell = {}, const Cancel& cancel = {});

/// What a fill begins with: the footage of the square's moments, inside the patch's mask what neighbours see
/// behind it; `hole` becomes 1 where nothing is known, inside the mask. Without a mask the whole square
/// inside its rim is to be filled, where neighbours do not see it.
Picture filling_plate(Composer& composer, const Project& project, const Shot& shot, const Patch& patch,
                      std::span<const Seconds> times, std::vector<float>& hole, const Cancel& cancel = {});

/// A patch for another shot of the same place: turned, moved and scaled so that it lies on the same ground,
/// by the ground's features. Throws Error when the ground is not found again, as compose() does, and
/// Cancelled.
Patch carried_over(Composer& composer, const Project& project, const Shot& shot, const Patch& patch,
                   Seconds time, const Shot& other, const Cancel& cancel = {});

/// For people: what a patch that was proposed for a moving rig cannot do.
inline constexpr const char* kFloorPasses =
    "the rig moves over the floor: a painted patch stands still while the floor passes. Smoothed or mirrored "
    "surroundings follow it";
/// For people: that what neighbours see does not fit the footage about a patch, since that is drawn at
/// another distance than the patch's surface; nullptr: it fits.
const char* drawn_elsewhere(const Shot& shot, const Patch& patch);

} // namespace porb
