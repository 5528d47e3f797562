#pragma once

#include "base/progress.h"
#include "solve/bundle/report.h"

namespace porb {

/// The rig from the points (and lines) of several shots of the same rig together, beginning at `start`; the
/// first shot's settings, locks and profile hold, and the report compares with `before`. `rough` is a first
/// solve of turns and lenses. The points come back with what was dropped, and the lines without found edges
/// that are not straight, in the shots' order.
struct SolvedTogether {
    Rig rig;
    std::vector<ControlPoints> points;
    std::vector<std::vector<LineMark>> lines;
    SolveReport report;
};
SolvedTogether solve_points(const std::vector<const Shot*>& shots, const Rig& start, const Rig& before,
                            bool drop, const Cancel& cancel, bool rough = false);

} // namespace porb
