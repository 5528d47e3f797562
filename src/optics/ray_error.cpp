#include "optics/ray_error.h"

#include "base/angle.h"

#include <Eigen/Geometry>

#include <algorithm>

namespace porb {

RayError ray_error(const Rig& a, const Rig& b) {
    constexpr int kGrid = 40;
    struct Ray {
        std::size_t camera;
        Vec3 a, b;
    };
    std::vector<Ray> rays;
    Mat3 sum = Mat3::Zero();
    for (std::size_t c = 0; c < std::min(a.cameras.size(), b.cameras.size()); ++c) {
        const Camera &ca = a.cameras[c], &cb = b.cameras[c];
        const LensMap ma(ca.lens), mb(cb.lens);
        const Mat3 ra = rotation_of(ca.pose.turn), rb = rotation_of(cb.pose.turn);
        for (int y = 0; y < kGrid; ++y)
            for (int x = 0; x < kGrid; ++x) {
                const Vec2 px =
                    ca.lens.circle.center_px +
                    ca.lens.circle.radius_px * Vec2(2 * (x + 0.5) / kGrid - 1, 2 * (y + 0.5) / kGrid - 1);
                const auto da = ma.unproject(px), db = mb.unproject(px);
                if (!da || !db) continue;
                rays.push_back({c, ra * *da, rb * *db});
                sum += rays.back().a * rays.back().b.transpose();
            }
    }
    const Mat3 turn = nearest_rotation(sum);
    RayError out;
    std::vector<double> counts(a.cameras.size(), 0);
    out.camera_deg.assign(a.cameras.size(), 0);
    for (const auto& r : rays) {
        const Vec3 t = turn * r.b;
        const double off = degrees(std::atan2(r.a.cross(t).norm(), r.a.dot(t)));
        out.mean_deg += off / double(rays.size());
        out.camera_deg[r.camera] += off;
        ++counts[r.camera];
    }
    for (std::size_t c = 0; c < counts.size(); ++c) {
        out.camera_deg[c] /= std::max(1.0, counts[c]);
        out.worst_camera_deg = std::max(out.worst_camera_deg, out.camera_deg[c]);
    }
    return out;
}

} // namespace porb
