// stitch: from a project, a shot, a time and a view to a picture. compose() is the only way there: the map,
// the window, a still and a master differ only in the View they pass. Blend plans (who supplies which pixel
// from where) depend on the rig and the view alone and are cached by value; the hot loop that follows them is
// in blend_kernel.cpp.
#pragma once

#include "optics/target.h"

namespace porb {

enum class Eye { mono, left, right };
/// linear reads 2 x 2 pixels, cubic 4 x 4 (Catmull-Rom); both after reduction to about the picture's own
/// scale.
enum class Filter { linear, cubic };

/// The part of the target's pixels that is made; width 0 stands for all of them.
struct Region {
    int x = 0, y = 0, width = 0, height = 0;
    bool operator==(const Region&) const = default;
};

struct View {
    Target target;
    Region region;
    Eye eye = Eye::mono;
    Filter filter = Filter::cubic;
    bool patches = true; ///< false: what cameras supply alone
    /// For what passes quickly: sources are halved at least so often, and read from their proxies where there
    /// are such. 0: never. Not for what is kept.
    int proxy_level = 0;
    bool operator==(const View&) const = default;
};

} // namespace porb
