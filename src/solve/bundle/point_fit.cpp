#include "solve/bundle/point_fit.h"

#include "base/angle.h"
#include "base/parallel.h"
#include "solve/bundle/point_block.h"

#include <Eigen/Dense>

#include <algorithm>

namespace porb {

PointBlock point_about(const Vec3& d) {
    PointBlock p;
    p.d = d;
    p.e1 = (std::abs(d.y()) < 0.8 ? Vec3(0, 1, 0) : Vec3(1, 0, 0)).cross(d).normalized();
    p.e2 = d.cross(p.e1);
    return p;
}

FitEye::FitEye(const Camera& camera)
    : map(camera.lens), to_camera(rotation_of(camera.pose.turn).transpose()),
      position(camera.pose.position_m) {}

Vec2 FitEye::residual(const PointBlock& p, const Vec2& px) const {
    return px - map.project_anywhere(to_camera * (p.d + p.v[0] * p.e1 + p.v[1] * p.e2 - p.v[2] * position));
}

std::vector<FitEye> fit_eyes(const Rig& rig) {
    std::vector<FitEye> eyes;
    for (const auto& c : rig.cameras) eyes.emplace_back(c);
    return eyes;
}

namespace {

PointFit fit_one(const FitEye& a, const FitEye& b, const Observation& s, const double* fixed) {
    PointFit fit;
    const auto da = a.map.unproject(s.a_px), db = b.map.unproject(s.b_px);
    const auto outside = [&](const LensMap& map, const Vec2& px) { // past the rim, a ray is still needed
        const Vec2 c = map.lens().circle.center_px;
        return map.unproject(c +
                             (px - c) * 0.98 * map.lens().circle.radius_px / std::max(1e-9, (px - c).norm()));
    };
    const Vec3 wa = a.to_camera.transpose() * (da ? *da : outside(a.map, s.a_px).value_or(Vec3(0, 0, 1)));
    const Vec3 wb = b.to_camera.transpose() * (db ? *db : outside(b.map, s.b_px).value_or(Vec3(0, 0, 1)));
    PointBlock p = point_about((wa + wb).normalized());
    // A first distance where the two rays come nearest: sin of the angle between them over the baseline
    // across.
    if (fixed) {
        p.v[2] = *fixed;
    } else {
        const Vec3 base = a.position - b.position, across = base - base.dot(p.d) * p.d;
        if (across.squaredNorm() > 1e-12) p.v[2] = (wb - wa).dot(across) / across.squaredNorm();
    }
    const auto residual = [&](const double v[3]) {
        Eigen::Vector4d r;
        const Vec3 x = p.d + v[0] * p.e1 + v[1] * p.e2;
        r << a.map.project_anywhere(a.to_camera * (x - v[2] * a.position)) - s.a_px,
            b.map.project_anywhere(b.to_camera * (x - v[2] * b.position)) - s.b_px;
        return r;
    };
    const int free = fixed ? 2 : 3;
    double damping = 1e-9;
    Eigen::Vector4d now = residual(p.v);
    for (int round = 0; round < 20; ++round) {
        Eigen::Matrix<double, 4, 3> j = Eigen::Matrix<double, 4, 3>::Zero();
        for (int k = 0; k < free; ++k) {
            double v[3] = {p.v[0], p.v[1], p.v[2]};
            const double step = 1e-6;
            v[k] += step;
            j.col(k) = (residual(v) - now) / step;
        }
        Mat3 normal = j.transpose() * j;
        normal.diagonal().array() += damping * normal.diagonal().maxCoeff() + 1e-12;
        const Vec3 move = -normal.ldlt().solve(j.transpose() * now);
        double next[3] = {p.v[0] + move[0], p.v[1] + move[1], free == 3 ? p.v[2] + move[2] : p.v[2]};
        const Eigen::Vector4d then = residual(next);
        if (then.squaredNorm() > now.squaredNorm()) {
            damping = std::max(1e-6, damping * 10);
            if (damping > 1) break;
            continue;
        }
        const bool settled = now.squaredNorm() - then.squaredNorm() < 1e-14 * (1 + now.squaredNorm());
        std::copy(next, next + 3, p.v);
        now = then;
        if (settled) break;
    }
    fit.direction = p.direction();
    fit.inverse_m = p.inverse();
    fit.residual_a = -now.head<2>();
    fit.residual_b = -now.tail<2>();
    const auto angle = [&](const FitEye& eye, const std::optional<Vec3>& seen) {
        if (!seen) return 0.0;
        const Vec3 d = eye.to_camera * (fit.direction - fit.inverse_m * eye.position).normalized();
        return std::atan2(d.cross(*seen).norm(), d.dot(*seen));
    };
    fit.residual_a_rad = angle(a, da);
    fit.residual_b_rad = angle(b, db);
    return fit;
}

} // namespace

std::vector<PointFit> fit_points(const Rig& rig, std::span<const Observation> observations,
                                 const double* fixed) {
    const auto eyes = fit_eyes(rig);
    std::vector<PointFit> fits(observations.size());
    parallel_ranges(int(observations.size()), 256, [&](int begin, int end) {
        for (int i = begin; i < end; ++i) {
            const Observation& s = observations[std::size_t(i)];
            fits[std::size_t(i)] = fit_one(eyes[s.a], eyes[s.b], s, fixed);
        }
    });
    return fits;
}

Rms rms_of(std::span<const PointFit> fits) {
    Rms rms;
    if (fits.empty()) return rms;
    for (const auto& f : fits) {
        rms.px += f.residual_a.squaredNorm() + f.residual_b.squaredNorm();
        rms.arcmin += f.residual_a_rad * f.residual_a_rad + f.residual_b_rad * f.residual_b_rad;
    }
    rms.px = std::sqrt(rms.px / (2.0 * double(fits.size())));
    rms.arcmin = degrees(std::sqrt(rms.arcmin / (2.0 * double(fits.size())))) * 60;
    return rms;
}

} // namespace porb
