// stitch: from a project, a shot, a time and a view to a picture. compose() is the only way there: the map, the window,
// a still and a master differ only in the View they pass. Blend plans (who supplies which pixel from where) depend on the
// rig and the view alone and are cached by value; the hot loop that follows them is in blend_kernel.cpp.
#pragma once

#include "optics/target.h"

namespace porb {

enum class Eye { mono, left, right };
/// linear reads 2 x 2 pixels, cubic 4 x 4 (Catmull-Rom); both after reduction to about the picture's own scale.
enum class Filter { linear, cubic };

struct View {
    Target target;
    Eye eye = Eye::mono;
    Filter filter = Filter::cubic;
    bool operator==(const View&) const = default;
};

} // namespace porb
