#include "stitch/source/tone.h"

#include <Eigen/Dense>

#include <cmath>

namespace porb {

namespace {
constexpr int kFitPlaces = 45;
constexpr double kCurve = 2.4; ///< exponent of the working curve (IEC 61966-2-1)

void fit_rim(const std::array<double, 2>& vignetting, float (&rim)[3]) {
    Eigen::Matrix<double, kFitPlaces, 3> powers;
    Eigen::Matrix<double, kFitPlaces, 1> wanted;
    for (int i = 0; i < kFitPlaces; ++i) {
        const double q = double(kFarthestQ) * i / (kFitPlaces - 1);
        powers.row(i) << q, q * q, q * q * q;
        wanted[i] = std::pow(light_left(vignetting, q), -1 / kCurve) - 1;
    }
    const Eigen::Vector3d fit = powers.colPivHouseholderQr().solve(wanted);
    for (int i = 0; i < 3; ++i) rim[i] = float(fit[i]);
}
} // namespace

CameraTone tone_of(const ShotCamera& use, const Lens& lens, const MatchSettings& settings, Seconds time,
                   int level) {
    CameraTone tone;
    if (!settings.on) return tone;
    const auto ev = gains_at(use.colour, time);
    for (std::size_t c = 0; c < 3; ++c) {
        tone.scale[c] = float(std::exp2(ev[c] / kCurve));
        tone.plain = tone.plain && ev[c] == 0;
    }
    if (use.colour.vignetting != std::array<double, 2>{}) {
        tone.plain = false;
        fit_rim(use.colour.vignetting, tone.rim);
    }
    const double reduced = 1.0 / (1 << level);
    tone.centre_u = float(lens.circle.center_px.x() * reduced);
    tone.centre_v = float(lens.circle.center_px.y() * reduced);
    tone.per_radius2 = float(1 / std::pow(lens.circle.radius_px * reduced, 2));
    return tone;
}

} // namespace porb
