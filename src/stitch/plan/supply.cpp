#include "stitch/plan/supply.h"

#include "base/smooth.h"

#include <array>

namespace porb {

namespace {
constexpr int kMostFading = 4; ///< lenses that shapes fade at one place; more are taken as whole
constexpr double kMovingAround_deg =
    4; ///< beyond the feather, of cells that change hands: leads are softened
} // namespace

Supply::Supply(const PlanKey& key, const std::vector<PlanLens>& lenses)
    : lenses_(lenses), lines_(line_field(key, lenses)), havens_(shelters_at_time(key, lenses)) {
    for (const PlanLens& lens : lenses_) widest_mix_deg_ = std::max(widest_mix_deg_, lens.mix_deg);
}

void Supply::set_leads(const Vec3& rig_direction, std::span<Landing> at) const {
    if (!lines_) return;
    std::array<float, kMostCameras> leads{};
    lines_->leads_deg(rig_direction, std::span(leads).first(at.size()));
    for (std::size_t l = 0; l < at.size(); ++l) at[l].lead_deg = double(leads[l]);
}

/// Weights as if the lenses of `without` (a bit each) were not there.
void Supply::blended(std::span<const Landing> at, std::uint64_t without, std::span<double> out) const {
    const auto there = [&](std::size_t l) { return !(without >> l & 1) && at[l].margin_deg > 0; };
    double best = -1e9, second = -1e9, best_inside = -1e9, sum = 0, cover = 0, edge = 1e3;
    std::size_t deepest = at.size();
    for (std::size_t l = 0; l < at.size(); ++l) {
        if (!there(l)) continue;
        second = std::max(second, std::min(best, at[l].lead_deg));
        best = std::max(best, at[l].lead_deg);
        edge = std::min(edge, double(at[l].edge_deg));
        if (at[l].margin_deg > best_inside) best_inside = at[l].margin_deg, deepest = l;
    }
    for (std::size_t l = 0; l < at.size(); ++l) {
        // Beside cut-outs and restores two lenses are meant to show different things.
        const double feather = lenses_[l].feather_deg,
                     mix = feather + smooth(edge / kShapeClear_deg) * (lenses_[l].mix_deg - feather);
        out[l] = there(l) ? blend_weight(at[l].margin_deg, at[l].lead_deg, best, feather, mix) : 0;
        // Two lenses are mixed for showing the same. No one asked what a third one shows.
        if (mix > feather) out[l] *= smooth(1 - (second - at[l].lead_deg) / feather);
        sum += out[l];
        cover = std::max(cover, out[l]);
    }
    if (lines_ && deepest < at.size()) {
        // A line may run where its camera fades at the reach already: what lacks comes from the one deepest
        // inside.
        const double whole = smooth(2 * best_inside / lenses_[deepest].feather_deg);
        const double lacks = std::max(0.0, whole - cover);
        for (double& w : out) w = sum > 0 ? w / sum * std::min(whole, cover) : 0;
        out[deepest] += lacks;
        return;
    }
    for (double& w : out) w = sum > 0 ? w / sum * std::min(1.0, cover) : 0;
}

void Supply::weights(const Vec3& rig_direction, std::span<const Landing> at, std::span<float> out) const {
    // Where a cut-out fades a lens, what it supplies passes to what the others would supply without it: a mix
    // over who is there, weighted by how far each is available.
    std::array<double, kMostCameras> some, all{};
    std::array<std::size_t, kMostFading> fading{};
    int fades = 0;
    for (std::size_t l = 0; l < at.size() && fades < kMostFading; ++l)
        if (at[l].available < 1 && at[l].margin_deg > 0) fading[std::size_t(fades++)] = l;
    for (unsigned gone = 0; gone < 1u << fades; ++gone) {
        std::uint64_t without = 0;
        double chance = 1;
        for (int f = 0; f < fades; ++f) {
            const std::size_t l = fading[std::size_t(f)];
            const bool is_gone = gone >> f & 1;
            chance *= is_gone ? 1 - double(at[l].available) : double(at[l].available);
            if (is_gone) without |= std::uint64_t(1) << l;
        }
        blended(at, without, std::span(some).first(at.size()));
        for (std::size_t l = 0; l < at.size(); ++l) all[l] += chance * some[l];
    }
    double best = -1e9;
    for (std::size_t l = 0; l < at.size(); ++l) {
        out[l] = float(all[l]);
        best = std::max(best, at[l].lead_deg);
    }
    for (const ShelterAtTime& h : havens_) {
        const auto share = at[h.lens].available *
                           float(h.share(rig_direction, at[h.lens], best, lenses_[h.lens].feather_deg));
        if (share <= 0) continue;
        for (float& w : out) w *= 1 - share;
        out[h.lens] += share;
    }
}

bool Supply::near_change(const Vec3& rig_direction, double within_deg) const {
    return (lines_ && lines_->moves(rig_direction, widest_mix_deg_ + kMovingAround_deg + within_deg)) ||
           std::any_of(havens_.begin(), havens_.end(), [&](const ShelterAtTime& h) {
               return h.margin_deg(rig_direction) > -h.feather_deg - within_deg;
           });
}

} // namespace porb
