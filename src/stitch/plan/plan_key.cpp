#include "stitch/plan/plan_key.h"

#include "optics/eye_pairs.h"
#include "project/orientation.h"

namespace porb {

namespace {

constexpr int kEveryWidth = 4096;          ///< what of a rim is kept clear depends on the view
constexpr double kHardFeather_deg = 0.3;   ///< hides the steps of pixels, no more
constexpr double kDetailFeather_deg = 1.5; ///< the finest band's; wider ones are in the light fields
constexpr double kNeverMerge_deg = 90;     ///< a latitude that nothing is beyond

bool serves(Eyes eyes, Eye eye) {
    return eye == Eye::mono || eyes == Eyes::both || (eye == Eye::left) == (eyes == Eyes::left);
}

bool is_stereo_pair(const PlanKey& key) {
    const auto has = [&](Eyes e) {
        return std::any_of(key.cameras.begin(), key.cameras.end(),
                           [&](const KeyCamera& c) { return c.eyes == e; });
    };
    return has(Eyes::left) && has(Eyes::right);
}

/// Cut-outs and restores that count, as they are at a moment.
std::vector<KeyShape> shapes_at(const ShotCamera& camera, Seconds time) {
    std::vector<KeyShape> out;
    for (const Shape& s : camera.shapes)
        if (s.on && !s.distance && !s.keys.empty())
            out.push_back({s.restores, s.feather_deg, corners_at(s, time)});
    return out;
}

/// Which cameras a view looks through: eyes drawn from distances look through all of them.
Eye cameras_of(const Shot& shot, Eye eye) {
    const StereoSettings& stereo = shot.stereo;
    if (stereo.from == EyesFrom::distances || eye_separation_m(shot.rig) == 0)
        return stereo.from == EyesFrom::cameras ? eye : Eye::mono;
    if (eye == Eye::mono || stereo.from == EyesFrom::one)
        eye = stereo.mono == MonoEye::right ? Eye::right : Eye::left;
    return stereo.swap ? eye == Eye::left ? Eye::right : Eye::left : eye;
}

KeyCamera key_camera(const Shot& shot, const ShotCamera& use, Seconds time, Sources sources) {
    KeyCamera c;
    c.id = use.camera;
    c.reach_deg = use.reach_deg;
    c.feather_deg = use.feather_deg;
    if (shot.seams.blend.kind == Blending::hard) c.feather_deg = std::min(c.feather_deg, kHardFeather_deg);
    if (shot.seams.blend.kind == Blending::multiband)
        c.feather_deg = std::min(c.feather_deg, kDetailFeather_deg);
    const Camera* camera = find_camera(shot.rig, use.camera);
    c.runs = camera && use.used && (sources == Sources::all || !use.media.empty());
    c.shapes = shapes_at(use, time);
    if (!camera) return c;
    c.lens = camera->lens;
    c.lens.pixel_pitch_um = 0; // tells millimetres, moves no ray
    c.pose = camera->pose;
    c.eyes = shot.stereo.from == EyesFrom::distances ? Eyes::both : camera->eyes;
    return c;
}

} // namespace

EyeRays eye_rays_of(const Shot& shot, Eye eye, Seconds time) {
    const StereoSettings& stereo = shot.stereo;
    if (eye == Eye::mono || stereo.from == EyesFrom::one) return {};
    const bool right = (eye == Eye::right) != stereo.swap;
    const auto at = [&](double ipd_m, double from_deg, double to_deg) {
        return converged({(right ? 0.5 : -0.5) * ipd_m, 0, from_deg, to_deg}, converge_at(stereo, time));
    };
    // Eyes with cameras for each direction stand on the viewing circle, too: where two of an eye's cameras
    // meet, what they show is drawn from there.
    if (stereo.from == EyesFrom::distances || !is_half_sphere_pair(shot.rig))
        return at(stereo.from == EyesFrom::distances ? stereo.ipd_m : eye_separation_m(shot.rig),
                  stereo.merge_from_deg, stereo.merge_to_deg);
    // A pair's cameras are where they are, and its pictures turn as a whole.
    EyeRays rays = at(eye_separation_m(shot.rig), kNeverMerge_deg, kNeverMerge_deg + 1);
    rays.offset_m = 0;
    return rays;
}

PlanKey plan_key(const Shot& shot, const View& view, Seconds time, Sources sources) {
    PlanKey key;
    for (const ShotCamera& use : shot.cameras) key.cameras.push_back(key_camera(shot, use, time, sources));
    key.orientation =
        orientation_moves(shot) ? turn_of(orientation_at(shot, time)) : shot.levelling.orientation;
    key.agree_distance_m = shot.seams.agree_distance_m;
    key.view = view;
    key.view.patches = true; // they lie over what a plan is about
    key.view.eye = cameras_of(shot, view.eye);
    key.rays = eye_rays_of(shot, view.eye, time);
    if (shot.seams.flow.on) {
        // What changes over the shot makes no plan anew: zones are as wide as they ever are.
        key.flow.on = true;
        key.flow.zone_deg = widest_zone_deg(shot.seams.flow);
        key.flow.strength = key.flow.smoothness = 1;
        key.flow.nearest_m = shot.seams.flow.nearest_m;
        key.flow.everywhere = shot.seams.flow.everywhere;
        key.flow.fine_edges = shot.seams.flow.fine_edges;
        for (const SeamFlow& seam : shot.seams.flow.seams)
            key.flow.seams.push_back({seam.a, seam.b, 1, widest_zone_deg(seam), 1, std::nullopt});
    }
    if (shot.seams.seam_lines->on && !shot.seams.seam_lines->keys.empty()) {
        key.lines = shot.seams.seam_lines;
        key.line_state = line_state_at(*shot.seams.seam_lines, time);
    }
    key.multiband = shot.seams.blend.kind == Blending::multiband;
    key.hard = shot.seams.blend.kind == Blending::hard;
    for (const Shelter& s : shot.seams.shelters)
        if (const double presence = presence_at(s, time); presence > 0)
            key.shelters.push_back({s.camera, oval_at(s, time), presence, s.feather_deg,
                                    s.camera.empty() ? s.keys : std::vector<ShelterKey>()});
    if (shot.levelling.steady && shot.levelling.steady->on && shot.levelling.steady->readout_s != 0)
        key.row_turns.assign(shot.cameras.size(), shot.levelling.steady->readout_s *
                                                      spin_at(*shot.levelling.steady, time.to_double()));
    return key;
}

void set_taken(PlanKey& key, const Shot& shot, Seconds time, const std::vector<Seconds>& taken) {
    const bool moves = orientation_moves(shot);
    const Mat3 now = moves ? orientation_at(shot, time) : Mat3(Mat3::Identity());
    for (std::size_t i = 0; i < taken.size(); ++i) {
        if (taken[i] == time) continue;
        KeyCamera& camera = key.cameras[i];
        if (moves) {
            // Rig directions of now to those of then, of which the camera's pose knows.
            const Mat3 then = orientation_at(shot, taken[i]).transpose() * now;
            camera.pose.turn = turn_of(then.transpose() * rotation_of(camera.pose.turn));
            camera.pose.position_m = then.transpose() * camera.pose.position_m;
        }
        if (i < key.row_turns.size())
            key.row_turns[i] =
                shot.levelling.steady->readout_s * spin_at(*shot.levelling.steady, taken[i].to_double());
        camera.shapes = shapes_at(shot.cameras[i], taken[i]);
    }
}

PlanKey at_rest(PlanKey key) {
    key.shelters.clear();
    key.line_state.towards_next = 0;
    return key;
}

PlanKey in_rig_axes(PlanKey key) {
    key.orientation = {};
    key.row_turns.clear();
    key.rays = {}; // of the levelled world
    return key;
}

PlanKey for_every_view(PlanKey key) {
    View view;
    view.target = equirect_target(kEveryWidth);
    view.eye = key.view.eye;
    view.proxy_level = key.view.proxy_level;
    key.view = view;
    return in_rig_axes(std::move(key));
}

std::vector<std::size_t> contributing_cameras(const PlanKey& key) {
    const Eye eye = key.view.eye == Eye::mono && is_stereo_pair(key) ? Eye::left : key.view.eye;
    std::vector<std::size_t> indices;
    for (std::size_t i = 0; i < key.cameras.size(); ++i)
        if (key.cameras[i].runs && serves(key.cameras[i].eyes, eye)) indices.push_back(i);
    return indices;
}

} // namespace porb
