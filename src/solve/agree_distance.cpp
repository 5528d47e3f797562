#include "solve/agree_distance.h"

#include "base/angle.h"
#include "solve/pictures/grey.h"

namespace porb {

std::optional<AgreeSuggestion> suggest_agree_distance(const Shot& shot, std::span<const PointFit> fits,
                                                      const Vec3& rig_direction, double radius_deg) {
    std::vector<double> inverse;
    for (std::size_t i = 0; i < fits.size(); ++i)
        if ((*shot.calibration.points)[i].dropped.empty() &&
            fits[i].direction.dot(rig_direction) >= std::cos(radians(radius_deg)))
            inverse.push_back(std::max(0.0, fits[i].inverse_m));
    if (inverse.size() < 3) return std::nullopt;
    std::sort(inverse.begin(), inverse.end());
    const std::size_t cut = inverse.size() / 5;
    double sum = 0, squares = 0;
    int n = 0;
    for (std::size_t i = cut; i < inverse.size() - cut; ++i)
        sum += inverse[i], squares += inverse[i] * inverse[i], ++n;
    const double mean = sum / n;
    AgreeSuggestion s;
    s.points = int(inverse.size());
    s.spread = std::sqrt(std::max(0.0, squares / n - mean * mean));
    s.distance_m = mean > 1e-3 ? 1 / mean : 0;
    return s;
}

std::vector<double> doubling_px(const Shot& shot, std::span<const PointFit> fits, double distance_m) {
    std::vector<Eyepiece> eyes;
    for (std::size_t c = 0; c < shot.rig.cameras.size(); ++c) eyes.emplace_back(shot.rig, c, nullptr);
    std::vector<double> out;
    const double agree = distance_m > 0 ? 1 / distance_m : 0;
    for (std::size_t i = 0; i < fits.size(); ++i) {
        const Eyepiece &a = eyes[index_of(shot.rig, (*shot.calibration.points)[i].a)],
                       &b = eyes[index_of(shot.rig, (*shot.calibration.points)[i].b)];
        // Where the stitched sphere shows it through each camera: the direction at which that camera's ray
        // meets the agree distance. Their difference, in b's pixels.
        const auto shown = [&](const Eyepiece& eye) -> Vec3 {
            const Vec3 ray =
                (fits[i].direction - std::max(0.0, fits[i].inverse_m) * eye.position).normalized();
            const Vec3 q = agree * eye.position; // the ray from q meets the sphere of that distance
            const double along = ray.dot(q);
            return (q + (std::sqrt(std::max(0.0, along * along + 1 - q.squaredNorm())) - along) * ray)
                .normalized();
        };
        const Vec3 wa = shown(a), wb = shown(b);
        out.push_back(std::atan2(wa.cross(wb).norm(), wa.dot(wb)) * b.lens.focal_px);
    }
    return out;
}

} // namespace porb
