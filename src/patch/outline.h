#pragma once

#include "optics/vec.h"
#include "picture/tiles.h"
#include "stitch/plan/view.h"

#include <span>
#include <vector>

namespace porb {

/// Where a mask passes a half, as closed lines on its square ((-1, -1) to (1, 1)): for showing it, to about a
/// hundredth of the square's side. A few milliseconds.
std::vector<std::vector<Vec2>> mask_outlines(const TileImage& mask);

/// By pixel of a box, row by row: 1 inside a closed outline (pixels), 0 outside; softly across its edge.
/// Empty for fewer than three corners.
std::vector<float> outline_mask(std::span<const Vec2> outline, const Region& box);

} // namespace porb
