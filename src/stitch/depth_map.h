#pragma once

#include "stitch/compose.h"

#include <functional>

namespace porb {

/// Distances from the rig's centre as a picture of them; of an eye drawn from distances, along its rays.
struct DepthMap {
    int width = 0, height = 0;
    std::vector<float>
        metres; ///< row by row; what is infinitely far or further than kFarthestDepth_m is that far
};
inline constexpr float kFarthestDepth_m = 10000;

/// What the shot's distances tell at a moment, by pixel of `view`, turned as its picture is: what was found
/// near seams, or wherever two cameras see, as the shot's flow is set; the agree distance elsewhere, and
/// everywhere while flow is off. Without a direction (outside a lens): 0. Costs what the frame's distances
/// cost. Throws Error as compose() does, and Cancelled.
DepthMap depth_map(Composer& composer, const Project& project, const Shot& shot, Seconds time,
                   const View& view, const Cancel& cancel = {});

/// The same of distances that a frame was drawn by; empty: all at the agree distance.
DepthMap depth_map(const SphereGrid& found, const Shot& shot, Seconds time, const View& view);
/// Both eyes as stacked() lays out their pictures.
DepthMap stacked(const DepthMap& upper, const DepthMap& lower, bool side_by_side);

/// Writes them by the name's ending, the name appears only when complete. .exr: one channel "Z", 32-bit,
/// metres. .png: 16-bit grey, the inverse: value = 65535 * 0.25 m / distance, so what is nearer than 0.25 m
/// is white, and what is infinitely far black. Throws Error.
void write_depth(const DepthMap& depth, const std::filesystem::path& path);
/// One for each frame of the span, by a pattern ("depth_%04d.exr"), numbered from 0; all of them appear at
/// once, or none. `step` is told how many are done, and of how many. Throws Error, and Cancelled.
void write_depths(Composer& composer, const Project& project, const Shot& shot, const Span& span,
                  const View& view, const std::filesystem::path& pattern,
                  const std::function<void(std::int64_t, std::int64_t)>& step, const Cancel& cancel);
bool is_depth_name(const std::filesystem::path& path);

} // namespace porb
