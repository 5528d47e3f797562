#include "stitch/patches/placement.h"

#include "base/angle.h"
#include "project/orientation.h"
#include "stitch/plan/plan_key.h"

namespace porb {

PatchPlacement placement_of(const Shot& shot, const Patch& patch, const PatchKey& place, Seconds time,
                            Eye eye) {
    PatchPlacement out;
    const Mat3 own = rotation_of({place.yaw_deg, place.pitch_deg, place.roll_deg});
    const Mat3 to_world = patch.hold == PatchHold::rig ? orientation_at(shot, time) : Mat3::Identity();
    out.to_patch = (to_world * own).transpose();
    out.half_width = std::tan(radians(place.width_deg) / 2);
    out.rays = eye_rays_of(shot, eye, time);
    if (!out.rays.moves()) return out; // from the centre, every surface looks the same
    out.surface = patch.surface;
    out.distance_m = patch.distance_m;
    out.down = to_world * Vec3(0, place.pitch_deg <= 0 ? 1 : -1, 0);
    return out;
}

std::optional<Vec2> square_place(const PatchPlacement& p, const Vec3& shown) {
    constexpr double kGrazing = 1e-4;
    Vec3 direction = shown;
    if (p.rays.moves() || p.rays.turn_deg != 0) direction = p.rays.looks(shown.normalized());
    if (p.rays.moves() && p.surface != PatchSurface::far) {
        const Vec3 from = p.rays.origin_m(direction);
        double along = 0;
        if (p.surface == PatchSurface::sphere) {
            const double b = from.dot(direction), c = from.squaredNorm() - p.distance_m * p.distance_m;
            if (c >= 0) return std::nullopt; // nearer than the eye itself
            along = -b + std::sqrt(b * b - c);
        } else {
            const Vec3 normal =
                p.surface == PatchSurface::level ? p.down : Vec3(p.to_patch.transpose().col(2));
            const double towards = normal.dot(direction);
            if (towards < kGrazing) return std::nullopt;
            along = (p.distance_m - normal.dot(from)) / towards;
            if (along <= 0) return std::nullopt;
        }
        direction = from + along * direction;
    }
    const Vec3 own = p.to_patch * direction;
    if (own.z() < kGrazing * own.norm()) return std::nullopt;
    return Vec2(own.x(), own.y()) / (own.z() * p.half_width);
}

Vec3 direction_of(const PatchPlacement& p, const Vec2& square) {
    return (p.to_patch.transpose() * Vec3(square.x() * p.half_width, square.y() * p.half_width, 1))
        .normalized();
}

View patch_view(const PatchPlacement& p, int side) {
    View view;
    view.target =
        window_target(side, side, turn_of(p.to_patch.transpose()), degrees(2 * std::atan(p.half_width)));
    return view;
}

double cone_of(const PatchPlacement& p) {
    double cone = std::atan(std::sqrt(2.0) * p.half_width);
    if (p.rays.moves() && p.surface != PatchSurface::far)
        cone += std::asin(std::min(0.9, std::abs(p.rays.offset_m) / std::max(p.distance_m, 1e-3)));
    return std::min(cone + radians(std::abs(p.rays.turn_deg)), kPi / 2);
}

} // namespace porb
