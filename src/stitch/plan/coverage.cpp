#include "stitch/plan/coverage.h"

#include "stitch/plan/plan.h"
#include "stitch/plan/plan_lens.h"
#include "stitch/plan/supply.h"

namespace porb {

struct Coverage::Impl {
    explicit Impl(const PlanKey& key)
        : lenses(plan_lenses(key)), supply(key, lenses), cameras(key.cameras.size()),
          agree(agree_inverse_m(key)), to_rig(rotation_of(key.orientation).transpose()) {}
    std::vector<PlanLens> lenses;
    Supply supply;
    std::size_t cameras;
    double agree; ///< 1/m
    Mat3 to_rig;
};

Coverage::Coverage(const PlanKey& key) : impl_(std::make_unique<Impl>(key)) {}
Coverage::~Coverage() = default;

double Coverage::clear_of_shapes_deg(const Vec3& world_direction) const {
    double clear = 1e3;
    for (const auto& lens : impl_->lenses)
        if (lens.shapes)
            clear = std::min(clear, double(land(lens, lens.ray(world_direction, impl_->agree)).edge_deg));
    return clear;
}

std::vector<float> Coverage::supply(const Vec3& world_direction) const {
    std::vector<Landing> at;
    for (const auto& lens : impl_->lenses) at.push_back(land(lens, lens.ray(world_direction, impl_->agree)));
    impl_->supply.set_leads(impl_->to_rig * world_direction, at);
    std::vector<float> by_lens(at.size()), out(impl_->cameras, 0.0f);
    impl_->supply.weights(impl_->to_rig * world_direction, at, by_lens);
    narrow_weights(by_lens, 0, feather_power_of(impl_->lenses));
    for (std::size_t l = 0; l < at.size(); ++l) out[impl_->lenses[l].index] = by_lens[l];
    return out;
}

std::vector<double> Coverage::lead_deg(const Vec3& world_direction) const {
    std::vector<Landing> at;
    for (const auto& lens : impl_->lenses) at.push_back(land(lens, lens.ray(world_direction, impl_->agree)));
    impl_->supply.set_leads(impl_->to_rig * world_direction, at);
    std::vector<double> lead(impl_->cameras, -1e9);
    for (std::size_t l = 0; l < at.size(); ++l)
        if (at[l].margin_deg > 0) lead[impl_->lenses[l].index] = at[l].lead_deg;
    return lead;
}

std::vector<double> Coverage::margin_deg(const Vec3& world_direction) const {
    std::vector<double> inside(impl_->cameras, -1);
    for (const auto& lens : impl_->lenses)
        inside[lens.index] = land(lens, lens.ray(world_direction, impl_->agree)).margin_deg;
    return inside;
}

int Coverage::lenses_at(const Vec3& world_direction) const {
    return int(std::count_if(impl_->lenses.begin(), impl_->lenses.end(), [&](const PlanLens& lens) {
        return land(lens, lens.ray(world_direction, impl_->agree)).margin_deg > 0;
    }));
}

} // namespace porb
