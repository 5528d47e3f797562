#pragma once

#include "base/progress.h"
#include "media/library.h"
#include "solve/bundle/report.h"

namespace porb {

struct SolveOptions {
    bool from_far = false;   ///< cameras may be turned any way, and lenses be off by several percent
    bool find = true;        ///< look for points first; otherwise solve from those there are
    bool one_moment = false; ///< a single sample of a moving shot is meant
    int points_a_pair = 140; ///< wanted from each pair at each sample
    double nearest_m = 0.4;
};

struct Solved {
    Rig rig;
    ControlPoints points;
    std::vector<LineMark> lines; ///< the shot's, and the straight edges that were found and used
    SolveReport report;
};

/// What is shown while it runs.
struct SolveProgress {
    double share = 0;
    std::string doing;
};
using TellSolve = std::function<void(const SolveProgress&)>;

/// Points, then the rig: rough turns from landmarks, matches in overlaps with the rig so far, a first solve,
/// matches again with the better rig at every sample, the rig. Points that the geometry contradicts are
/// dropped with a reason, again and again until that settles. Points set by hand are kept and used. Throws
/// Error with a plain diagnosis when the sources do not make a rig (swapped, turned, unrelated, black, no
/// overlap, one moment); nothing is changed then.
Solved solve_shot(const Project& project, const Shot& shot, MediaLibrary& library,
                  const SolveOptions& options, const TellSolve& tell, const Cancel& cancel);

/// Points alone, with the rig as it stands and `margin_deg` for its error; those set by hand are kept.
ControlPoints find_points(const Project& project, const Shot& shot, MediaLibrary& library,
                          const SolveOptions& options, double margin_deg, const TellSolve& tell,
                          const Cancel& cancel);

} // namespace porb
