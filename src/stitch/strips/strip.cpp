#include "stitch/strips/strip.h"

#include "base/angle.h"

#include <Eigen/Geometry>

#include <algorithm>
#include <cmath>

namespace porb {

namespace {
constexpr double kLeastBaseline_m = 1e-3;
constexpr double kFromEnds = 0.06; ///< radians: along the baseline itself there is no parallax, and no strip

double alpha_of(const Vec3& v) {
    return std::atan2(std::hypot(v.x(), v.y()), v.z());
}
double phi_of(const Vec3& v) {
    return std::atan2(v.y(), v.x());
}
double after(double phi, double first) { ///< phi as an angle in [first, first + 2 pi)
    const double turns = std::floor((phi - first) / (2 * kPi));
    return phi - turns * 2 * kPi;
}

/// Where the widest gap between angles ends: the angles, from there on, take the least room.
double begin_of(std::vector<double> phis) {
    std::sort(phis.begin(), phis.end());
    double widest = phis.front() + 2 * kPi - phis.back(), begin = phis.front();
    for (std::size_t i = 1; i < phis.size(); ++i)
        if (phis[i] - phis[i - 1] > widest) widest = phis[i] - phis[i - 1], begin = phis[i];
    return begin;
}

/// Where cameras at a and b see what lies in a direction from the rig's centre, far and near.
std::array<Vec3, 3> seen_in(const Vec3& direction, const Vec3& a_m, const Vec3& b_m, double most_inverse_m) {
    return {direction, direction - most_inverse_m * a_m, direction - most_inverse_m * b_m};
}
} // namespace

Vec3 Strip::direction(double x, double y) const {
    const double alpha = first_alpha + x * step, phi = first_phi + y * row_step;
    return to_rig * Vec3(std::sin(alpha) * std::cos(phi), std::sin(alpha) * std::sin(phi), std::cos(alpha));
}

Vec2 Strip::place(const Vec3& rig_direction) const {
    const Vec3 v = to_rig.transpose() * rig_direction;
    // Counted from half a turn before the strip's middle, so that places just outside stay just outside.
    const double before = first_phi + height * row_step / 2 - kPi;
    return {(alpha_of(v) - first_alpha) / step, (after(phi_of(v), before) - first_phi) / row_step};
}

float Strip::distance_from_b(float x, float parallax) const {
    const int i = std::clamp(int(x), 0, width - 1);
    const float f = x - float(i), s2 = parallax * parallax;
    const float* const sine = sines.data() + i;
    const float* const cosine = cosines.data() + i;
    const float cot = (1 - s2 * (1.0f / 3) - s2 * s2 * (1.0f / 45)) / parallax; // off by parallax^5 / 473
    return std::max(0.0f,
                    (sine[0] + f * (sine[1] - sine[0])) * cot - (cosine[0] + f * (cosine[1] - cosine[0])));
}

Strip strip_about(const Vec3& a_m, const Vec3& b_m, const std::vector<Vec3>& directions,
                  double most_inverse_m, double margin_rad, double step_rad, double row_step_rad) {
    Strip s;
    s.a_m = a_m, s.b_m = b_m;
    s.step = step_rad, s.row_step = row_step_rad;
    if (directions.empty() || s.baseline_m() < kLeastBaseline_m) return s;
    const Vec3 z = (s.b_m - s.a_m).normalized(), x = z.unitOrthogonal();
    s.to_rig.col(0) = x;
    s.to_rig.col(1) = z.cross(x);
    s.to_rig.col(2) = z;
    double low = kPi, high = 0;
    std::vector<double> phis;
    for (const Vec3& d : directions)
        for (const Vec3& at : seen_in(d, s.a_m, s.b_m, most_inverse_m)) {
            const Vec3 v = s.to_rig.transpose() * at;
            const double alpha = alpha_of(v);
            low = std::min(low, alpha), high = std::max(high, alpha);
            phis.push_back(phi_of(v));
        }
    const double begin = begin_of(phis);
    double end = begin;
    for (const double phi : phis) end = std::max(end, after(phi, begin));
    low = std::max(kFromEnds, low - margin_rad), high = std::min(kPi - kFromEnds, high + margin_rad);
    s.first_alpha = low;
    s.width = std::max(0, int(std::ceil((high - low) / step_rad)));
    for (int i = 0; s.width > 0 && i <= s.width; ++i) {
        s.sines.push_back(float(s.baseline_m() * std::sin(low + i * step_rad)));
        s.cosines.push_back(float(s.baseline_m() * std::cos(low + i * step_rad)));
    }
    const double tall = std::min(2 * kPi, end - begin + 2 * margin_rad);
    s.first_phi = begin - margin_rad;
    s.height = int(std::ceil(tall / row_step_rad));
    return s;
}

std::array<int, 2> columns_about(const Strip& strip, const std::vector<Vec3>& directions,
                                 double most_inverse_m, double margin_rad) {
    if (directions.empty()) return {0, 0};
    double low = strip.width, high = 0;
    for (const Vec3& d : directions)
        for (const Vec3& at : seen_in(d, strip.a_m, strip.b_m, most_inverse_m)) {
            const double x = strip.place(at.normalized()).x();
            low = std::min(low, x), high = std::max(high, x);
        }
    const double margin = margin_rad / strip.step;
    return {std::clamp(int(std::floor(low - margin)), 0, strip.width),
            std::clamp(int(std::ceil(high + margin)), 0, strip.width)};
}

} // namespace porb
