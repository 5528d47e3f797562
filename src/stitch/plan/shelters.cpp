#include "stitch/plan/shelters.h"

#include "base/angle.h"
#include "base/smooth.h"

namespace porb {

namespace {

constexpr int kRound = 16, kRings = 4; ///< places inside an oval that are looked at

Mat3 frame_of(const ShelterKey& oval) {
    return rotation_of({oval.yaw_deg, oval.pitch_deg, 0}).transpose();
}

/// Directions spread over an oval, rig axes, its edge among them.
std::vector<Vec3> places_in(const ShelterKey& oval) {
    const Mat3 back = frame_of(oval).transpose();
    std::vector<Vec3> out = {back * Vec3(0, 0, 1)};
    for (int ring = 1; ring <= kRings; ++ring)
        for (int i = 0; i < kRound; ++i) {
            const double phi = 2 * kPi * i / kRound, share = double(ring) / kRings;
            const double x = radians(oval.width_deg / 2) * std::cos(phi) * share,
                         y = radians(oval.height_deg / 2) * std::sin(phi) * share;
            const double theta = std::hypot(x, y);
            out.push_back(back *
                          Vec3(std::sin(theta) * x / theta, std::sin(theta) * y / theta, std::cos(theta)));
        }
    return out;
}

double inside_of(const PlanLens& lens, const Mat3& to_world, const Vec3& rig_direction, double agree) {
    return land(lens, lens.ray(to_world * rig_direction, agree)).margin_deg;
}

} // namespace

double ShelterAtTime::margin_deg(const Vec3& rig_direction) const {
    const Vec3 v = to_oval * rig_direction;
    const double side = std::hypot(v.x(), v.y()), theta = degrees(std::atan2(side, v.z()));
    if (side < 1e-9) return v.z() > 0 ? std::min(half_width_deg, half_height_deg) : -180;
    // Along the ray from the middle the edge lies at theta / k.
    const double k = theta * std::hypot(v.x() / side / half_width_deg, v.y() / side / half_height_deg);
    return k > 1e-6 ? std::min(theta * (1 / k - 1), std::min(half_width_deg, half_height_deg)) : theta;
}

double ShelterAtTime::share(const Vec3& rig_direction, const Landing& at, double best_lead_deg,
                            double lens_feather_deg) const {
    if (presence <= 0 || at.margin_deg <= 0) return 0;
    const double within = smooth(margin_deg(rig_direction) / feather_deg + 0.5);
    if (within <= 0) return 0;
    const double ahead =
        at.lead_deg - best_lead_deg + presence * (most_behind + lens_feather_deg); // 0: where it comes to
    return within * smooth(ahead / lens_feather_deg) * smooth(2 * at.margin_deg / lens_feather_deg);
}

std::optional<LineField> line_field(const PlanKey& key, const std::vector<PlanLens>& lenses) {
    if (key.lines->keys.empty()) return std::nullopt;
    std::vector<std::size_t> cameras;
    for (const PlanLens& lens : lenses) cameras.push_back(lens.index);
    return LineField(*key.lines, key.line_state, cameras);
}

std::vector<ShelterAtTime> shelters_at_time(const PlanKey& key, const std::vector<PlanLens>& lenses) {
    std::vector<ShelterAtTime> out;
    const Mat3 to_world = rotation_of(key.orientation);
    const double agree = agree_inverse_m(key);
    const auto lines = key.shelters.empty() ? std::nullopt : line_field(key, lenses);
    for (const PlanShelter& s : key.shelters) {
        ShelterAtTime h;
        h.lens = lenses.size();
        double best = -1e9;
        for (std::size_t l = 0; l < lenses.size(); ++l) {
            if (!s.camera.empty()) {
                if (key.cameras[lenses[l].index].id == s.camera) h.lens = l;
                continue;
            }
            double least = 1e9,
                   sum = 0; // sees all of it; of two that do, the one that sees it nearer its axis
            for (const ShelterKey& oval : s.keys)
                for (const Vec3& d : places_in(oval)) {
                    const double inside = inside_of(lenses[l], to_world, d, agree);
                    least = std::min(least, inside), sum += inside;
                }
            const double score = std::min(least, 0.0) * 1e3 + sum;
            if (score > best) best = score, h.lens = l;
        }
        if (h.lens == lenses.size()) continue;
        h.to_oval = frame_of(s.oval);
        h.half_width_deg = s.oval.width_deg / 2;
        h.half_height_deg = s.oval.height_deg / 2;
        h.feather_deg = std::max(s.feather_deg, 0.05);
        h.presence = s.presence;
        for (const Vec3& d : places_in(s.oval)) {
            if (inside_of(lenses[h.lens], to_world, d, agree) <= 0) continue;
            std::vector<float> lead(lenses.size());
            if (lines)
                lines->leads_deg(d, lead);
            else
                for (std::size_t l = 0; l < lenses.size(); ++l)
                    lead[l] = float(inside_of(lenses[l], to_world, d, agree));
            const float ahead = *std::max_element(lead.begin(), lead.end());
            h.most_behind = std::max(h.most_behind, double(ahead - lead[h.lens]));
        }
        out.push_back(h);
    }
    return out;
}

ShelterCamera shelter_camera(const Shot& shot, const Shelter& shelter) {
    Shot alone = shot;
    alone.seams.shelters = {shelter};
    alone.seams.shelters[0].on = true;
    alone.seams.shelters[0].from = alone.seams.shelters[0].to = std::nullopt;
    const Seconds begin = shelter.keys.empty() ? shot.timing.in : shelter.keys.front().time;
    View view;
    view.target = equirect_target(4096);
    const PlanKey key = plan_key(alone, view, begin);
    const std::vector<PlanLens> lenses = plan_lenses(key);
    const std::vector<ShelterAtTime> found = shelters_at_time(key, lenses);
    ShelterCamera sight;
    if (found.empty()) return sight;
    sight.camera = key.cameras[lenses[found[0].lens].index].id;
    int seen = 0, all = 0;
    const Mat3 to_world = rotation_of(key.orientation);
    for (const ShelterKey& oval : shelter.keys)
        for (const Vec3& d : places_in(oval)) {
            ++all;
            seen += inside_of(lenses[found[0].lens], to_world, d, agree_inverse_m(key)) > 0;
        }
    sight.seen = all > 0 ? double(seen) / all : 0;
    return sight;
}

} // namespace porb
