#include "solve/centres.h"

#include "project/camera_edits.h"

#include <map>

namespace porb {

namespace {
constexpr double kSureCircle = 0.6;         ///< confidence
constexpr double kFarthestShift = 0.05;     ///< of the radius: farther off it is another circle
constexpr double kCircleSigmaPercent = 0.3; ///< of the radius, between a circle's middle and its lens's axis

void shift(Lens& lens, const Vec2& by, double radius_px) {
    lens.center_px += by;
    lens.circle.center_px += by;
    lens.circle.radius_px = std::min(lens.circle.radius_px, radius_px);
}
} // namespace

Shot with_centres_seen(const Project& project, const Shot& shot, MediaLibrary& library,
                       const Cancel& cancel) {
    if (shot.solving.centre == Freedom::locked) return shot;
    Shot out = shot;
    if (!out.profile) out.profile = shot.rig;
    std::map<std::string, CircleSearch> by_media;
    bool all = true;
    for (const auto& use : shot.cameras) {
        if (!use.used || use.media.empty() || use.lens_locked) continue;
        if (!by_media.contains(use.media))
            by_media[use.media] = find_shot_circles(project, shot, use.media, library, cancel);
        Camera* camera = find_camera(out.rig, use.camera);
        const ImageCircle& was = camera->lens.circle;
        const FoundCircle* seen = nullptr;
        for (const auto& c : by_media[use.media].circles)
            if (c.confidence >= kSureCircle &&
                (c.circle.center_px - was.center_px).norm() < kFarthestShift * was.radius_px)
                seen = &c;
        if (!seen) {
            all = false;
            continue;
        }
        const Vec2 by = seen->circle.center_px - was.center_px;
        const double radius = seen->circle.radius_px;
        shift(camera->lens, by, radius);
        if (Camera* prior = find_camera(*out.profile, use.camera)) shift(prior->lens, by, radius);
        if (fault_in(camera->lens)) return shot;
    }
    if (all)
        out.solving.centre_sigma_percent = std::min(out.solving.centre_sigma_percent, kCircleSigmaPercent);
    return out;
}

} // namespace porb
