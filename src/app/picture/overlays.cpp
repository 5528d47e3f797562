#include "app/picture/overlays.h"

#include "app/picture/rig_view.h"
#include "app/widgets/theme.h"
#include "base/angle.h"
#include "stitch/plan/coverage.h"

namespace porb::app {

namespace {
constexpr int kRimPoints = 240, kMaskWidth = 360;

/// The farthest angle within reach, circle and picture at which a lens sees in the direction phi of its
/// picture.
double rim_angle(const LensMap& map, double reach_rad, double phi) {
    const auto clear = [&](double theta) {
        return map.clearance(map.place(theta, std::cos(phi), std::sin(phi))) >= 0;
    };
    double high = std::min(reach_rad, map.theta_max());
    if (clear(high)) return high;
    double low = 0;
    for (int i = 0; i < 24; ++i) {
        const double mid = 0.5 * (low + high);
        (clear(mid) ? low : high) = mid;
    }
    return low;
}
} // namespace

Overlays make_overlays(const PlanKey& key) {
    Overlays out;
    const TargetMap target(key.view.target);
    const double wrap = key.view.target.width * 0.4;
    const Mat3 to_world = rotation_of(key.orientation);
    for (const std::size_t i : contributing_cameras(key)) {
        const KeyCamera& camera = key.cameras[i];
        const LensMap map(camera.lens);
        const Mat3 turn = to_world * rotation_of(camera.pose.turn);
        Overlays::LensOutline lens{i, {}, {}};
        QPolygonF run;
        const auto finish = [&] {
            if (run.size() > 1) lens.outline.push_back(run);
            run.clear();
        };
        for (int p = 0; p <= kRimPoints; ++p) {
            const double phi = 2 * kPi * p / kRimPoints;
            const double theta = rim_angle(map, radians(camera.reach_deg), phi);
            const Vec3 d = turn * Vec3(std::sin(theta) * std::cos(phi), std::sin(theta) * std::sin(phi),
                                       std::cos(theta));
            const auto at = target.pixel(d);
            if (!at) {
                finish();
                continue;
            }
            const QPointF point(at->x(), at->y());
            if (!run.isEmpty() && std::abs(run.back().x() - point.x()) > wrap) finish();
            run << point;
        }
        finish();
        if (const auto c = target.pixel(turn * Vec3(0, 0, 1))) lens.centre = QPointF(c->x(), c->y());
        out.lenses.push_back(std::move(lens));
    }
    const Region r = key.view.region.width > 0 ? key.view.region
                                               : Region{0, 0, key.view.target.width, key.view.target.height};
    const int h = std::max(1, kMaskWidth * r.height / std::max(1, r.width));
    out.overlaps = QImage(kMaskWidth, h, QImage::Format_ARGB32_Premultiplied);
    out.overlaps.fill(Qt::transparent);
    out.coverage = out.supply = out.overlaps;
    PlanKey fine = key;
    fine.view.target = equirect_target(3840); // as finely as a master would ask
    const Coverage coverage(fine);
    for (int y = 0; y < h; ++y)
        for (int x = 0; x < kMaskWidth; ++x) {
            const auto d = target.direction(
                Vec2(r.x + (x + 0.5) * r.width / kMaskWidth, r.y + (y + 0.5) * r.height / h));
            if (!d) continue;
            const int lenses = coverage.lenses_at(*d);
            double red = 0, green = 0, blue = 0, all = 0;
            const auto weights = coverage.supply(*d);
            for (std::size_t c = 0; c < weights.size(); ++c) {
                const QColor tint = colour::lens(int(c));
                const double w = double(weights[c]);
                red += w * tint.red(), green += w * tint.green(), blue += w * tint.blue(), all += w;
            }
            if (all > 0.01) {
                const QColor mixed(int(red / all), int(green / all), int(blue / all), 120);
                out.supply.setPixel(x, y, qPremultiply(mixed.rgba()));
            }
            if (lenses >= 2) out.overlaps.setPixel(x, y, qPremultiply(qRgba(0xbf, 0xdc, 0xe4, 70)));
            QColor tint = coverage_colour(lenses);
            tint.setAlpha(lenses == 0 ? 220 : 120);
            out.coverage.setPixel(x, y, qPremultiply(tint.rgba()));
        }
    return out;
}

} // namespace porb::app
