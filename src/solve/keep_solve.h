#pragma once

#include "solve/bundle/report.h"

namespace porb {

/// Puts a result into a shot: rig, points, lines, a kept solve named after its figures, origins. Locked parts
/// stay. Where nobody has chosen the agree distance, it becomes the middle of the solved depths (of 1/m, over
/// all directions) and is returned when that is another than before.
std::optional<double> take_solve(Shot& shot, const Rig& rig, const ControlPoints& points,
                                 std::vector<LineMark> lines, const SolveReport& report);
/// Goes back to a kept solve (its rig), marked as solved.
void return_to_solve(Shot& shot, int id);

} // namespace porb
