#include "solve/stitch_error.h"

#include "solve/bundle/observations.h"
#include "solve/finding.h"

namespace porb {

std::optional<Rms> stitch_error(const Project& project, const Shot& shot, Seconds time, MediaLibrary& library,
                                const Cancel& cancel) {
    const auto pairs = overlapping_pairs(shot.rig, cameras_with_sources(project, shot));
    const Moment moment = read_moment(project, shot, time, library);
    MatchOptions match;
    match.margin_deg = 0.8;
    match.wanted = 24;
    ControlPoints points;
    match_moment(shot, shot.rig, moment, pairs, match, false, points, cancel);
    if (points.size() < 8) return std::nullopt;
    auto fits = fit_points(shot.rig, observations_of(shot.rig, points));
    // A few false matches must not raise it: the worst tenth is left out.
    std::sort(fits.begin(), fits.end(),
              [](const PointFit& a, const PointFit& b) { return a.residual_px() < b.residual_px(); });
    fits.resize(std::max<std::size_t>(1, fits.size() * 9 / 10));
    return rms_of(fits);
}

} // namespace porb
