#include "project/origins.h"

#include <array>

namespace porb {

namespace {
constexpr std::array<const char*, 6> kOriginNames = {"assumed", "profile", "file", "found", "solve", "hand"};
constexpr std::array<const char*, kCameraValues> kValueNames = {"lens kind",    "focal length", "lens centre",
                                                                "image circle", "distortion",   "direction",
                                                                "position",     "time offset"};

bool differs(CameraValue value, const Camera& a, const Camera& b, const ShotCamera& use_a,
             const ShotCamera& use_b) {
    switch (value) {
    case CameraValue::kind:
        return a.lens.projection != b.lens.projection;
    case CameraValue::focal:
        return a.lens.focal_px != b.lens.focal_px || a.lens.non_radial.aspect != b.lens.non_radial.aspect;
    case CameraValue::centre:
        return a.lens.center_px != b.lens.center_px;
    case CameraValue::circle:
        return !(a.lens.circle == b.lens.circle);
    case CameraValue::distortion:
        return a.lens.radial != b.lens.radial ||
               a.lens.non_radial.denominator != b.lens.non_radial.denominator ||
               a.lens.non_radial.tangential != b.lens.non_radial.tangential ||
               a.lens.non_radial.prism != b.lens.non_radial.prism ||
               a.lens.non_radial.skew != b.lens.non_radial.skew;
    case CameraValue::turn:
        return !(a.pose.turn == b.pose.turn);
    case CameraValue::position:
        return a.pose.position_m != b.pose.position_m;
    case CameraValue::offset:
        return use_a.offset != use_b.offset || use_a.drift_ppm != use_b.drift_ppm;
    }
    return false;
}

/// The lens without its pixel pitch, which may be edited even while the lens is locked.
Lens without_pitch(Lens lens) {
    lens.pixel_pitch_um = 0;
    return lens;
}
} // namespace

const char* name_of(OriginKind kind) {
    return kOriginNames[std::size_t(kind)];
}
const char* name_of(CameraValue value) {
    return kValueNames[std::size_t(value)];
}
std::optional<OriginKind> origin_named(std::string_view name) {
    for (std::size_t i = 0; i < kOriginNames.size(); ++i)
        if (name == kOriginNames[i]) return OriginKind(i);
    return std::nullopt;
}

std::vector<CameraValue> changed_values(const Shot& before, const Shot& after, const std::string& id) {
    const Camera* a = find_camera(before.rig, id);
    const Camera* b = find_camera(after.rig, id);
    const ShotCamera* use_a = find_camera(before, id);
    const ShotCamera* use_b = find_camera(after, id);
    std::vector<CameraValue> out;
    if (!b || !use_b) return out;
    for (int v = 0; v < kCameraValues; ++v)
        if (!a || !use_a || differs(CameraValue(v), *a, *b, *use_a, *use_b)) out.push_back(CameraValue(v));
    return out;
}

void note_origins(const Shot& before, Shot& after, const Origin& origin) {
    for (auto& camera : after.cameras)
        for (const CameraValue v : changed_values(before, after, camera.camera))
            origin_of(camera, v) = origin;
}

std::optional<std::string> broken_lock(const Shot& before, const Shot& after) {
    for (const auto& use : before.cameras) {
        const ShotCamera* now = find_camera(after, use.camera);
        const Camera* a = find_camera(before.rig, use.camera);
        const Camera* b = find_camera(after.rig, use.camera);
        if (!now || !a || !b) continue;
        // A lock that the same edit opens binds nothing.
        if (use.lens_locked && now->lens_locked && !(without_pitch(a->lens) == without_pitch(b->lens)))
            return "the lens of camera " + use.camera;
        if (use.pose_locked && now->pose_locked && !(a->pose == b->pose))
            return "the pose of camera " + use.camera;
    }
    return std::nullopt;
}

void take_rig(Shot& shot, const Rig& rig, const Origin& origin) {
    for (std::size_t i = 0; i < shot.rig.cameras.size(); ++i) {
        Camera& camera = shot.rig.cameras[i];
        const Camera* from = find_camera(rig, camera.id);
        if (!from && i < rig.cameras.size()) from = &rig.cameras[i];
        const auto use = std::find_if(shot.cameras.begin(), shot.cameras.end(),
                                      [&](const ShotCamera& c) { return c.camera == camera.id; });
        if (!from || use == shot.cameras.end()) continue;
        if (!use->lens_locked) {
            camera.lens = from->lens;
            for (const auto v : {CameraValue::kind, CameraValue::focal, CameraValue::centre,
                                 CameraValue::circle, CameraValue::distortion})
                origin_of(*use, v) = origin;
            use->reach_deg = std::min(use->reach_deg, default_reach_deg(camera.lens));
        }
        if (!use->pose_locked) {
            camera.pose = from->pose;
            camera.eyes = from->eyes;
            origin_of(*use, CameraValue::turn) = origin_of(*use, CameraValue::position) = origin;
        }
    }
}

} // namespace porb
