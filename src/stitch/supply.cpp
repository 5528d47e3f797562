#include "stitch/supply.h"

namespace porb {

void Supply::weights(const Vec3& rig_direction, std::span<const Landing> at, std::span<float> out) const {
    double best = -1e9;
    for (const auto& a : at) best = std::max(best, a.inside_deg);
    double sum = 0, cover = 0;
    std::array<double, kMostCameras> raw;
    for (std::size_t l = 0; l < at.size(); ++l) {
        raw[l] = blend_weight(at[l].inside_deg, best, lenses_[l].feather_deg);
        sum += raw[l];
        cover = std::max(cover, raw[l]);
    }
    for (std::size_t l = 0; l < at.size(); ++l)
        out[l] = sum > 0 ? float(raw[l] / sum * std::min(1.0, cover)) : 0;
    for (const Haven& h : havens_) {
        const auto share =
            float(h.share(rig_direction, at[h.lens].inside_deg, best, lenses_[h.lens].feather_deg));
        if (share <= 0) continue;
        for (float& w : out) w *= 1 - share;
        out[h.lens] += share;
    }
}

bool Supply::near_shelter(const Vec3& rig_direction, double within_deg) const {
    return std::any_of(havens_.begin(), havens_.end(), [&](const Haven& h) {
        return h.inside_deg(rig_direction) > -h.feather_deg - within_deg;
    });
}

} // namespace porb
