#include "stitch/coverage_report.h"

#include "base/angle.h"

#include <Eigen/Geometry>

namespace porb {

namespace {
constexpr int kDirections = 4000;
constexpr double kStepDeg = 0.25;
constexpr double kGoldenAngle = 2.399963229728653;

Vec3 axis_of(const Camera& c) {
    return rotation_of(c.pose.turn) * Vec3(0, 0, 1);
}
} // namespace

CoverageReport coverage_report(const Shot& shot) {
    View view;
    view.target = equirect_target(3840); // as finely as a master would ask
    PlanKey key = plan_key(shot, view);
    key.orientation = {};
    key.row_turn = Vec3(0, 0, 0);
    key.agree_distance_m = 0;
    for (auto& c : key.cameras) c.media = "media"; // whether or not it has its source yet
    const Coverage coverage(key);
    CoverageReport report;
    for (int i = 0; i < kDirections; ++i) {
        const double y = 1 - 2 * (i + 0.5) / kDirections, s = std::sqrt(1 - y * y);
        const Vec3 d(s * std::cos(i * kGoldenAngle), y, s * std::sin(i * kGoldenAngle));
        const int lenses = coverage.lenses_at(d);
        report.share[std::size_t(std::min(lenses, 3))] += 1.0 / kDirections;
        if (lenses == 0 && report.unseen.size() < 600) report.unseen.push_back(d);
    }
    for (std::size_t a = 0; a < key.cameras.size(); ++a)
        for (std::size_t b = a + 1; b < key.cameras.size(); ++b) {
            const Vec3 from = axis_of(key.rig.cameras[a]), to = axis_of(key.rig.cameras[b]);
            const double apart = std::atan2(from.cross(to).norm(), from.dot(to));
            // Opposite or equal axes lie on every great circle through them: any one will do.
            Vec3 across = from.cross(to);
            if (across.norm() < 1e-6)
                across = from.cross(std::abs(from.y()) < 0.9 ? Vec3(0, 1, 0) : Vec3(1, 0, 0));
            // From the middle between the axes outwards, as far as both see without a break.
            int both = 0;
            for (const int way : {1, -1})
                for (double t = way > 0 ? 0 : kStepDeg; t < 180; t += kStepDeg) {
                    const double at = apart / 2 + way * radians(t + kStepDeg / 2 * way);
                    const auto inside = coverage.inside_deg(rotation_about(across.normalized(), at) * from);
                    if (!(inside[a] > 0 && inside[b] > 0)) break;
                    ++both;
                }
            if (both > 0) report.overlaps.push_back({a, b, both * kStepDeg});
        }
    std::stable_sort(report.overlaps.begin(), report.overlaps.end(),
                     [](const PairOverlap& x, const PairOverlap& y) { return x.width_deg > y.width_deg; });
    return report;
}

} // namespace porb
