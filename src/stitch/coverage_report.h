#pragma once

#include "stitch/plan.h"

#include <array>

namespace porb {

/// How wide two cameras' pictures overlap, along the great circle from one axis to the other.
struct PairOverlap {
    std::size_t a, b; ///< indices into the shot's cameras
    double width_deg;
};

/// Who sees what, in the rig's own directions (the shot's orientation left out).
struct CoverageReport {
    std::array<double, 4> share{};     ///< of the sphere seen by 0, 1, 2, and 3 or more lenses
    std::vector<PairOverlap> overlaps; ///< only pairs that overlap, widest first
    std::vector<Vec3> unseen;          ///< directions nobody sees, spread evenly, at most a few hundred
};
CoverageReport coverage_report(const Shot& shot);

/// What cut-outs leave that nobody shows any more.
struct CutHole {
    double square_deg = 0; ///< of the sphere (which has 41253), to about one
    Vec3 middle{0, 0, 1};  ///< of its largest stretch, about; rig axes
    std::vector<std::string>
        could_fill; ///< cameras whose circles show most of it beyond their reach, best first
};
CutHole cut_hole(const Shot& shot, Seconds time);

/// The cameras that meet on seams, by their ids, those with the longest seams first.
std::vector<std::pair<std::string, std::string>> meeting_cameras(const Shot& shot);

} // namespace porb
