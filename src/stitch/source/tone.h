#pragma once

#include "project/project.h"

namespace porb {

/// What the blend does to the pixels of one camera on their way: light is multiplied by a gain a channel and
/// divided by the lens's falloff. In the working format's curve a gain k is exactly
/// e' = s (e + 0.055) - 0.055 with s = k^(1/2.4), but for the straight foot of the curve, where a line from
/// 0 stands for it (off by under 0.003). What a falloff v does to s is a polynomial of the squared radius,
/// fitted to v^(-1/2.4).
struct CameraTone {
    bool plain = true; ///< nothing is done
    float scale[3] = {1, 1, 1};
    float centre_u = 0, centre_v = 0; ///< of the image circle, pixels of the (reduced) source
    float per_radius2 = 0;            ///< 1 / R^2
    float rim[3] = {};                ///< s grows by 1 + rim0 q + rim1 q^2 + rim2 q^3, q = r^2 / R^2
};

inline constexpr float kCurveFoot = 0.055f, kFootEnd = 0.04045f;
inline constexpr float kFarthestQ = 1.1f; ///< the polynomial is not followed farther out

/// Of a camera at a moment; `level` says how often its source is halved.
CameraTone tone_of(const ShotCamera& use, const Lens& lens, const MatchSettings& settings, Seconds time,
                   int level);

} // namespace porb
