#pragma once

#include "optics/eye_rays.h"
#include "optics/sphere_grid.h"
#include "project/project.h"
#include "stitch/plan/view.h"

#include <QImage>
#include <QRectF>

#include <memory>
#include <optional>

class QPainter;

namespace porb::app {

/// What was found at one moment: how far things are by direction in rig axes, and how far that is trusted
/// (below 0: no seam is near, nothing was looked for). A value that threads share.
struct FoundDistances {
    SphereGrid inverse_m, trust;
    Mat3 to_rig = Mat3::Identity(); ///< from world directions
    EyeRays rays;                   ///< of the eye whose picture it is
    double inverse_at(const Vec3& shown) const { return inverse_m.at(to_rig * rays.looks(shown)); }
    double trust_at(const Vec3& shown) const {
        return trust.empty() ? -1 : trust.at(to_rig * rays.looks(shown));
    }
};
using FoundDistancesPtr = std::shared_ptr<const FoundDistances>;

/// The scale's colour for a distance, by its logarithm from kNearestShown_m to kFarthestShown_m; brightness
/// alone tells them apart, to colour-blind eyes, too ("viridis"; Smith and van der Walt 2015).
inline constexpr double kTrusted = 0.35; ///< less is not
inline constexpr double kNearestShown_m = 0.5, kFarthestShown_m = 50;
QColor distance_colour(double inverse_m);
/// "1.84 m", or "far".
QString distance_text(double inverse_m);

/// Lays the scale's colours over a composed picture of `view`, through which the picture shows faintly.
/// Hatched: not trusted; the picture in grey: nothing was looked for, and all is drawn at the agree distance.
void tint_by_distance(QImage& picture, const View& view, const FoundDistances& found);
/// Where distances step by a fifth and more, over the view's region; elsewhere clear.
QImage distance_steps(const View& view, const FoundDistances& found);
/// The scale and what hatching means, at the lower left of `within`.
void paint_distance_scale(QPainter& p, const QRectF& within);

} // namespace porb::app
