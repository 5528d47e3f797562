#include "solve/pictures/grey.h"

#include "base/parallel.h"

namespace porb {

namespace {
constexpr int kLeastLevelPx = 60;
constexpr double kPastRim = 0.5; ///< radians
} // namespace

Grey grey_of(const Picture& picture) {
    Grey g;
    g.width = picture.width();
    g.height = picture.height();
    g.v.resize(std::size_t(g.width) * std::size_t(g.height));
    parallel_ranges(g.height, 32, [&](int begin, int end) {
        for (int y = begin; y < end; ++y) {
            const Half* row = picture.row(y);
            float* out = &g.v[std::size_t(y) * std::size_t(g.width)];
            for (int x = 0; x < g.width; ++x, row += 4)
                out[x] = 0.2126f * float_from_half(row[0]) + 0.7152f * float_from_half(row[1]) +
                         0.0722f * float_from_half(row[2]);
        }
    });
    return g;
}

Grey halved(const Grey& g) {
    Grey h;
    h.width = g.width / 2;
    h.height = g.height / 2;
    h.v.resize(std::size_t(h.width) * std::size_t(h.height));
    for (int y = 0; y < h.height; ++y)
        for (int x = 0; x < h.width; ++x)
            h.v[std::size_t(y) * std::size_t(h.width) + std::size_t(x)] =
                0.25f * (g.at(2 * x, 2 * y) + g.at(2 * x + 1, 2 * y) + g.at(2 * x, 2 * y + 1) +
                         g.at(2 * x + 1, 2 * y + 1));
    return h;
}

GreyPyramid::GreyPyramid(Grey full) {
    levels.push_back(std::move(full));
    while (std::min(levels.back().width, levels.back().height) >= 2 * kLeastLevelPx)
        levels.push_back(halved(levels.back()));
}

Eyepiece::Eyepiece(const Rig& rig, std::size_t camera, const GreyPyramid* seen)
    : index(camera), lens(rig.cameras[camera].lens), map(lens),
      to_rig(rotation_of(rig.cameras[camera].pose.turn)), position(rig.cameras[camera].pose.position_m),
      pictures(seen) {}

std::optional<Vec2> Eyepiece::sees(const Vec3& rig_direction, double spare_px) const {
    const Vec3 d = to_rig.transpose() * rig_direction;
    if (std::atan2(std::hypot(d.x(), d.y()), d.z()) > map.theta_max()) return std::nullopt;
    const Vec2 p = map.project_anywhere(d);
    if (map.clearance(p) < spare_px) return std::nullopt;
    return p;
}

std::optional<Vec3> Eyepiece::direction(const Vec2& px) const {
    const auto d = map.unproject(px);
    if (!d) return std::nullopt;
    return Vec3(to_rig * *d);
}

Tangent tangent_at(const Vec3& c, const Vec3& along, double step_rad) {
    const Vec3 e1 = (along - along.dot(c) * c).normalized();
    return {c, e1, c.cross(e1), step_rad};
}

bool sample_patch(const Eyepiece& eye, const Tangent& tangent, double x0, double y0, int half_w, int half_h,
                  std::vector<float>& out, bool past_rim) {
    // Exact places on a 3 x 3 grid; between them a biquadratic, off by well under a tenth of a pixel for
    // pieces of a few degrees.
    Vec2 node[3][3];
    for (int j = 0; j < 3; ++j)
        for (int i = 0; i < 3; ++i) {
            const Vec3 d = tangent.direction(x0 + (i - 1) * half_w, y0 + (j - 1) * half_h);
            if (past_rim) {
                const Vec3 c = eye.to_rig.transpose() * d;
                if (std::atan2(std::hypot(c.x(), c.y()), c.z()) > eye.map.theta_max() + kPastRim)
                    return false;
                node[j][i] = eye.map.project_anywhere(c);
                continue;
            }
            const auto p = eye.sees(d, 2);
            if (!p) return false;
            node[j][i] = *p;
        }
    const double px_a_step = std::max((node[1][2] - node[1][0]).norm() / std::max(1, 2 * half_w),
                                      (node[2][1] - node[0][1]).norm() / std::max(1, 2 * half_h));
    int level = 0;
    while (level + 1 < int(eye.pictures->levels.size()) && px_a_step > 1.5 * (1 << level)) ++level;
    const Grey& g = eye.pictures->levels[std::size_t(level)];
    const double scale = 1.0 / (1 << level);
    out.resize(std::size_t(2 * half_w + 1) * std::size_t(2 * half_h + 1));
    const auto blend = [](const Vec2& a, const Vec2& b, const Vec2& c, double t) -> Vec2 {
        return b + 0.5 * t * (c - a) + 0.5 * t * t * (a - 2 * b + c);
    };
    std::size_t at = 0;
    for (int j = -half_h; j <= half_h; ++j) {
        const double v = half_h > 0 ? double(j) / half_h : 0;
        const Vec2 left = blend(node[0][0], node[1][0], node[2][0], v) * scale,
                   middle = blend(node[0][1], node[1][1], node[2][1], v) * scale,
                   right = blend(node[0][2], node[1][2], node[2][2], v) * scale;
        for (int i = -half_w; i <= half_w; ++i) {
            const Vec2 p = blend(left, middle, right, half_w > 0 ? double(i) / half_w : 0);
            out[at++] = g.sample(p.x(), p.y());
        }
    }
    return true;
}

} // namespace porb
