#include "align/motion_signal.h"

#include "base/angle.h"

#include <Eigen/Cholesky>

namespace porb {

namespace {

constexpr double kCirclePx = 110; ///< the least diameter of a circle in the pictures that are compared
constexpr int kStep = 1;

/// Where a lens is compared, and how a place moves there when the camera turns by a small angle about each
/// axis.
struct Probe {
    int x, y;
    Eigen::Matrix<double, 2, 3> move;
};

std::vector<Probe> probes_for(const Lens& lens, int width, int height) {
    const Lens small = scaled(lens, width, height);
    std::vector<Probe> probes;
    if (fault_in(small)) return probes;
    const LensMap map(small);
    const double inner = 0.94 * small.circle.radius_px;
    constexpr double kTurn = 1e-4;
    for (int y = 2; y + 2 < height; y += kStep)
        for (int x = 2; x + 2 < width; x += kStep) {
            const Vec2 p(x + 0.5, y + 0.5);
            if ((p - small.circle.center_px).norm() > inner) continue;
            const auto d = map.unproject(p);
            if (!d) continue;
            Probe probe{x, y, {}};
            for (int axis = 0; axis < 3; ++axis) {
                // A camera that turns by w sees the direction d at d - w x d.
                const Vec3 w = kTurn * Vec3::Unit(axis);
                const Vec3 cross(w.y() * d->z() - w.z() * d->y(), w.z() * d->x() - w.x() * d->z(),
                                 w.x() * d->y() - w.y() * d->x());
                probe.move.col(axis) = (map.project_anywhere(*d - cross) - map.project_anywhere(*d)) / kTurn;
            }
            probes.push_back(probe);
        }
    return probes;
}

struct Grey {
    int width, height;
    std::vector<float> v;
    /// Smoothed by 1 2 1 both ways, so that differences of neighbours are slopes.
    explicit Grey(const Picture& p) : width(p.width()), height(p.height()) {
        std::vector<float> sharp;
        sharp.reserve(std::size_t(width) * std::size_t(height));
        for (int y = 0; y < height; ++y)
            for (int x = 0; x < width; ++x) {
                const Rgba c = pixel_at(p, x, y);
                sharp.push_back(0.2126f * c.r + 0.7152f * c.g + 0.0722f * c.b);
            }
        v = sharp;
        const auto w = std::size_t(width);
        for (std::size_t i = w + 1; i + w + 1 < sharp.size(); ++i)
            v[i] = (4 * sharp[i] + 2 * (sharp[i - 1] + sharp[i + 1] + sharp[i - w] + sharp[i + w]) +
                    sharp[i - w - 1] + sharp[i - w + 1] + sharp[i + w - 1] + sharp[i + w + 1]) /
                   16;
    }
    float at(int x, int y) const { return v[std::size_t(y) * std::size_t(width) + std::size_t(x)]; }
};

Vec3 turn_of_probes(const Grey& a, const Grey& b, const std::vector<Probe>& probes) {
    Vec3 turn = Vec3::Zero();
    double scale = 0.05;
    for (int round = 0; round < 6; ++round) {
        Mat3 normal = 1e-9 * Mat3::Identity();
        Vec3 right = Vec3::Zero();
        std::vector<float> residuals;
        residuals.reserve(probes.size());
        for (const auto& p : probes) {
            const auto slope = [&](const Grey& g) -> Vec2 {
                return Vec2(double(g.at(p.x + 1, p.y) - g.at(p.x - 1, p.y)),
                            double(g.at(p.x, p.y + 1) - g.at(p.x, p.y - 1))) /
                       2;
            };
            const Vec3 j = p.move.transpose() * (0.5 * (slope(a) + slope(b)));
            const double residual = double(b.at(p.x, p.y) - a.at(p.x, p.y)) + j.dot(turn);
            residuals.push_back(float(std::abs(residual)));
            const double ratio = residual / scale;
            const double weight = 1 / (1 + ratio * ratio); // Cauchy: what moves by itself counts little
            normal += weight * j * j.transpose();
            right -= weight * (residual - j.dot(turn)) * j;
        }
        const Vec3 next = normal.ldlt().solve(right);
        if (!next.allFinite()) return Vec3::Zero();
        turn = next;
        if (residuals.empty()) return Vec3::Zero();
        // Flat parts agree whatever the turn: the scale is taken from the worse half.
        const auto upper = residuals.begin() + std::ptrdiff_t(residuals.size() * 9 / 10);
        std::nth_element(residuals.begin(), upper, residuals.end());
        scale = std::max(0.004, double(*upper));
    }
    return turn;
}

/// Values at times (n + 0.5) / rate brought to `to_rate` by cubic interpolation (Catmull-Rom).
std::vector<float> resampled(const std::vector<float>& v, double rate, double to_rate) {
    std::vector<float> out;
    if (v.size() < 4) return out;
    const auto at = [&](std::int64_t i) {
        return double(v[std::size_t(std::clamp<std::int64_t>(i, 0, std::int64_t(v.size()) - 1))]);
    };
    const auto count = std::int64_t(double(v.size()) / rate * to_rate);
    for (std::int64_t k = 0; k < count; ++k) {
        const double x = double(k) / to_rate * rate - 0.5;
        const auto i = std::int64_t(std::floor(x));
        const double f = x - double(i);
        const double a = at(i - 1), b = at(i), c = at(i + 1), d = at(i + 2);
        out.push_back(
            float(b + 0.5 * f * (c - a + f * (2 * a - 5 * b + 4 * c - d + f * (3 * (b - c) + d - a)))));
    }
    return out;
}

void without_mean(std::vector<float>& v) {
    double mean = 0;
    for (const float f : v) mean += f;
    for (float& f : v) f -= float(mean / std::max<double>(1, double(v.size())));
}

} // namespace

Vec3 turn_between(const Picture& first, const Picture& second, const Lens& lens) {
    return turn_of_probes(Grey(first), Grey(second), probes_for(lens, first.width(), first.height()));
}

MotionSignals motion_signals(const MediaRef& ref, const Camera& camera, Seconds from, Seconds to,
                             double rate_hz, MediaLibrary& library,
                             const std::function<void(double)>& progress, const Cancel& cancel) {
    const MediaInfo info = library.info(ref);
    int level = 0;
    while (2 * camera.lens.circle.radius_px / (2 << level) >= kCirclePx) ++level;
    const auto first = std::max<std::int64_t>(0, frame_index(from, info.rate));
    const auto last = frame_index(std::min(to, info.duration), info.rate);
    const Mat3 to_rig = rotation_of(camera.pose.turn);
    std::vector<std::vector<float>> turning(3);
    std::vector<float> change;
    std::vector<Probe> probes;
    std::optional<Grey> before;
    for (std::int64_t n = first; n < last; ++n) {
        cancel.check();
        const auto picture = library.picture(ref, frame_time(n, info.rate), level);
        if (!picture) break;
        Grey now(*picture);
        if (probes.empty()) probes = probes_for(camera.lens, now.width, now.height);
        if (before) {
            const Vec3 turn = to_rig * turn_of_probes(*before, now, probes);
            for (std::size_t a = 0; a < 3; ++a) turning[a].push_back(float(turn[Eigen::Index(a)]));
            double sum = 0;
            for (const auto& p : probes) sum += std::abs(double(now.at(p.x, p.y) - before->at(p.x, p.y)));
            change.push_back(float(std::log(1e-4 + sum / std::max<double>(1, double(probes.size())))));
        }
        before = std::move(now);
        if (progress && last > first) progress(double(n - first + 1) / double(last - first));
    }
    MotionSignals out;
    const double rate = info.rate.to_double();
    // A difference of frames n and n + 1 belongs to the moment between them.
    const double start = frame_time(first, info.rate).to_double() + 0.5 / rate;
    for (auto& axis : turning) {
        without_mean(axis);
        out.turning.channels.push_back(resampled(axis, rate, rate_hz));
    }
    without_mean(change);
    out.change.channels.push_back(resampled(change, rate, rate_hz));
    out.turning.rate_hz = out.change.rate_hz = rate_hz;
    out.turning.start_s = out.change.start_s = start - 0.5 / rate;
    return out;
}

} // namespace porb
