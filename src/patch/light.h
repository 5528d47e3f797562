#pragma once

#include "patch/plates.h"

namespace porb {

/// How a patch meets the footage along its edge at a moment.
struct EdgeStep {
    Seconds time{0};
    double step =
        0; ///< RMS of the difference in luma along the edge, without grain, as a share of full scale
    double worst = 0;             ///< its 95th percentile
    std::array<double, 3> mean{}; ///< R, G, B: the patch less the footage
};
/// Measures it over moments, the patch as it is drawn then (its light included). Along the edge means where
/// the patch passes from showing to not showing. Throws Error when it has no edge in sight, as compose()
/// does, and Cancelled.
std::vector<EdgeStep> edge_steps(Composer& composer, const Project& project, const Shot& shot,
                                 std::size_t patch, std::span<const Seconds> times,
                                 const TellShare& tell = {}, const Cancel& cancel = {});

/// Gain and offset, in linear light, that bring the patch to the footage along its edge, at each of the
/// moments: least squares with outliers left out (Huber), held towards a gain alone where the edge is too
/// even to tell the two apart; then smoothed over time, so that noise does not flicker.
std::vector<PatchLightKey> followed_light(Composer& composer, const Project& project, const Shot& shot,
                                          std::size_t patch, std::span<const Seconds> times,
                                          const TellShare& tell = {}, const Cancel& cancel = {});

/// The place as it is without passing shadows: the median over moments, small and soft (Patch::reference).
TileImage shadow_reference(Composer& composer, const Project& project, const Shot& shot, const Patch& patch,
                           std::span<const Seconds> times, const TellShare& tell = {},
                           const Cancel& cancel = {});

/// Moments for these over a part of a shot: one every `step_s`, at most kMostLightTimes, the last frame too.
std::vector<Seconds> light_times(Seconds in, Seconds out, FrameRate rate, double step_s = 0.25);
inline constexpr std::size_t kMostLightTimes = 600;

} // namespace porb
