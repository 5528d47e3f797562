#include "sim/hall.h"

#include "base/angle.h"
#include "sim/materials.h"
#include "sim/patterns.h"

#include <Eigen/Geometry>
#include <array>

namespace porb::sim {

namespace {

constexpr int kBays = 12;

// Windows are as wide as 0.30 of a bay, from the sill to an arch.
constexpr float kSill = 0.35f, kArch = -2.35f, kHalfWindow = 0.15f;

const Vec3f kSun = Vec3f(0.62f, -0.55f, 0.56f).normalized(); // towards it
const Vec3f kSunLight(3.2f, 2.75f, 2.1f), kLampLight(9.0f, 7.4f, 5.2f), kLamp(0.0f, -5.6f, 0.0f);

struct Orbit {
    float radius, height, ball, degrees_per_second, start_deg;
    Vec3f colour, second;
};
const std::array<Orbit, 7> kOrbits = {{
    {1.05f, -0.15f, 0.085f, 31, 62, {0.75f, 0.52f, 0.36f}, {0.45f, 0.30f, 0.22f}},
    {1.50f, 0.10f, 0.130f, -22, 108, {0.90f, 0.78f, 0.52f}, {0.72f, 0.50f, 0.28f}},
    {2.00f, -0.30f, 0.150f, 17, -104, {0.25f, 0.45f, 0.72f}, {0.30f, 0.52f, 0.28f}},
    {2.45f, 0.25f, 0.110f, -13, 20, {0.78f, 0.30f, 0.20f}, {0.55f, 0.22f, 0.16f}},
    {3.05f, -0.55f, 0.300f, 11, -62, {0.80f, 0.66f, 0.50f}, {0.60f, 0.42f, 0.30f}},
    {3.60f, 0.05f, 0.250f, -8, 172, {0.82f, 0.74f, 0.55f}, {0.66f, 0.60f, 0.46f}},
    {4.20f, -0.45f, 0.200f, 7, 98, {0.50f, 0.70f, 0.74f}, {0.38f, 0.56f, 0.66f}},
}};

/// -0.5 .. 0.5 across each bay, 0 in the middle of its window; and the bay's number.
float across_bay(const Vec3f& p, int& bay) {
    const float a = std::atan2(p.x(), p.z()) / kTurn * kBays;
    const float centre = std::round(a);
    bay = int(centre);
    return a - centre;
}

/// Panes and bars: -1 on a bar or outside the opening, else 0 at its foot to 1 at its arch.
float window_height(const Vec3f& p) {
    int bay;
    const float across = across_bay(p, bay);
    const float top =
        kArch - 0.45f * std::sqrt(std::max(0.0f, 1 - (across / kHalfWindow) * (across / kHalfWindow)));
    if (std::abs(across) > kHalfWindow || p.y() > kSill || p.y() < top) return -1;
    const float bars = std::max(line(across, kHalfWindow / 1.5f, 0.008f), line(p.y() - kSill, 0.55f, 0.022f));
    if (bars > 0.5f) return -1;
    return (kSill - p.y()) / (kSill - kArch + 0.45f);
}

Vec3f outside(float height, const Vec3f& p) {
    const float angle = std::atan2(p.x(), p.z());
    const float hills = 0.30f + 0.05f * std::sin(angle * 7) + 0.03f * std::sin(angle * 19 + 1) +
                        0.05f * noise(Vec3f(angle * 9, 0, 0));
    if (height < hills) return mix(Vec3f(0.20f, 0.30f, 0.16f), Vec3f(0.42f, 0.50f, 0.40f), height / hills);
    const float cloud = smooth(0.50f, 0.72f, clouds(Vec3f(angle * 4, height * 3, 2)));
    return mix(mix(Vec3f(1.05f, 1.15f, 1.25f), Vec3f(0.55f, 0.80f, 1.25f), height), Vec3f(1.5f, 1.5f, 1.45f),
               cloud);
}

/// Colour of the paint (albedo) and light that the surface sends by itself.
struct Look {
    Vec3f colour, glow{0, 0, 0};
    float shine = 0;
};

Look floor_look(const Vec3f& p) {
    const float r = std::hypot(p.x(), p.z()), angle = std::atan2(p.x(), p.z()) / kTurn + 0.5f;
    const int ring = int(r / 0.5f);
    const int tiles = std::max(8, int(std::round(kTurn * (float(ring) + 0.5f) * 0.5f / 0.5f)) / 2 * 2);
    const float along = angle * float(tiles) + (ring % 2 ? 0.5f : 0.0f);
    const int tile = int(std::floor(along));
    const float from_joint_r = std::abs(r / 0.5f - std::round(r / 0.5f)) * 0.5f;
    const float from_joint_a = std::abs(along - std::round(along)) / float(tiles) * kTurn * r;
    const float joint = 1 - smooth(0.004f, 0.012f, std::min(from_joint_r, from_joint_a));
    Vec3f colour = (tile + ring) % 2 ? Vec3f(0.58f, 0.53f, 0.46f) : Vec3f(0.30f, 0.29f, 0.30f);
    colour *= 0.8f + 0.4f * hash01(ring, tile % tiles, 7);
    colour *= 0.86f + 0.28f * clouds(p * 6.0f);
    const float star = std::cos(8 * angle * kTurn); // an eight-pointed inlay about the stand
    if (r < 1.05f && r > 0.30f && star > (r - 0.30f) / 0.75f * 1.9f - 0.95f)
        colour = Vec3f(0.62f, 0.36f, 0.22f) * (0.85f + 0.3f * clouds(p * 9.0f));
    if (std::abs(r - 1.05f) < 0.03f || std::abs(r - 4.75f) < 0.05f) colour = Vec3f(0.66f, 0.50f, 0.22f);
    return {mix(colour, Vec3f(0.12f, 0.11f, 0.10f), joint), {0, 0, 0}, 0.12f};
}

Look wall_look(const Vec3f& p) {
    if (const float h = window_height(p); h >= 0) return {Vec3f(0, 0, 0), outside(h, p)};
    int bay;
    const float across = across_bay(p, bay);
    const bool frame =
        std::abs(across) < kHalfWindow + 0.025f && p.y() < kSill + 0.08f && p.y() > kArch - 0.56f;
    if (frame)
        return {Vec3f(0.24f, 0.17f, 0.11f) * (0.8f + 0.4f * noise(Vec3f(p.x() * 40, p.y() * 4, p.z() * 40)))};
    if (p.y() > kSill + 0.12f) { // panelling
        const float panel = std::max(line(across, 0.2f, 0.006f), line(p.y() - kFloor, 0.55f, 0.016f));
        const float grain = 0.75f + 0.5f * noise(Vec3f(p.x() * 30, p.y() * 2.5f, p.z() * 30));
        return {mix(Vec3f(0.33f, 0.20f, 0.11f) * grain, Vec3f(0.12f, 0.07f, 0.04f), panel), {0, 0, 0}, 0.05f};
    }
    if (p.y() < kSpring + 0.45f) { // painted frieze
        const float wave = std::sin(across * kTurn * 4) * 0.09f;
        const float band = std::abs(p.y() - (kSpring + 0.22f) - wave);
        return {band < 0.05f ? Vec3f(0.70f, 0.52f, 0.22f)
                             : Vec3f(0.16f, 0.24f, 0.34f) * (0.9f + 0.2f * noise(p * 12.0f))};
    }
    return {Vec3f(0.66f, 0.60f, 0.50f) * (0.82f + 0.30f * clouds(p * 2.2f)) *
            (0.95f + 0.1f * noise(p * 25.0f))};
}

Look dome_look(const Vec3f& p) {
    const Vec3f from_centre = (p - Vec3f(0, kSpring, 0)).normalized();
    const float height = std::asin(std::clamp(-from_centre.y(), 0.0f, 1.0f)) / float(kPi / 2);
    const float angle = std::atan2(p.x(), p.z()) / kTurn;
    if (height > 0.90f) { // the oculus
        const float edge = smooth(0.90f, 0.905f, height);
        return {Vec3f(0.3f, 0.25f, 0.2f), Vec3f(1.25f, 1.4f, 1.7f) * edge};
    }
    const float rib = std::max(line(angle, 1.0f / 24, 0.0022f), line(height, 0.225f, 0.008f));
    if (rib > 0.5f) return {Vec3f(0.60f, 0.46f, 0.22f), {0, 0, 0}, 0.2f};
    Vec3f colour = mix(Vec3f(0.10f, 0.16f, 0.33f), Vec3f(0.04f, 0.06f, 0.17f), height) *
                   (0.85f + 0.3f * clouds(p * 3.0f));
    // Gilded stars: one somewhere inside some cells of a grid over the dome, with fewer cells in the smaller
    // rings.
    const float gh = height * 26;
    const int ch = int(std::floor(gh));
    const float cells = std::floor(120 * std::cos((float(ch) + 0.5f) / 26 * float(kPi / 2))) + 8;
    const float ga = (angle + 0.5f) * cells;
    const int ca = int(std::floor(ga));
    const float chance = hash01(ca, ch, 3);
    if (chance > 0.62f) {
        const float dx = ga - float(ca) - mix(0.3f, 0.7f, hash01(ca, ch, 4)),
                    dy = gh - float(ch) - mix(0.3f, 0.7f, hash01(ca, ch, 6));
        const float size = 0.06f + 0.40f * (chance - 0.62f);
        const float d = std::hypot(dx, dy) * (1 + 0.35f * std::cos(5 * std::atan2(dy, dx)));
        colour = mix(Vec3f(0.95f, 0.80f, 0.42f), colour, smooth(size * 0.8f, size * 1.2f, d));
    }
    return {colour};
}

Look planet_look(std::size_t index, const Vec3f& local, double seconds) {
    const Orbit& o = kOrbits[index];
    const float spin = float(seconds) * 0.8f + float(index);
    const Vec3f turned(local.x() * std::cos(spin) - local.z() * std::sin(spin), local.y(),
                       local.x() * std::sin(spin) + local.z() * std::cos(spin));
    const Vec3f p = turned / o.ball;
    const float bands = 0.5f + 0.5f * std::sin(p.y() * 9 + 2.5f * clouds(p * 1.7f));
    return {
        mix(o.colour, o.second, mix(bands, smooth(0.42f, 0.58f, clouds(p * 2.3f)), index % 2 ? 0.8f : 0.25f)),
        {0, 0, 0},
        0.10f};
}

Look look_of(const Hit& h, double seconds) {
    switch (h.material) {
    case floor_stone:
        return floor_look(h.point);
    case wall:
        return wall_look(h.point);
    case dome:
        return dome_look(h.point);
    case column_stone: {
        const float flute = std::sin(std::atan2(h.normal.x(), h.normal.z()) * 24);
        return {Vec3f(0.70f, 0.66f, 0.58f) * (0.82f + 0.25f * clouds(h.point * 5.0f)) *
                (0.94f + 0.06f * flute)};
    }
    case brass:
        return {Vec3f(0.72f, 0.50f, 0.20f) * (0.9f + 0.2f * noise(h.point * 30.0f)), {0, 0, 0}, 0.65f};
    case wood:
        return {Vec3f(0.36f, 0.22f, 0.12f) *
                    (0.7f + 0.6f * noise(Vec3f(h.point.x() * 6, h.point.y() * 40, h.point.z() * 40))),
                {0, 0, 0},
                0.08f};
    case cloth: {
        const float fold = 0.8f + 0.25f * std::sin(h.local.x() * 60) * std::sin(h.local.z() * 55);
        return {Vec3f(0.16f, 0.22f, 0.42f) * fold};
    }
    case skin:
        return {Vec3f(0.72f, 0.50f, 0.38f)};
    case leather:
        return {Vec3f(0.16f, 0.10f, 0.07f), {0, 0, 0}, 0.15f};
    case iron:
        return {Vec3f(0.10f, 0.10f, 0.11f), {0, 0, 0}, 0.25f};
    case globe: {
        const Vec3f p = h.local * 5.0f;
        const bool land = clouds(p * 1.3f) > 0.52f;
        const float grid =
            std::max(line(std::atan2(p.x(), p.z()), 0.2618f, 0.010f), line(p.y(), 0.35f, 0.012f));
        return {mix(land ? Vec3f(0.62f, 0.50f, 0.28f) : Vec3f(0.24f, 0.42f, 0.48f), Vec3f(0.2f, 0.14f, 0.1f),
                    grid),
                {0, 0, 0},
                0.15f};
    }
    case book: {
        const int n = int(std::floor(h.point.z() * 22 + h.point.x() * 22));
        return {Vec3f(0.25f + 0.5f * hash01(n, 1), 0.15f + 0.3f * hash01(n, 2), 0.10f + 0.3f * hash01(n, 3))};
    }
    case rug: {
        const float grid = std::max(line(h.point.x(), 0.24f, 0.03f), line(h.point.z(), 0.24f, 0.03f));
        return {mix(Vec3f(0.46f, 0.12f, 0.10f), Vec3f(0.72f, 0.60f, 0.36f), grid) *
                (0.85f + 0.3f * noise(h.point * 60.0f))};
    }
    case leaf:
        return {mix(Vec3f(0.10f, 0.26f, 0.07f), Vec3f(0.34f, 0.46f, 0.14f), noise(h.point * 14.0f)),
                {0, 0, 0},
                0.10f};
    case plaster:
        return {Vec3f(0.62f, 0.60f, 0.56f)};
    case felt:
        return {Vec3f(0.11f, 0.15f, 0.13f)};
    default:
        break;
    }
    return planet_look(std::size_t(h.material - planet), h.local, seconds);
}

/// What polished things mirror: the hall's large shapes as a function of direction alone.
Vec3f mirrored(const Vec3f& d) {
    if (d.y() > 0) return Vec3f(0.20f, 0.17f, 0.14f);
    int bay;
    const float across = across_bay(d, bay);
    const float up = -d.y();
    if (up < 0.40f && std::abs(across) < kHalfWindow) return Vec3f(1.1f, 1.2f, 1.35f);
    return up > 0.93f ? Vec3f(1.2f, 1.3f, 1.5f)
                      : mix(Vec3f(0.34f, 0.28f, 0.22f), Vec3f(0.06f, 0.07f, 0.13f), smooth(0.35f, 0.6f, up));
}

void add_columns(Tracer& tracer) {
    const std::vector<std::pair<float, float>> profile = {
        {0.40f, kFloor},           {0.40f, kFloor - 0.14f},  {0.34f, kFloor - 0.16f},
        {0.34f, kFloor - 0.24f},   {0.27f, kFloor - 0.30f},  {0.25f, -1.0f},
        {0.235f, kSpring + 0.62f}, {0.30f, kSpring + 0.55f}, {0.36f, kSpring + 0.40f},
        {0.36f, kSpring + 0.30f}};
    for (int i = 0; i < kBays; ++i) {
        const Vec3f c = at_angle(6.25f, kTurn * (float(i) + 0.5f) / kBays, 0);
        tracer.add(turned(profile, c.x(), c.z(), 40, column_stone));
    }
}

void add_shell(Tracer& tracer) {
    std::vector<std::pair<float, float>> wall_profile, dome_profile;
    for (int i = 0; i <= 4; ++i)
        wall_profile.push_back({kRadius, kFloor + (kSpring - kFloor) * float(i) / 4});
    for (int i = 0; i <= 40; ++i) {
        const float a = float(kPi / 2) * float(i) / 40;
        dome_profile.push_back({kRadius * std::cos(a), kSpring - 0.62f * kRadius * std::sin(a)});
    }
    tracer.add(turned(wall_profile, 0, 0, 360, wall));
    tracer.add(turned(dome_profile, 0, 0, 180, dome));
    tracer.add(quad({-8, kFloor, -8}, {16, 0, 0}, {0, 0, 16}, floor_stone));
}

void add_furniture(Tracer& tracer) {
    // A table with a globe's stand and books, left in front; shelves behind right; benches along the wall; a
    // rug.
    tracer.add(box({-2.3f, 0.78f, 1.15f}, {-1.35f, 0.84f, 2.05f}, wood));
    for (const float x : {-2.25f, -1.45f})
        for (const float z : {1.20f, 1.95f})
            tracer.add(box({x, 0.84f, z}, {x + 0.06f, kFloor, z + 0.06f}, wood));
    tracer.add(box({-2.15f, 0.70f, 1.25f}, {-1.90f, 0.78f, 1.60f}, book));
    tracer.add(box({-2.10f, 0.64f, 1.27f}, {-1.92f, 0.70f, 1.55f}, book));
    const std::vector<std::pair<float, float>> foot = {
        {0.11f, 0.78f}, {0.11f, 0.76f}, {0.03f, 0.73f}, {0.02f, 0.62f}};
    tracer.add(turned(foot, -1.62f, 1.72f, 32, brass));
    for (int shelf = 0; shelf < 4; ++shelf) {
        const float y = kFloor - 0.1f - 0.5f * float(shelf);
        tracer.add(box({2.6f, y, -3.6f}, {4.1f, y + 0.05f, -3.2f}, wood));
        tracer.add(box({2.65f, y - 0.32f, -3.5f}, {4.05f - 0.2f * float(shelf), y, -3.25f}, book));
    }
    tracer.add(box({2.55f, -0.5f, -3.62f}, {2.6f, kFloor, -3.18f}, wood));
    tracer.add(box({4.1f, -0.5f, -3.62f}, {4.15f, kFloor, -3.18f}, wood));
    tracer.add(box({-4.4f, 1.12f, -2.2f}, {-4.0f, 1.18f, 0.4f}, wood));
    for (const float z : {-2.1f, 0.24f})
        tracer.add(box({-4.36f, 1.18f, z}, {-4.04f, kFloor, z + 0.06f}, wood));
    tracer.add(quad({0.9f, kFloor - 0.006f, 1.6f}, {2.16f, 0, 0}, {0, 0, 1.44f}, rug));
}

/// The tripod under the rig: it stays put, but is made of sticks like what moves.
void add_stand(std::vector<Stick>& sticks, const Vec3f& at) {
    const Vec3f hub = at + Vec3f(0, 0.62f, 0);
    sticks.push_back({at + Vec3f(0, 0.16f, 0), hub, 0.018f, 0.022f, iron});
    for (int leg = 0; leg < 3; ++leg)
        sticks.push_back(
            {hub, at + at_angle(0.42f, kTurn * (float(leg) / 3 + 0.08f), kFloor), 0.018f, 0.012f, iron});
}

void add_keeper(double seconds, std::vector<Ball>& balls, std::vector<Stick>& sticks) {
    // Walks along a straight line past the right-hand side, 2.3 m off, at 0.9 m/s.
    const float z = -1.9f + 0.9f * float(seconds), x = 2.3f;
    const float phase = float(seconds) * 5.2f, swing = 0.26f * std::sin(phase);
    const float bob = 0.02f * std::abs(std::cos(phase));
    const Vec3f hip(x, 0.72f - bob, z), neck(x, 0.10f - bob, z + 0.03f);
    sticks.push_back({hip, neck, 0.17f, 0.13f, cloth});
    sticks.push_back({hip + Vec3f(0, 0.02f, 0), hip + Vec3f(0, 0.38f, 0), 0.18f, 0.22f, cloth});
    for (const float side : {-1.0f, 1.0f}) {
        const Vec3f foot(x + 0.09f * side, kFloor - 0.05f, z + swing * side);
        const Vec3f knee(x + 0.09f * side, 1.14f, z + 0.55f * swing * side + 0.05f);
        sticks.push_back({hip + Vec3f(0.09f * side, 0.2f, 0), knee, 0.085f, 0.065f, leather});
        sticks.push_back({knee, foot, 0.065f, 0.05f, leather});
        sticks.push_back({foot, foot + Vec3f(0, 0, 0.16f), 0.05f, 0.04f, leather});
        const Vec3f shoulder = neck + Vec3f(0.19f * side, 0.08f, 0);
        const Vec3f elbow = shoulder + Vec3f(0.05f * side, 0.29f, -0.5f * swing * side);
        sticks.push_back({shoulder, elbow, 0.065f, 0.055f, cloth});
        sticks.push_back(
            {elbow, elbow + Vec3f(-0.02f * side, 0.22f, -0.5f * swing * side + 0.1f), 0.05f, 0.04f, cloth});
        balls.push_back({elbow + Vec3f(-0.02f * side, 0.26f, -0.5f * swing * side + 0.12f), 0.05f, skin});
    }
    const Vec3f head = neck + Vec3f(0, -0.19f, 0.02f);
    balls.push_back({head, 0.115f, skin});
    sticks.push_back({neck, head, 0.06f, 0.06f, skin});
    sticks.push_back(
        {head + Vec3f(0, -0.08f, -0.01f), head + Vec3f(0, -0.19f, -0.01f), 0.115f, 0.09f, leather});
    sticks.push_back(
        {head + Vec3f(-0.10f, -0.075f, 0), head + Vec3f(0.10f, -0.075f, 0), 0.075f, 0.075f, leather});
}

void add_orrery(double seconds, std::vector<Ball>& balls, std::vector<Stick>& sticks) {
    const float hub_y = -1.35f;
    sticks.push_back({{0, kSpring - 4.2f, 0}, {0, hub_y, 0}, 0.05f, 0.05f, brass});
    balls.push_back({{0, hub_y - 0.15f, 0}, 0.24f, brass});
    for (std::size_t i = 0; i < kOrbits.size(); ++i) {
        const Orbit& o = kOrbits[i];
        const float angle = float(radians(o.start_deg + o.degrees_per_second * seconds));
        const float arm_y = hub_y - 0.10f * float(i);
        const Vec3f end = at_angle(o.radius, angle, arm_y);
        sticks.push_back({{0, arm_y, 0}, end, 0.016f, 0.012f, brass});
        sticks.push_back({end, at_angle(o.radius, angle, o.height - o.ball), 0.010f, 0.010f, brass});
        balls.push_back({end, 0.030f, brass});
        balls.push_back({at_angle(o.radius, angle, o.height), o.ball, int(planet) + int(i)});
        balls.push_back({at_angle(0.45f, angle + float(kPi), arm_y), 0.045f, brass});
        sticks.push_back({{0, arm_y, 0}, at_angle(0.45f, angle + float(kPi), arm_y), 0.014f, 0.014f, brass});
    }
}

} // namespace

Hall::Hall(Things things, unsigned seed) : standing_(standing_things(things, seed)) {
    add_shell(tracer_);
    add_columns(tracer_);
    add_furniture(tracer_);
    for (const Mesh& mesh : standing_.meshes) tracer_.add(mesh);
    standing_.meshes.clear();
    set_time(0);
}

void Hall::set_time(double seconds) {
    seconds_ = seconds;
    std::vector<Ball> balls;
    std::vector<Stick> sticks = standing_.sticks;
    balls.push_back({{-1.62f, 0.42f, 1.72f}, 0.20f, globe});
    if (stand_) add_stand(sticks, *stand_);
    add_keeper(seconds, balls, sticks);
    add_orrery(seconds, balls, sticks);
    tracer_.set_moving(std::move(balls), std::move(sticks));
}

namespace {

/// The nearest pane within `distance` along a ray, which becomes the distance to it.
const Pane* first_pane(std::span<const Pane> panes, const Vec3f& origin, const Vec3f& direction,
                       float& distance) {
    constexpr float kBesides = 1e-3f; // what a ray starts from is not met again
    const Pane* first = nullptr;
    for (const Pane& p : panes) {
        const Vec3f normal = p.u.cross(p.v);
        const float facing = normal.dot(direction);
        if (std::abs(facing) < 1e-9f) continue;
        const float t = normal.dot(p.corner - origin) / facing;
        if (t < kBesides || t >= distance) continue;
        const Vec3f at = origin + t * direction - p.corner;
        const float along = at.dot(p.u) / p.u.squaredNorm(), down = at.dot(p.v) / p.v.squaredNorm();
        if (along < 0 || along > 1 || down < 0 || down > 1) continue;
        first = &p;
        distance = t;
    }
    return first;
}

/// Of light that falls straight on a pane, both of its faces together.
constexpr float kMirrored = 0.12f;
/// How many panes are looked through one behind the other.
constexpr int kPanesDeep = 3;

} // namespace

Vec3f Hall::light(const Vec3f& origin, const Vec3f& direction) const {
    return light_through(origin, direction, kPanesDeep);
}

Vec3f Hall::light_through(const Vec3f& origin, const Vec3f& direction, int panes) const {
    Hit h;
    const bool met = tracer_.hit(origin, direction, h);
    float distance = met ? h.distance : std::numeric_limits<float>::infinity();
    const Pane* pane = panes > 0 ? first_pane(standing_.panes, origin, direction, distance) : nullptr;
    if (!pane) return met ? shade(h, direction) : Vec3f(0, 0, 0);
    const Vec3f point = origin + distance * direction, normal = pane->u.cross(pane->v).normalized();
    const float facing = normal.dot(direction);
    // Schlick's approximation of Fresnel's equations.
    const float share = kMirrored + (1 - kMirrored) * std::pow(1 - std::abs(facing), 5.0f);
    const Vec3f mirror = direction - 2 * facing * normal;
    return (1 - share) * light_through(point, direction, panes - 1).cwiseProduct(Vec3f(0.93f, 0.97f, 0.95f)) +
           share * light_through(point, mirror, 0);
}

float Hall::depth(const Vec3f& origin, const Vec3f& direction) const {
    Hit h;
    return tracer_.hit(origin, direction, h) ? h.distance : 0;
}

Vec3f Hall::shade(const Hit& h, const Vec3f& direction) const {
    const Look look = look_of(h, seconds_);
    // Soft light from windows and dome: more from the side and above than from below.
    const float up = -h.normal.y();
    Vec3f light = mix(Vec3f(0.20f, 0.18f, 0.155f), Vec3f(0.34f, 0.36f, 0.40f), 0.5f + 0.5f * up);
    const Vec3f inward(-h.point.x(), 0, -h.point.z());
    const float r = inward.norm();
    if (r > 1e-3f) light *= 1 + 0.25f * (r / kRadius) * (-h.normal.dot(inward) / r);
    const Vec3f start = h.point + 2e-3f * h.normal;

    const Vec3f to_lamp = kLamp - h.point;
    const float distance = to_lamp.norm();
    const float facing = h.normal.dot(to_lamp) / distance;
    if (facing > 0 && !tracer_.blocked(start, to_lamp / distance, distance - 0.3f))
        light += kLampLight * facing / (distance * distance + 4);

    // Sun through a window: follow it to the wall's cylinder and see whether it passed a pane there.
    const float sun_facing = h.normal.dot(kSun);
    if (sun_facing > 0 && h.material != wall && h.material != dome) {
        const float a = kSun.x() * kSun.x() + kSun.z() * kSun.z(),
                    b = h.point.x() * kSun.x() + h.point.z() * kSun.z();
        const float c = h.point.x() * h.point.x() + h.point.z() * h.point.z() - kRadius * kRadius;
        const float t = (-b + std::sqrt(std::max(0.0f, b * b - a * c))) / a;
        if (window_height(h.point + t * kSun) >= 0 && !tracer_.blocked(start, kSun, t - 0.05f))
            light += kSunLight * sun_facing;
    }
    Vec3f out = look.colour.cwiseProduct(light) + look.glow;
    if (look.shine > 0) {
        const Vec3f mirror = direction - 2 * direction.dot(h.normal) * h.normal;
        const float edge = std::pow(1 - std::max(0.0f, -direction.dot(h.normal)), 4.0f);
        const Vec3f tint = h.material == brass ? Vec3f(1.25f, 0.90f, 0.42f) : Vec3f(1, 1, 1);
        out += mirrored(mirror).cwiseProduct(tint) *
               (look.shine * (0.35f + 0.65f * edge) * (h.material == floor_stone ? edge : 1));
    }
    return out;
}

} // namespace porb::sim
