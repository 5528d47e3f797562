#pragma once

// Grids over the sphere as if on more cells; for the files of distances alone.
#include "optics/sphere_grid.h"

namespace porb {

/// What a grid holds at cell (x, y) of one on `times` as many cells a side, read bilinearly on the square
/// itself.
void read_finer(const SphereGrid& grid, int times, int x, int y, float* to);
/// All of that. As many rows at once as there are cores.
SphereGrid enlarged(const SphereGrid& grid, int times);

} // namespace porb
