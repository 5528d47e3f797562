#include "stitch/shapes.h"

#include "base/angle.h"
#include "base/parallel.h"
#include "optics/pose.h"

#include <algorithm>
#include <cmath>
#include <limits>

namespace porb {

namespace {
constexpr int kCells = 640;      ///< a side of the raster: a third of a degree for a lens of 200
constexpr double kRadii = 1.15;  ///< what of a lens's plane it covers, from the centre
constexpr double kSteepest = 10; ///< a feather under a tenth of the lens's is not followed
constexpr float kFar = 1000;     ///< degrees
constexpr double kNear_deg = 12; ///< beyond, a bound is as good as the distance

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

ShapeField::ShapeField(const std::vector<Shape>& shapes, const Lens& lens, double lens_feather_deg)
    : centre_(lens.circle.center_px), cells_per_px_(kCells / (2 * kRadii * lens.circle.radius_px)) {
    const double deg_per_radius = degrees(LensMap(lens).theta_max());
    for (const Shape& shape : shapes) {
        if (!shape.on || shape.keys.empty()) continue;
        const std::vector<Vec2> outline = outline_of(shape.keys.front().corners);
        if (outline.size() < kFewestCorners) continue;
        // Within the shape's feather the angle passes through the lens's: what fades a lens at its reach then
        // fades it here, over the shape's own width.
        const double feather = std::max(shape.feather_deg, lens_feather_deg / kSteepest);
        const double stretch = lens_feather_deg / feather;
        steepest_ = std::max(steepest_, stretch);
        const auto stretched = [&](double inside) {
            return inside < feather / 2 ? inside * stretch : inside - feather / 2 + lens_feather_deg / 2;
        };
        auto& field = shape.restores ? inside_restores_ : outside_cuts_;
        if (field.empty()) field.assign(std::size_t(kCells) * kCells, shape.restores ? -kFar : kFar);
        const Box box = box_of(outline);
        parallel_ranges(kCells, 16, [&](int begin, int end) {
            for (int y = begin; y < end; ++y)
                for (int x = 0; x < kCells; ++x) {
                    const Vec2 at = Vec2(x + 0.5, y + 0.5) * (2 * kRadii / kCells) - Vec2(kRadii, kRadii);
                    const double away = box.away(at);
                    const double inside =
                        away * deg_per_radius > kNear_deg ? -away : inside_polygon(outline, at);
                    float& cell = field[std::size_t(y) * kCells + std::size_t(x)];
                    if (shape.restores)
                        cell = std::max(cell, float(stretched(inside * deg_per_radius)));
                    else
                        cell = std::min(cell, float(stretched(-inside * deg_per_radius)));
                }
        });
    }
}

double ShapeField::read(const std::vector<float>& field, const Vec2& px) const {
    const Vec2 at = (px - centre_) * cells_per_px_ + Vec2(kCells / 2.0 - 0.5, kCells / 2.0 - 0.5);
    const double x = std::clamp(at.x(), 0.0, kCells - 1.0), y = std::clamp(at.y(), 0.0, kCells - 1.0);
    const int ix = std::min(int(x), kCells - 2), iy = std::min(int(y), kCells - 2);
    const float* p = field.data() + std::size_t(iy) * kCells + std::size_t(ix);
    const double fx = x - ix, fy = y - iy;
    return (1 - fy) * ((1 - fx) * double(p[0]) + fx * double(p[1])) +
           fy * ((1 - fx) * double(p[kCells]) + fx * double(p[kCells + 1]));
}

double ShapeField::inside_deg(const Vec2& px, double reach_inside_deg, double seen_deg) const {
    double inside = reach_inside_deg;
    if (!outside_cuts_.empty()) inside = std::min(inside, read(outside_cuts_, px));
    if (!inside_restores_.empty()) inside = std::max(inside, std::min(seen_deg, read(inside_restores_, px)));
    return inside;
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
