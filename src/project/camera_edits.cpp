#include "project/camera_edits.h"

#include "base/error.h"
#include "project/origins.h"

#include <fmt/format.h>

namespace porb {

namespace {
constexpr int kMoments = 4;
constexpr int kCircleLongest = 2400;
} // namespace

std::vector<std::string> alike_cameras(const Rig& rig, std::string_view id) {
    std::vector<std::string> out;
    const Camera* like = find_camera(rig, id);
    for (const auto& c : rig.cameras)
        if (like && c.lens.projection == like->lens.projection && c.lens.width == like->lens.width &&
            c.lens.height == like->lens.height)
            out.push_back(c.id);
    return out;
}

Lens pasted_lens(const Lens& from, const Lens& onto) {
    Lens out = from;
    if (from.width != onto.width || from.height != onto.height) out = scaled(from, onto.width, onto.height);
    const Vec2 shift = onto.circle.center_px - out.circle.center_px;
    out.center_px += shift;
    out.circle.center_px += shift;
    return out;
}

void set_circle(Lens& lens, const ImageCircle& circle) {
    const double fov = field_of_view_deg(lens);
    const double k = circle.radius_px / lens.circle.radius_px;
    lens.center_px = circle.center_px + k * (lens.center_px - lens.circle.center_px);
    lens.circle = circle;
    lens.focal_px = focal_for_field_of_view(lens, fov);
}

CircleSearch find_shot_circles(const Project& project, const Shot& shot, std::string_view media_id,
                               MediaLibrary& library, const Cancel& cancel) {
    const Media* media = find_media(project, media_id);
    if (!media) return {{}, "there is no source", "Give the camera its source"};
    const MediaInfo info = library.info(media->ref);
    int cameras = 0;
    const ShotCamera* use = nullptr;
    for (const auto& c : shot.cameras)
        if (c.media == media_id) ++cameras, use = &c;
    int level = 0;
    while (std::max(info.width, info.height) >> (level + 1) >= kCircleLongest) ++level;
    // Moments of the used part, spread evenly; a still has one.
    const Seconds first =
        use ? std::clamp(source_time(*use, shot.timing.in), Seconds(0), info.duration) : Seconds(0);
    const Seconds last = use && shot.timing.out
                             ? std::clamp(source_time(*use, *shot.timing.out), first, info.duration)
                             : info.duration;
    std::vector<Picture> moments;
    for (int i = 0; i < kMoments; ++i) {
        cancel.check();
        const Seconds t = first + (last - first) * Rational(2 * i + 1, 2 * kMoments);
        if (const auto p = library.picture(media->ref, t, level)) moments.push_back(*p);
        if (info.ref.kind == MediaKind::still) break;
    }
    CircleSearch found = find_circles(moments, cameras == 2 ? 2 : cameras == 1 ? 1 : 0);
    const double back = moments.empty() ? 1 : double(info.width) / moments[0].width();
    for (auto& c : found.circles) {
        c.circle.center_px *= back;
        c.circle.radius_px *= back;
        c.spread_px *= back;
    }
    return found;
}

int take_circles(Shot& shot, std::string_view media, const CircleSearch& found) {
    int set = 0;
    std::vector<bool> given(found.circles.size(), false);
    for (auto& use : shot.cameras) {
        Camera* camera = find_camera(shot.rig, use.camera);
        if (use.media != media || !camera || use.lens_locked) continue;
        std::size_t nearest = found.circles.size();
        double least = 1e18;
        for (std::size_t i = 0; i < found.circles.size(); ++i)
            if (const double d = (found.circles[i].circle.center_px - camera->lens.circle.center_px).norm();
                !given[i] && d < least)
                least = d, nearest = i;
        if (nearest == found.circles.size()) continue;
        Lens lens = camera->lens;
        set_circle(lens, found.circles[nearest].circle);
        if (fault_in(lens)) continue;
        given[nearest] = true;
        camera->lens = lens;
        const Origin origin{OriginKind::found, fmt::format("image circle, {:.0f} % sure",
                                                           100 * found.circles[nearest].confidence)};
        for (const auto v : {CameraValue::circle, CameraValue::centre, CameraValue::focal})
            origin_of(use, v) = origin;
        use.reach_deg = std::min(use.reach_deg, default_reach_deg(lens));
        ++set;
    }
    return set;
}

void take_calibration(Shot& shot, const std::vector<std::string>& ids, const Calibration& c,
                      const Origin& origin) {
    if (ids.size() != c.lenses.size())
        throw Error(fmt::format("holds {} lenses for {} cameras", c.lenses.size(), ids.size()), origin.detail,
                    c.lenses.size() == 2 ? "Choose two cameras for a pair" : "Choose one camera");
    for (std::size_t i = 0; i < ids.size(); ++i) {
        Camera* camera = find_camera(shot.rig, ids[i]);
        const auto use = std::find_if(shot.cameras.begin(), shot.cameras.end(),
                                      [&](const ShotCamera& s) { return s.camera == ids[i]; });
        if (!camera || use == shot.cameras.end())
            throw Error("the rig has no camera '" + ids[i] + "'", origin.detail, "Choose one of its cameras");
        Lens lens = c.lenses[i];
        const Lens& old = camera->lens;
        const double shape = double(lens.width) / lens.height * old.height / old.width;
        if (std::abs(shape - 1) > 0.01)
            throw Error(fmt::format("was made for pictures of {} x {}, camera {} has {} x {}", lens.width,
                                    lens.height, ids[i], old.width, old.height),
                        origin.detail, "Use the calibration of this camera at this setting");
        if (lens.width != old.width || lens.height != old.height) lens = scaled(lens, old.width, old.height);
        if (lens.pixel_pitch_um == 0) lens.pixel_pitch_um = old.pixel_pitch_um;
        if (const auto fault = fault_in(lens))
            throw Error(fault->member + " " + fault->what, origin.detail, fault->mend);
        camera->lens = lens;
        for (const auto v : {CameraValue::kind, CameraValue::focal, CameraValue::centre, CameraValue::circle,
                             CameraValue::distortion})
            origin_of(*use, v) = origin;
        use->reach_deg = std::min(use->reach_deg, default_reach_deg(lens));
    }
    if (ids.size() == 2 && c.second_pose) {
        const Pose first = find_camera(shot.rig, ids[0])->pose;
        const Mat3 turn = rotation_of(first.turn);
        find_camera(shot.rig, ids[1])->pose = {turn_of(turn * rotation_of(c.second_pose->turn)),
                                               first.position_m + turn * c.second_pose->position_m};
        for (auto& use : shot.cameras)
            if (use.camera == ids[1])
                origin_of(use, CameraValue::turn) = origin_of(use, CameraValue::position) = origin;
    }
}

std::optional<Rig> embedded_rig(const Project& project, const Shot& shot, MediaLibrary& library) {
    Rig joined;
    std::vector<std::string> media;
    for (const auto& use : shot.cameras) {
        if (std::find(media.begin(), media.end(), use.media) != media.end()) continue;
        media.push_back(use.media);
        const Media* m = find_media(project, use.media);
        if (!m || m->ref.kind != MediaKind::video) return std::nullopt;
        const MediaInfo info = library.info(m->ref);
        if (info.rig_text.empty()) return std::nullopt;
        Rig part = parse_rig(info.rig_text, m->ref.path.string() + " (" + kRigEntry + ")");
        if (joined.name.empty()) joined.name = part.name;
        joined.cameras.insert(joined.cameras.end(), part.cameras.begin(), part.cameras.end());
    }
    if (joined.cameras.size() != shot.rig.cameras.size()) return std::nullopt;
    for (std::size_t i = 0; i < joined.cameras.size(); ++i) joined.cameras[i].id = shot.rig.cameras[i].id;
    return joined;
}

const Camera* profile_camera(const Shot& shot, std::string_view id) {
    if (!shot.calibration.profile) return nullptr;
    if (const Camera* c = find_camera(*shot.calibration.profile, id)) return c;
    for (std::size_t i = 0; i < shot.rig.cameras.size(); ++i)
        if (shot.rig.cameras[i].id == id && i < shot.calibration.profile->cameras.size())
            return &shot.calibration.profile->cameras[i];
    return nullptr;
}

} // namespace porb
