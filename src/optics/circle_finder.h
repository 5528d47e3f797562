#pragma once

#include "optics/lens.h"
#include "picture/picture.h"

#include <span>
#include <vector>

namespace porb {

/// One image circle as the picture shows it.
struct FoundCircle {
    ImageCircle circle;
    double confidence = 0; ///< 0..1: how much of the rim that should be seen was seen, and how exactly
    double rim_seen_deg = 0;
    double spread_px = 0; ///< standard deviation of the rim's points about the circle
};

/// What was found in the cells of a picture, or in one phrase why nothing was.
struct CircleSearch {
    std::vector<FoundCircle> circles; ///< left to right or top to bottom; empty when any cell failed
    std::string why_not;
    std::string mend;
};

/// Looks for the bright disc of a fisheye on its dark surround: one, or two side by side or stacked.
/// `moments` are pictures of one size from the same source (several help in dark scenes); `wanted` is 1, 2,
/// or 0 to decide by shape. The rim's points are where rays lose their light last; a circle is agreed on by
/// random samples (Fischler and Bolles 1981) and fitted geometrically with a robust loss. Parts of the rim
/// may be cut off by the picture's edge, too dark to see, or drowned in flare.
CircleSearch find_circles(std::span<const Picture> moments, int wanted = 0);

} // namespace porb
