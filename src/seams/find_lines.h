#pragma once

#include "base/progress.h"
#include "stitch/compose.h"

#include <functional>

namespace porb {

/// How lines are looked for.
struct LineSearch {
    double every_s = 0.5; ///< lines may take another place as often
};

/// Finds where neighbours best pass into each other, by minimal cuts (Kwatra et al. 2003, "Graphcut
/// textures"; alpha expansion, Boykov, Veksler and Zabih 2001) through what the cameras show: along places
/// where they differ little in colour and gradient, where little stands out and little moves, not far from
/// where lenses see best, and where the line was before. A line stays exactly where it is until something
/// would be cut. With the shot's flow on, cameras are compared as it draws them. Over the shot's used part.
/// Throws Error when no two cameras overlap, and Cancelled. `step` is called with the share that is done.
SeamLines find_lines(const Project& project, const Shot& shot, Composer& composer, const LineSearch& search,
                     const std::function<void(double)>& step, const Cancel& cancel);

} // namespace porb
