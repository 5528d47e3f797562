#include "solve/pictures/centres.h"

#include "project/camera_edits.h"

#include <map>

namespace porb {

namespace {
constexpr double kSureCircle = 0.6;         ///< confidence
constexpr double kFarthestShift = 0.05;     ///< of the radius: farther off it is another circle
constexpr double kCircleSigmaPercent = 0.3; ///< of the radius, between a circle's middle and its lens's axis

/// Moves the lens to a circle; false when that is too far away to be its own.
bool move_to(Lens& lens, const ImageCircle& seen) {
    const Vec2 by = seen.center_px - lens.circle.center_px;
    if (by.norm() > kFarthestShift * lens.circle.radius_px) return false;
    lens.center_px += by;
    lens.circle.center_px = seen.center_px;
    lens.circle.radius_px = std::min(lens.circle.radius_px, seen.radius_px);
    return !fault_in(lens);
}
} // namespace

Shot with_centres_seen(const Project& project, const Shot& shot, MediaLibrary& library,
                       const Cancel& cancel) {
    if (shot.calibration.solving.centre == Freedom::locked) return shot;
    Shot out = shot;
    if (!out.calibration.profile) out.calibration.profile = shot.rig;
    std::map<std::string, CircleSearch> by_media;
    bool all = true;
    for (const auto& use : shot.cameras) {
        if (!use.used || use.media.empty() || use.lens_locked) continue;
        if (!by_media.contains(use.media))
            by_media[use.media] = find_shot_circles(project, shot, use.media, library, cancel);
        // The rig and the profile that it is held near each go to the circle from where they are.
        Camera moved = *find_camera(out.rig, use.camera);
        std::optional<Camera> prior;
        if (const Camera* p = find_camera(*out.calibration.profile, use.camera)) prior = *p;
        bool seen = false;
        for (const auto& c : by_media[use.media].circles) {
            if (seen || c.confidence < kSureCircle) continue;
            Camera to = moved;
            std::optional<Camera> prior_to = prior;
            if (!move_to(to.lens, c.circle) || (prior_to && !move_to(prior_to->lens, c.circle))) continue;
            moved = std::move(to);
            prior = std::move(prior_to);
            seen = true;
        }
        all = all && seen;
        *find_camera(out.rig, use.camera) = moved;
        if (prior) *find_camera(*out.calibration.profile, use.camera) = *prior;
    }
    if (all)
        out.calibration.solving.centre_sigma_percent =
            std::min(out.calibration.solving.centre_sigma_percent, kCircleSigmaPercent);
    return out;
}

} // namespace porb
