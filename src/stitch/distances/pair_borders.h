#pragma once

// Where one pair of cameras hands over to the next; for the files of distances alone.
#include "optics/sphere_grid.h"

#include <cstdint>
#include <vector>

namespace porb {

/// Cells of a field of `side` x `side` that lie within three of one of another pair, row by row: their pairs
/// tell distances a little apart. `pair_of`: by cell, -1 for none.
std::vector<int> pair_borders(const std::vector<std::int16_t>& pair_of, int side);

/// Those cells take the mean of what lies about them in both channels, so that nothing breaks there.
void smooth_borders(SphereGrid& field, const std::vector<int>& borders);

/// The same of inverse distances on `finer` times as many cells a side: the mean is of those that belong to
/// the same surface, so that steps stay. The grid's own border is left as it was before the last change.
void smooth_fine_borders(SphereGrid& grid, const std::vector<int>& borders, int finer);

} // namespace porb
