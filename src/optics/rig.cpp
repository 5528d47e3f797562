#include "optics/rig.h"

#include "base/angle.h"
#include "base/error.h"

#include <algorithm>

namespace porb {

const Camera* find_camera(const Rig& rig, std::string_view id) {
    for (const auto& camera : rig.cameras)
        if (camera.id == id) return &camera;
    return nullptr;
}

Camera* find_camera(Rig& rig, std::string_view id) {
    return const_cast<Camera*>(find_camera(static_cast<const Rig&>(rig), id));
}

std::size_t index_of(const Rig& rig, std::string_view id) {
    for (std::size_t i = 0; i < rig.cameras.size(); ++i)
        if (rig.cameras[i].id == id) return i;
    throw Error("is not a camera of the rig", "camera " + std::string(id),
                "Use one of the rig's cameras, or remove what names it");
}

Rig nominal_rig(int cameras, int picture_width, int picture_height, int circles_per_picture, double fov_deg) {
    Rig rig;
    rig.name = cameras == 1 ? "one fisheye" : std::to_string(cameras) + " fisheyes";
    const double part_width = double(picture_width) / circles_per_picture;
    const double radius = 0.495 * std::min(part_width, double(picture_height));
    for (int i = 0; i < cameras; ++i) {
        Camera camera;
        camera.id = i < 26 ? std::string(1, char('A' + i)) : "C" + std::to_string(i + 1);
        Lens& lens = camera.lens;
        lens.width = picture_width;
        lens.height = picture_height;
        lens.center_px = {part_width * (i % circles_per_picture + 0.5), picture_height / 2.0};
        lens.circle = {lens.center_px, radius};
        lens.focal_px = focal_for_field_of_view(lens, fov_deg);
        camera.pose.turn.yaw_deg = wrapped_deg(360.0 * i / cameras);
        rig.cameras.push_back(std::move(camera));
    }
    return rig;
}

Rig nominal_pair(int picture_width, int picture_height, int circles_per_picture, double fov_deg) {
    constexpr double kEyes_m = 0.064;
    Rig rig = nominal_rig(2, picture_width, picture_height, circles_per_picture, fov_deg);
    rig.name = "pair for 180 degrees";
    for (int i = 0; i < 2; ++i) {
        Camera& c = rig.cameras[std::size_t(i)];
        c.pose = {{}, {(i - 0.5) * kEyes_m, 0, 0}};
        c.eyes = i == 0 ? Eyes::left : Eyes::right;
    }
    return rig;
}

bool propose_eyes(Rig& rig) {
    constexpr double kAlike_deg = 10, kNearest_m = 0.03, kFarthest_m = 0.2;
    if (rig.cameras.size() != 2) return false;
    Camera &a = rig.cameras[0], &b = rig.cameras[1];
    if (a.eyes != Eyes::both || b.eyes != Eyes::both) return false;
    const Mat3 turn = rotation_of(a.pose.turn);
    const Vec3 ahead = turn.col(2), other = rotation_of(b.pose.turn).col(2);
    if (ahead.dot(other) < std::cos(radians(kAlike_deg))) return false;
    const Vec3 base = b.pose.position_m - a.pose.position_m;
    const double apart = base.norm(), sideways = base.dot(turn.col(0));
    if (apart < kNearest_m || apart > kFarthest_m || std::abs(sideways) < 0.8 * apart) return false;
    a.eyes = sideways > 0 ? Eyes::left : Eyes::right;
    b.eyes = sideways > 0 ? Eyes::right : Eyes::left;
    return true;
}

} // namespace porb
