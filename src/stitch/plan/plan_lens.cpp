#include "stitch/plan/plan_lens.h"

#include "base/angle.h"

namespace porb {

namespace {

constexpr int kMostLevels = 6;
constexpr double kSharp_deg = 1e-3;
constexpr double kMixOfZone = 0.375;

int support_px(Filter filter) {
    return filter == Filter::cubic ? 2 : 1;
}

/// Source pixels kept clear of the rim at full size; the place of seams must not depend on a picture's size.
constexpr double kRimPx = 2;
/// Radians past a lens's rim at which nothing of it can matter, transitions included.
constexpr double kFarPast = 0.2;

Landing land_at_rest(const PlanLens& lens, const Vec3& ray) {
    const double length = ray.norm();
    if (ray.z() < lens.cos_far * length) // most directions, for most lenses of a large rig
        return {lens.map.lens().center_px,
                -degrees(std::acos(std::clamp(ray.z() / length, -1.0, 1.0)) - lens.map.theta_max())};
    const double side = std::hypot(ray.x(), ray.y());
    const double theta = std::atan2(side, ray.z());
    const Vec2 px =
        side > 1e-300 ? lens.map.place(theta, ray.x() / side, ray.y() / side) : lens.map.place(theta, 1, 0);
    const double clearance = lens.map.clearance(px);
    if (clearance < lens.support) return {px, -degrees((lens.support - clearance) * lens.rad_per_px) - 1e-9};
    const double clear = (clearance - kRimPx) * lens.rad_per_px;
    const double seen = degrees(std::min(lens.map.theta_max() - theta, clear)),
                 inside = std::min(degrees(lens.reach_rad - theta), seen);
    if (!lens.shapes) return {px, inside};
    const ShapeField::At shaped = lens.shapes->at(px);
    if (shaped.available <= 0) return {px, kCutAway_deg, 0, shaped.edge_deg};
    return {px, inside + double(shaped.restored) * (seen - inside), shaped.available, shaped.edge_deg};
}

} // namespace

Landing land(const PlanLens& lens, const Vec3& ray) {
    Landing at = land_at_rest(lens, ray);
    // A row is read before or after the frame's own moment, when the rig was turned otherwise; which row it
    // is follows from where the ray lands, so that twice round is plenty.
    const int rounds = lens.row_turn.squaredNorm() == 0 ? 0 : 2;
    for (int round = 0; round < rounds; ++round) {
        const double share = at.px.y() / lens.map.lens().height - 0.5;
        at = land_at_rest(lens, rotation_from_vector(-share * lens.row_turn) * ray);
    }
    at.lead_deg = at.margin_deg;
    return at;
}

namespace {

/// Where flow lays two pictures on each other, and they look alike, both are used over a part of its zone:
/// what is the same in both is seen twice as well, and no line shows. A hard or a multiband's finest seam
/// stays what it is.
double mix_width_deg(const PlanKey& key, double feather_deg) {
    const bool mixes = key.flow.on && !key.multiband && !key.hard;
    if (!mixes) return feather_deg;
    return std::max({feather_deg, kMixOfZone * key.flow.zone_deg, mixes_widely(key) ? kWideMix_deg : 0.0});
}

} // namespace

int level_for_proxies(int level, const Lens& lens, int proxy_level) {
    constexpr int kLeastSide = 64; // that halving leaves
    while (level < proxy_level && (lens.width >> (level + 1)) >= kLeastSide) ++level;
    return level;
}

std::vector<PlanLens> plan_lenses(const PlanKey& key) {
    const Mat3 to_shot = rotation_of(key.orientation).transpose();
    const double target_angle = TargetMap(key.view.target).pixel_angle();
    std::vector<PlanLens> lenses;
    for (const std::size_t i : contributing_cameras(key)) {
        const KeyCamera& camera = key.cameras[i];
        const LensMap map(camera.lens);
        const Mat3 to_camera = rotation_of(camera.pose.turn).transpose();
        const double t = map.theta_max();
        const double rim_slope =
            std::max((map.radius(t) - map.radius(0.98 * t)) / (0.02 * t), 0.05 * camera.lens.focal_px);
        int level = 0; // so that a picture smaller than its source takes the mean of what it covers
        while (level < kMostLevels && (1 << (level + 1)) <= target_angle * camera.lens.focal_px * 1.3)
            ++level;
        level = level_for_proxies(level, camera.lens, key.view.proxy_level);
        std::shared_ptr<const ShapeField> shapes;
        if (!camera.shapes.empty()) shapes = std::make_shared<const ShapeField>(camera.shapes, camera.lens);
        const double feather = std::max(camera.feather_deg, kSharp_deg);
        lenses.push_back({map, to_camera * to_shot, to_camera * camera.pose.position_m,
                          radians(camera.reach_deg), feather, mix_width_deg(key, feather), 1 / rim_slope,
                          double(support_px(key.view.filter) << level), level, i,
                          key.row_turns.empty() ? Vec3(Vec3::Zero()) : Vec3(to_camera * key.row_turns[i]),
                          std::cos(std::min(kPi, t + kFarPast)), shapes});
    }
    return lenses;
}

int feather_power_of(const std::vector<PlanLens>& lenses) {
    double mix = 0, feather = 0;
    for (const PlanLens& lens : lenses) mix += lens.mix_deg, feather += lens.feather_deg;
    return power_for_feather(mix, feather);
}

} // namespace porb
