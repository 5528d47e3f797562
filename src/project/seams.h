#pragma once

namespace porb {

/// Closing parallax where lenses meet: near a seam, everything is drawn where the rig's centre would see it, by
/// distances found in each frame.
struct FlowSettings {
    bool on = false;
    double strength = 1;    ///< 0: the agree distance, 1: the distances found
    double zone_deg = 14;   ///< how far from a seam, as a difference of what lies inside two reaches
    double nearest_m = 0.7; ///< nearer things are taken to be there
    bool operator==(const FlowSettings&) const = default;
};

} // namespace porb
