#include "optics/target.h"

#include "base/angle.h"

#include <algorithm>

namespace porb {

Target equirect_target(int width) {
    return {TargetKind::equirect, width, width / 2, {}, 90, {}};
}
Target half_sphere_target(int width) {
    return {TargetKind::half_sphere, width, width, {}, 90, {}};
}
Target window_target(int width, int height, const Turn& turn, double fov_deg) {
    return {TargetKind::window, width, height, turn, fov_deg, {}};
}

TargetMap::TargetMap(const Target& target) : target_(target), to_world_(Mat3::Identity()) {
    if (target.kind == TargetKind::window || target.kind == TargetKind::lens)
        to_world_ = rotation_of(target.turn);
    if (target.kind == TargetKind::window)
        focal_ = 0.5 * target.width / std::tan(radians(std::clamp(target.fov_deg, 1.0, 170.0)) / 2);
    if (target.kind == TargetKind::lens) lens_.emplace(target.lens);
}

std::optional<Vec3> TargetMap::direction(const Vec2& p) const {
    const double w = target_.width, h = target_.height;
    switch (target_.kind) {
    case TargetKind::equirect:
    case TargetKind::half_sphere: {
        const double lon = (p.x() / w - 0.5) * (target_.kind == TargetKind::equirect ? 2 * kPi : kPi);
        const double lat = (0.5 - p.y() / h) * kPi;
        return Vec3(std::cos(lat) * std::sin(lon), -std::sin(lat), std::cos(lat) * std::cos(lon));
    }
    case TargetKind::window:
        return to_world_ * Vec3(p.x() - w / 2, p.y() - h / 2, focal_).normalized();
    case TargetKind::lens: {
        const auto d = lens_->unproject({p.x() * target_.lens.width / w, p.y() * target_.lens.height / h});
        if (!d) return std::nullopt;
        return to_world_ * *d;
    }
    }
    return std::nullopt;
}

std::optional<Vec2> TargetMap::pixel(const Vec3& direction) const {
    const double w = target_.width, h = target_.height;
    switch (target_.kind) {
    case TargetKind::equirect:
    case TargetKind::half_sphere: {
        const double span = target_.kind == TargetKind::equirect ? 2 * kPi : kPi;
        const double lon = std::atan2(direction.x(), direction.z());
        const double lat = std::atan2(-direction.y(), std::hypot(direction.x(), direction.z()));
        if (std::abs(lon) > span / 2 + 1e-12) return std::nullopt;
        return Vec2((lon / span + 0.5) * w, (0.5 - lat / kPi) * h);
    }
    case TargetKind::window: {
        const Vec3 d = to_world_.transpose() * direction;
        if (d.z() < 1e-9) return std::nullopt;
        const Vec2 p(w / 2 + focal_ * d.x() / d.z(), h / 2 + focal_ * d.y() / d.z());
        if (p.x() < 0 || p.y() < 0 || p.x() > w || p.y() > h) return std::nullopt;
        return p;
    }
    case TargetKind::lens: {
        const auto p = lens_->project(to_world_.transpose() * direction);
        if (!p) return std::nullopt;
        return Vec2(p->x() * w / target_.lens.width, p->y() * h / target_.lens.height);
    }
    }
    return std::nullopt;
}

double TargetMap::pixel_angle() const {
    switch (target_.kind) {
    case TargetKind::equirect:
        return 2 * kPi / target_.width;
    case TargetKind::half_sphere:
        return kPi / target_.width;
    case TargetKind::window:
        return 1 / focal_;
    case TargetKind::lens:
        return 1 / (target_.lens.focal_px * target_.width / target_.lens.width);
    }
    return 0;
}

} // namespace porb
