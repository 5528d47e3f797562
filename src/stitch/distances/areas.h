#pragma once

// Distances that are told by hand, or by a shelter, instead of those that were found.
#include "optics/sphere_grid.h"
#include "stitch/plan/plan_key.h"

#include <span>
#include <vector>

namespace porb {

/// A part of the sphere at a moment, and how far away it is told to be.
struct DistanceArea {
    AreaDistance distance;
    double presence = 1; ///< how far it counts at the moment
    double feather_deg = 2;
    /// The outline on that camera's picture, as shapes have it, fading outside as a cut-out does; without
    /// corners the oval of a shelter, which counts whole wherever the shelter has a camera's weight.
    std::size_t camera = 0;
    std::vector<ShapeCorner> corners;
    ShelterKey oval;
    bool operator==(const DistanceArea&) const = default;
};
/// Those of a shot at a moment: its shelters, then its shapes that tell a distance, camera by camera.
std::vector<DistanceArea> distance_areas(const Shot& shot, Seconds time);

/// How far an area counts by cell of a field, 0 to 1, and what it tells there.
struct AreaCell {
    std::int32_t cell;
    float share;
    float inverse_m; ///< where it is told; below 0: as far as what lies about it
};
/// The cells of a square field of side x side that the area covers. `key` has the cameras, in rig axes.
std::vector<AreaCell> area_cells(const DistanceArea& area, const PlanKey& key, const SphereGrid& field);

/// Draws the first channel of a field to what its areas tell, one after the other, and takes the second (how
/// far both pictures show the same) away there, since what was compared lay elsewhere. `counts` has one
/// channel, of the field's cells: how far distances count there, the rest being the agree distance's
/// (`agree_inverse_m`). About 10 ms an area at 576 cells a side.
void apply_areas(SphereGrid& field, const SphereGrid& counts, std::span<const DistanceArea> areas,
                 const PlanKey& key, double agree_inverse_m);

} // namespace porb
