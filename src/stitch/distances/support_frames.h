#pragma once

#include "base/rational.h"

#include <vector>

namespace porb {

/// A moment that says how far things are at another, and how much it counts.
struct SupportFrame {
    Seconds time;
    float weight = 1;
};

/// Whom the distances at `time` are asked of: moments that stand still while it moves on, over the two
/// seconds before it (none before the shot's time 0), and itself, last. Their weights pass evenly from one to
/// the next, so that nothing jumps from frame to frame.
std::vector<SupportFrame> support_frames_of(Seconds time, FrameRate rate);
/// Whether a moment is one of those that stand still, and so will be asked again.
bool counts_for_others(Seconds time, FrameRate rate);

} // namespace porb
