#include "stitch/distances/support_frames.h"

#include "base/angle.h"

#include <algorithm>
#include <cmath>

namespace porb {

namespace {
constexpr int kOthers = 6; ///< moments in the two seconds
constexpr double kEvery_s = 1.0 / 3;
constexpr float kOwn = 0.25f; ///< against some 3 of all others

Seconds step_of(FrameRate rate) {
    return frame_time(std::max<std::int64_t>(1, std::llround(kEvery_s * rate.to_double())), rate);
}
} // namespace

bool counts_for_others(Seconds time, FrameRate rate) {
    return (time / step_of(rate)).den() == 1;
}

std::vector<SupportFrame> support_frames_of(Seconds time, FrameRate rate) {
    const Seconds every = step_of(rate);
    const double all = (every * Rational(kOthers)).to_double();
    const std::int64_t last = frame_index(time, Rational(1) / every);
    std::vector<SupportFrame> out;
    for (std::int64_t k = std::max<std::int64_t>(0, last - kOthers); k <= last; ++k) {
        const Seconds then = every * Rational(k);
        const double age = (time - then).to_double(), wave = std::sin(kPi * age / all);
        if (age > 0 && age < all && wave * wave > 1e-4) out.push_back({then, float(wave * wave)});
    }
    out.push_back({time, kOwn});
    return out;
}

} // namespace porb
