#pragma once

#include <algorithm>

namespace porb {

/// 0 up to t = 0, 1 from t = 1 on, and between them without a kink at either end: 3 t^2 - 2 t^3.
inline double smooth(double t) {
    t = std::clamp(t, 0.0, 1.0);
    return t * t * (3 - 2 * t);
}

} // namespace porb
