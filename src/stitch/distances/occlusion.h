#pragma once

#include "optics/eye_rays.h"
#include "optics/sphere_grid.h"
#include "stitch/distances/silhouettes.h"

#include <cstdint>
#include <span>
#include <vector>

namespace porb {

/// How far things are by direction from the rig's centre, and which cameras see them.
struct DistanceField {
    SphereGrid grid; ///< 1/m, and how far both pictures show the same
    /// By cell of the grid, its border included: bit i is set where something nearer keeps the shot's camera
    /// i from seeing what the grid tells. Empty: every camera sees everything.
    std::vector<std::uint64_t> hidden;
    Silhouettes silhouettes; ///< where the grid steps; empty: it is read as it is
    OutlineBlocks outlines;  ///< of these two
    std::size_t bytes() const {
        return grid.bytes() + hidden.size() * sizeof(std::uint64_t) + silhouettes.bytes() + outlines.bytes();
    }
};

/// A camera that may have something in its way.
struct Viewpoint {
    std::size_t camera = 0;    ///< of the shot's; at most 63
    Vec3 pupil_m;              ///< entrance pupil, rig axes
    Vec3 axis = Vec3(0, 0, 1); ///< where it looks
    double cos_reach = -1;     ///< of the angle from there within which it supplies pictures
};

/// By how much (1/m) a thing as near as that stands before what lies behind it where its outline is.
float outline_step(float inverse_m);

/// What DistanceField::hidden holds for a grid. From each cell that stands before its neighbour the shadow is
/// followed that it throws, seen from a viewpoint, on what lies behind: on the sphere about the centre a
/// camera's rays are arcs towards its pupil. Shadows are wider by half of the `soft_cells` that a lens's
/// pixel covers, and by a cell at least: the outline that throws one is soft in the camera's picture. `known`
/// says for which cells (without border, row by row) the grid tells a distance that was found; elsewhere
/// nothing hides and nothing is hidden; empty: for all. `eye`: of whose rays the grid tells, where they do
/// not all come from the centre. Viewpoints are worked on in parallel, some 10 ms each for a grid of 1152
/// cells a side.
std::vector<std::uint64_t> hidden_cameras(const SphereGrid& grid, std::span<const Viewpoint> viewpoints,
                                          std::span<const char> known, double soft_cells,
                                          const RigEyeRays& eye = {});

/// Where every camera that looks there is `hidden` from what the grid tells, nobody sees what a viewer at the
/// centre would: drawn at its distance it would come in shreds of what is in the way. There the thing in the
/// way goes on in the grid: what shows just past its outline is drawn instead, whole. Changes both, their
/// borders included. Costs some ms.
void cover_unseen(SphereGrid& grid, std::vector<std::uint64_t>& hidden, std::span<const Viewpoint> viewpoints,
                  const RigEyeRays& eye = {});

} // namespace porb
