#pragma once

#include "align/correlate.h"
#include "base/progress.h"
#include "media/library.h"
#include "optics/rig.h"

#include <functional>

namespace porb {

/// How a source moves: the camera's turning (three channels, radians a frame, in the rig's axes) and how much
/// its picture changes (one channel), frame by frame between two source times, brought to `rate_hz`.
struct MotionSignals {
    Signal1d turning, change;
};

/// Turning by direct alignment of neighbouring frames on the sphere: least squares of the brightness
/// difference over the three small angles, robustly weighted (Lucas and Kanade 1981, with the lens's own
/// Jacobian). Frames are read at about 100 pixels a circle.
MotionSignals motion_signals(const MediaRef& ref, const Camera& camera, Seconds from, Seconds to,
                             double rate_hz, MediaLibrary& library,
                             const std::function<void(double)>& progress, const Cancel& cancel);

/// The turn of the camera between two small pictures of its source, camera axes, radians: right to about a
/// seventh of its size, which is all that lining up needs.
Vec3 turn_between(const Picture& first, const Picture& second, const Lens& lens);

} // namespace porb
