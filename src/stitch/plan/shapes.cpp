#include "stitch/plan/shapes.h"

#include "base/angle.h"
#include "base/parallel.h"
#include "base/smooth.h"
#include "optics/pose.h"

#include <algorithm>
#include <cmath>
#include <limits>

namespace porb {

namespace {
constexpr int kRasterSide = 640;           ///< a side of the raster: a third of a degree for a lens of 200
constexpr double kRadii = 1.15;            ///< what of a lens's plane it covers, from the centre
constexpr double kLeastFeather_deg = 0.35; ///< the raster's own
constexpr double kNear_deg = 12;           ///< beyond, a bound is as good as the distance

struct Box {
    Vec2 low, high;
    double away(const Vec2& p) const { return (low - p).cwiseMax(p - high).cwiseMax(0).norm(); }
};
Box box_of(const std::vector<Vec2>& polygon) {
    Box b{polygon.front(), polygon.front()};
    for (const Vec2& p : polygon) b.low = b.low.cwiseMin(p), b.high = b.high.cwiseMax(p);
    return b;
}
} // namespace

double inside_polygon(const std::vector<Vec2>& polygon, const Vec2& at) {
    double nearest2 = std::numeric_limits<double>::max();
    bool inside = false;
    for (std::size_t i = 0, j = polygon.size() - 1; i < polygon.size(); j = i++) {
        const Vec2 &a = polygon[j], &b = polygon[i];
        const Vec2 side = b - a;
        const double length2 = side.squaredNorm();
        const double t = length2 > 0 ? std::clamp((at - a).dot(side) / length2, 0.0, 1.0) : 0;
        nearest2 = std::min(nearest2, (at - a - t * side).squaredNorm());
        if ((a.y() > at.y()) != (b.y() > at.y()) && at.x() < a.x() + (at.y() - a.y()) / side.y() * side.x())
            inside = !inside;
    }
    return (inside ? 1 : -1) * std::sqrt(nearest2);
}

ShapeField::ShapeField(const std::vector<KeyShape>& shapes, const Lens& lens)
    : centre_(lens.circle.center_px), cells_per_px_(kRasterSide / (2 * kRadii * lens.circle.radius_px)),
      field_(std::size_t(kRasterSide) * kRasterSide) {
    const double deg_per_radius = degrees(LensMap(lens).theta_max());
    for (const bool restores : {false, true}) // restores count after cut-outs
        for (const KeyShape& shape : shapes) {
            if (shape.restores != restores) continue;
            const std::vector<Vec2> outline = outline_of(shape.corners);
            if (outline.size() < kFewestCorners) continue;
            const double feather = std::max(shape.feather_deg, kLeastFeather_deg);
            const Box box = box_of(outline);
            parallel_ranges(kRasterSide, 16, [&](int begin, int end) {
                for (int y = begin; y < end; ++y)
                    for (int x = 0; x < kRasterSide; ++x) {
                        const Vec2 at =
                            Vec2(x + 0.5, y + 0.5) * (2 * kRadii / kRasterSide) - Vec2(kRadii, kRadii);
                        const double away = box.away(at) * deg_per_radius;
                        const double inside =
                            away > kNear_deg + feather ? -away : inside_polygon(outline, at) * deg_per_radius;
                        At& cell = field_[std::size_t(y) * kRasterSide + std::size_t(x)];
                        // It changes between its outline and a feather outside, or for a restore inside.
                        const double from_change = restores ? std::max(-inside, inside - feather)
                                                            : std::max(inside, -inside - feather);
                        cell.edge_deg = std::min(cell.edge_deg, float(std::max(0.0, from_change)));
                        if (restores)
                            cell.restored = std::max(cell.restored, float(smooth(inside / feather)));
                        else
                            cell.available *= float(smooth(-inside / feather));
                    }
            });
        }
    for (At& cell : field_) cell.available = 1 - (1 - cell.available) * (1 - cell.restored);
}

ShapeField::At ShapeField::at(const Vec2& px) const {
    const Vec2 at = (px - centre_) * cells_per_px_ + Vec2(kRasterSide / 2.0 - 0.5, kRasterSide / 2.0 - 0.5);
    const double x = std::clamp(at.x(), 0.0, kRasterSide - 1.0),
                 y = std::clamp(at.y(), 0.0, kRasterSide - 1.0);
    const int ix = std::min(int(x), kRasterSide - 2), iy = std::min(int(y), kRasterSide - 2);
    const At *p = field_.data() + std::size_t(iy) * kRasterSide + std::size_t(ix), *q = p + kRasterSide;
    const auto fx = float(x - ix), fy = float(y - iy);
    const auto mix = [&](float At::*m) {
        return (1 - fy) * ((1 - fx) * p[0].*m + fx * p[1].*m) + fy * ((1 - fx) * q[0].*m + fx * q[1].*m);
    };
    return {mix(&At::available), mix(&At::restored), mix(&At::edge_deg)};
}

std::optional<Vec2> shape_place(const Camera& camera, const Vec3& rig_direction, double agree_distance_m) {
    const double inverse = agree_distance_m > 0 ? 1 / agree_distance_m : 0;
    const LensMap map(camera.lens);
    const Vec3 ray =
        rotation_of(camera.pose.turn).transpose() * (rig_direction - inverse * camera.pose.position_m);
    if (std::atan2(std::hypot(ray.x(), ray.y()), ray.z()) > map.theta_max() * kRadii) return std::nullopt;
    return Vec2((map.project_anywhere(ray) - camera.lens.circle.center_px) / camera.lens.circle.radius_px);
}

std::optional<Vec3> shape_direction(const Camera& camera, const Vec2& place, double agree_distance_m) {
    const auto ray =
        LensMap(camera.lens).unproject(camera.lens.circle.center_px + camera.lens.circle.radius_px * place);
    if (!ray) return std::nullopt;
    const Vec3 c = rotation_of(camera.pose.turn) * *ray;
    // Where the ray from the entrance pupil meets the sphere of the agree distance about the rig's centre.
    const Vec3 p = (agree_distance_m > 0 ? 1 / agree_distance_m : 0) * camera.pose.position_m;
    const double along = p.dot(c), inside = along * along + 1 - p.squaredNorm();
    if (inside <= 0) return std::nullopt; // the pupil lies outside that sphere
    return Vec3((p + (std::sqrt(inside) - along) * c).normalized());
}

} // namespace porb
