#include "optics/rig.h"

#include "base/angle.h"
#include "base/error.h"

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

} // namespace porb
