#include "project/colour.h"

#include <algorithm>

namespace porb {

double light_left(const std::array<double, 2>& vignetting, double q) {
    constexpr double kLeast = 0.02;
    return std::max(kLeast, 1 + q * (vignetting[0] + q * vignetting[1]));
}

std::array<double, 3> gains_at(const CameraColour& colour, Seconds time) {
    std::array<double, 3> ev{};
    const auto& keys = colour.gains;
    if (!keys.empty()) {
        const auto after =
            std::find_if(keys.begin(), keys.end(), [&](const GainKey& k) { return k.time > time; });
        if (after == keys.begin())
            ev = keys.front().ev;
        else if (after == keys.end())
            ev = keys.back().ev;
        else {
            const GainKey &from = *(after - 1), &to = *after;
            const double share = (time - from.time).to_double() / (to.time - from.time).to_double();
            for (std::size_t c = 0; c < 3; ++c) ev[c] = from.ev[c] + share * (to.ev[c] - from.ev[c]);
        }
    }
    ev[0] += colour.exposure_ev + colour.warmth_ev / 2;
    ev[1] += colour.exposure_ev + colour.tint_ev;
    ev[2] += colour.exposure_ev - colour.warmth_ev / 2;
    return ev;
}

} // namespace porb
