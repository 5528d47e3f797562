#pragma once

#include "optics/eye_rays.h"
#include "optics/sphere_grid.h"
#include "stitch/plan/sphere_blocks.h"

namespace porb {

/// Distances as an eye sees them that stands elsewhere than the rig's centre: by the direction in which its
/// rays look (rig axes), the inverse distance along each ray (1/m), told by those from the centre. Each ray
/// is followed from near to far until it meets what the centre sees, so near hides far where the eye is. Past
/// the outline of a near thing a ray goes on to what lies beside it: what the centre does not see is taken to
/// be as far as that. The second channel comes from where the ray ends. Between cells of two things nothing
/// is read. Some 60 ms for a grid of 1152 cells a side, two cores. Outside `only` (all, where there is none)
/// it stays as the centre sees it.
SphereGrid eye_field(const SphereGrid& from_centre, const RigEyeRays& eye,
                     const SphereBlocks* only = nullptr);

} // namespace porb
