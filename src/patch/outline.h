#pragma once

#include "optics/vec.h"
#include "picture/tiles.h"

#include <vector>

namespace porb {

/// Where a mask passes a half, as closed lines on its square ((-1, -1) to (1, 1)): for showing it, to about a
/// hundredth of the square's side. A few milliseconds.
std::vector<std::vector<Vec2>> mask_outlines(const TileImage& mask);

} // namespace porb
