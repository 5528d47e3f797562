#pragma once

// What the tests of solving are made from: observations without pictures, and pictures painted by direction.
#include "solve/bundle/bundle.h"
#include "solve/pictures/grey.h"
#include "support/support.h"

#include <random>

namespace porb::test {

/// Made-up observations of a rig: things at random places, each seen by two or three cameras, with noise. No
/// pictures.
struct MadeUp {
    sim::Truth truth;
    std::vector<Observation> observations;
};
inline MadeUp made_up(sim::SimRig kind, bool distant, int things, double noise_px, unsigned seed,
                      double wrong_share = 0, bool bent = true) {
    sim::SimOptions o;
    o.rig = kind;
    o.circle_size = 960;
    o.seed = seed;
    o.faults.lens = o.faults.pose = true;
    o.faults.distortion = bent;
    MadeUp m;
    m.truth = sim::make_truth(o);
    std::mt19937 random(seed);
    std::normal_distribution<double> bell;
    std::uniform_real_distribution<double> flat(0, 1);
    std::vector<Eyepiece> eyes;
    for (std::size_t c = 0; c < m.truth.actual.cameras.size(); ++c)
        eyes.emplace_back(m.truth.actual, c, nullptr);
    for (int t = 0; t < things; ++t) {
        const Vec3 d = Vec3(bell(random), bell(random), bell(random)).normalized();
        const double inverse = distant ? 0 : 1 / (1.2 + 6 * flat(random));
        std::vector<std::pair<std::size_t, Vec2>> seen;
        for (std::size_t c = 0; c < eyes.size(); ++c)
            if (const auto px = eyes[c].sees((d - inverse * eyes[c].position).normalized(), 8))
                seen.emplace_back(c, *px + noise_px * Vec2(bell(random), bell(random)));
        for (std::size_t k = 1; k < std::min<std::size_t>(seen.size(), 3); ++k) {
            Observation s{seen[0].first, seen[k].first, seen[0].second, seen[k].second, 1, t};
            if (flat(random) < wrong_share) s.b_px += 25 * Vec2(bell(random), bell(random)), s.track = -1;
            m.observations.push_back(s);
        }
    }
    return m;
}

inline BundleProblem problem_for(const MadeUp& m) {
    BundleProblem p;
    p.start = p.prior = m.truth.nominal;
    const std::size_t n = p.start.cameras.size();
    p.lens_locked.assign(n, false);
    p.pose_locked.assign(n, false);
    p.alike.assign(n, 0);
    p.observations = m.observations;
    return p;
}

inline Shot shot_of(const MadeUp& m) {
    Shot shot = shot_for_rig(m.truth.nominal, "made up");
    ControlPoints points;
    for (const auto& s : m.observations) {
        ControlPoint p;
        p.id = int(points.size()) + 1;
        p.a = shot.rig.cameras[s.a].id, p.b = shot.rig.cameras[s.b].id;
        p.a_px = s.a_px, p.b_px = s.b_px;
        points.push_back(p);
    }
    shot.calibration.points = std::move(points);
    return shot;
}

/// What a camera sees of a world painted by direction (rig axes), seen from the rig's centre. Each pixel is
/// the mean of
/// `side` by `side` places, as a sensor's is.
inline GreyPyramid painted(const Camera& camera, const std::function<float(const Vec3&)>& paint,
                           int side = 4) {
    Grey g;
    g.width = camera.lens.width, g.height = camera.lens.height;
    g.v.assign(std::size_t(g.width) * std::size_t(g.height), 0);
    const LensMap map(camera.lens);
    const Mat3 to_rig = rotation_of(camera.pose.turn);
    for (int y = 0; y < g.height; ++y)
        for (int x = 0; x < g.width; ++x) {
            float sum = 0;
            for (int k = 0; k < side * side; ++k)
                if (const auto d =
                        map.unproject(Vec2(x + (k % side + 0.5) / side, y + (k / side + 0.5) / side)))
                    sum += paint(to_rig * *d) / float(side * side);
            g.v[std::size_t(y) * std::size_t(g.width) + std::size_t(x)] = sum;
        }
    return GreyPyramid(std::move(g));
}

/// A room with straight walls, floor and ceiling, tiled in large panels of different greys.
inline float panelled_room(const Vec3& d) {
    const double across[3] = {2.2, 1.7, 2.6};
    double t = 1e9;
    int wall = 0;
    for (int axis = 0; axis < 3; ++axis)
        if (const double to = across[axis] / std::max(1e-9, std::abs(d[axis])); to < t)
            t = to, wall = 2 * axis + (d[axis] > 0);
    const Vec3 p = t * d;
    const double u = wall / 2 == 0 ? p.z() : p.x(), v = wall / 2 == 1 ? p.z() : p.y();
    const int panel = int(std::floor(u / 0.9)) * 7 + int(std::floor(v / 1.1)) * 13 + wall * 31;
    return 0.15f + 0.7f * float((panel * 2654435761u >> 8) % 997) / 997;
}

} // namespace porb::test
