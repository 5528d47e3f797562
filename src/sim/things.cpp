#include "sim/things.h"

#include "sim/materials.h"
#include "sim/patterns.h"

#include <Eigen/Geometry>

namespace porb::sim {

namespace {

using Profile = std::vector<std::pair<float, float>>;

/// Crates on the floor, pillars and lamps that hang, at every height.
void add_clutter(Standing& out, unsigned seed) {
    const int salt =
        100 * (int(seed % 10000) - 1); // the first seed's is the hall that tests and figures know
    const int things = seed == 1 ? 22 : 14 + int(14 * hash01(0, 70 + salt));
    for (int i = 0; i < things; ++i) {
        const float angle = kTurn * (float(i) + 0.35f * hash01(i, 71 + salt)) / float(things);
        const float far = 0.75f + 1.2f * hash01(i, 72 + salt), size = 0.10f + 0.16f * hash01(i, 73 + salt);
        const Vec3f c = at_angle(far, angle, 0);
        switch (i % 4) {
        case 0: // a pile of crates
            for (int k = 0; k < 3; ++k) {
                const float s = size * (1.1f - 0.2f * float(k)), y = kFloor - 2 * size * float(k);
                out.meshes.push_back(box({c.x() - s, y - 2 * size, c.z() - s}, {c.x() + s, y, c.z() + s},
                                         k % 2 ? book : wood));
            }
            break;
        case 1: // a slim pillar from floor to dome
            out.meshes.push_back(
                turned(Profile{{0.07f, kFloor}, {0.05f, kSpring - 1.0f}}, c.x(), c.z(), 24, column_stone));
            break;
        case 2: { // a lamp on a chain
            const float y = -0.5f - 0.9f * hash01(i, 74 + salt);
            const Profile lamp = {{0.005f, kSpring}, {0.005f, y - 0.16f}, {0.09f, y - 0.12f},
                                  {0.11f, y},        {0.03f, y + 0.10f},  {0.0f, y + 0.12f}};
            out.meshes.push_back(turned(lamp, c.x(), c.z(), 24, brass));
            break;
        }
        default: { // a lectern with an open book
            const float y = 0.35f * hash01(i, 75 + salt);
            out.meshes.push_back(
                box({c.x() - 0.03f, y, c.z() - 0.03f}, {c.x() + 0.03f, kFloor, c.z() + 0.03f}, wood));
            out.meshes.push_back(box({c.x() - size, y - 0.05f, c.z() - size}, {c.x() + size, y, c.z() + size},
                                     i % 8 == 3 ? rug : book));
        }
        }
    }
}

/// A seed's own numbers in [0, 1).
struct Dice {
    unsigned seed;
    float operator()(int thing, int what) const { return hash01(thing, 170 + what, int(seed % 100000)); }
    float between(float low, float high, int thing, int what) const {
        return low + (high - low) * (*this)(thing, what);
    }
};

/// Upright bars of 12 mm every 70 mm between two rails.
void add_railing(Standing& out, const Vec3f& middle, const Vec3f& along) {
    constexpr int kBars = 12;
    constexpr float kStep = 0.07f, kBar = 0.006f;
    const float top = middle.y() - 0.45f, foot = middle.y() + 0.45f;
    const auto at = [&](float step, float y) -> Vec3f {
        const Vec3f p = middle + along * (step - 0.5f * float(kBars - 1)) * kStep;
        return {p.x(), y, p.z()};
    };
    for (int i = 0; i < kBars; ++i)
        out.sticks.push_back({at(float(i), top), at(float(i), foot), kBar, kBar, iron});
    for (const float y : {top, foot})
        out.sticks.push_back({at(0, y), at(kBars - 1, y), 2 * kBar, 2 * kBar, wood});
}

/// A stem with leaves of 30 to 80 mm that point everywhere.
void add_plant(Standing& out, const Vec3f& foot, float height, const Dice& dice, int thing) {
    const Vec3f top = foot - Vec3f(0, height, 0);
    out.sticks.push_back({foot, top, 0.010f, 0.004f, wood});
    Mesh leaves;
    leaves.material = leaf;
    constexpr int kLeaves = 260;
    for (int i = 0; i < kLeaves; ++i) {
        const auto roll = [&](int what) { return dice(1000 * (thing + 1) + i, what); };
        const float turn = kTurn * roll(20), lift = roll(21) - 0.6f;
        const Vec3f out_by = Vec3f(std::sin(turn), lift, std::cos(turn)).normalized();
        const Vec3f start =
            foot + (top - foot) * (0.35f + 0.65f * roll(22)) + out_by * (0.02f + 0.20f * roll(23));
        const float length = 0.03f + 0.05f * roll(24);
        const Vec3f across =
            out_by.cross(Vec3f(roll(25) - 0.5f, 1, roll(26) - 0.5f)).normalized() * 0.22f * length;
        const Vec3f normal = out_by.cross(across).normalized();
        const auto first = unsigned(leaves.points.size());
        for (const Vec3f& p :
             {start, Vec3f(start + 0.5f * length * out_by + across), Vec3f(start + length * out_by),
              Vec3f(start + 0.5f * length * out_by - across)}) {
            leaves.points.push_back(p);
            leaves.normals.push_back(normal);
        }
        leaves.triangles.push_back({first, first + 1, first + 2});
        leaves.triangles.push_back({first, first + 2, first + 3});
    }
    out.meshes.push_back(std::move(leaves));
}

void add_thin(Standing& out, unsigned seed) {
    const Dice dice{seed};
    constexpr int kThings = 16;
    for (int i = 0; i < kThings; ++i) {
        const float angle = kTurn * (float(i) + 0.5f * dice(i, 0)) / kThings;
        const float far = dice.between(0.6f, 2.0f, i, 1);
        const Vec3f along(std::cos(angle), 0, -std::sin(angle));
        switch (i % 4) {
        case 0: // a rod from floor to dome, 8 to 30 mm
            out.sticks.push_back({at_angle(far, angle, kFloor), at_angle(far, angle, kSpring),
                                  dice.between(0.004f, 0.015f, i, 2), dice.between(0.004f, 0.015f, i, 3),
                                  i % 8 ? brass : iron});
            break;
        case 1:
            add_railing(out, at_angle(far, angle, dice.between(0.0f, 0.9f, i, 2)), along);
            break;
        case 2: // three wires that cross, 4 to 8 mm
            for (int k = 0; k < 3; ++k) {
                const float side = dice.between(-0.8f, 0.8f, i, 3 * k + 2);
                const float width = dice.between(0.002f, 0.004f, i, 3 * k + 3);
                const Vec3f a = at_angle(far, angle, -1.6f) + along * side,
                            b = at_angle(far, angle, 1.2f) - along * dice.between(-0.8f, 0.8f, i, 3 * k + 4);
                out.sticks.push_back({a, b, width, width, iron});
            }
            break;
        default:
            add_plant(out, at_angle(far, angle, kFloor), dice.between(1.3f, 2.3f, i, 2), dice, i);
        }
    }
}

void add_glass(Standing& out, unsigned seed) {
    const Dice dice{seed};
    constexpr int kPanes = 6;
    constexpr float kFrame = 0.014f;
    for (int i = 0; i < kPanes; ++i) {
        const float angle = kTurn * (float(i) + 0.6f * dice(i, 0)) / kPanes;
        const float far = dice.between(0.9f, 1.6f, i, 1), width = dice.between(0.5f, 0.9f, i, 2);
        const float turn = angle + dice.between(-0.5f, 0.5f, i, 3);
        const Vec3f u = width * Vec3f(std::cos(turn), 0, -std::sin(turn));
        const Vec3f v(0, dice.between(1.0f, 1.7f, i, 4), 0);
        const Vec3f corner = at_angle(far, angle, dice.between(-1.2f, -0.5f, i, 5)) - 0.5f * u;
        out.panes.push_back({corner, u, v});
        const Vec3f corners[4] = {corner, corner + u, corner + u + v, corner + v};
        for (int k = 0; k < 4; ++k)
            out.sticks.push_back({corners[k], corners[(k + 1) % 4], kFrame, kFrame, wood});
        for (int k = 2; k < 4; ++k) // its legs
            out.sticks.push_back(
                {corners[k], Vec3f(corners[k].x(), kFloor, corners[k].z()), kFrame, kFrame, wood});
    }
}

void add_plain(Standing& out, unsigned seed) {
    const Dice dice{seed};
    constexpr int kThings = 11;
    for (int i = 0; i < kThings; ++i) {
        const float angle = kTurn * (float(i) + 0.6f * dice(i, 0)) / kThings;
        const float far = dice.between(0.8f, 1.8f, i, 1), top = dice.between(-1.1f, 0.6f, i, 2);
        const Material paint = dice(i, 3) < 0.7f ? plaster : felt;
        if (i % 3 == 2) {
            const float radius = dice.between(0.05f, 0.13f, i, 4);
            const Vec3f c = at_angle(far, angle, 0);
            out.meshes.push_back(
                turned(Profile{{radius, kFloor}, {radius, top}, {0, top}}, c.x(), c.z(), 48, paint));
            continue;
        }
        const float width = dice.between(0.4f, 0.8f, i, 4), turn = angle + dice.between(-0.6f, 0.6f, i, 5);
        const Vec3f u = width * Vec3f(std::cos(turn), 0, -std::sin(turn));
        out.meshes.push_back(quad(at_angle(far, angle, top) - 0.5f * u, u, Vec3f(0, kFloor - top, 0), paint));
    }
}

} // namespace

const std::map<std::string, Things>& things_by_scene() {
    static const std::map<std::string, Things> scenes = {{"hall", Things::none},
                                                         {"hall-cluttered", Things::clutter},
                                                         {"hall-thin", Things::thin},
                                                         {"hall-glass", Things::glass},
                                                         {"hall-plain", Things::plain}};
    return scenes;
}

Standing standing_things(Things things, unsigned seed) {
    Standing out;
    switch (things) {
    case Things::none:
        break;
    case Things::clutter:
        add_clutter(out, seed);
        break;
    case Things::thin:
        add_thin(out, seed);
        break;
    case Things::glass:
        add_glass(out, seed);
        break;
    case Things::plain:
        add_plain(out, seed);
        break;
    }
    return out;
}

} // namespace porb::sim
