#include "solve/pictures/matching.h"

#include "base/angle.h"
#include "solve/made_up.h"
#include "solve/pictures/grey.h"
#include "solve/pictures/rough.h"

using namespace porb;
using namespace porb::test;

namespace {

/// Smooth blotches of all sizes, different everywhere: something to match in every direction.
float blotches(const Vec3& d) {
    static const auto waves = [] {
        std::mt19937 random(17);
        std::uniform_real_distribution<double> flat(-1, 1);
        std::vector<std::pair<Vec3, double>> w;
        for (int i = 0; i < 60; ++i)
            w.emplace_back(Vec3(flat(random), flat(random), flat(random)) * (6.0 + 0.9 * i),
                           3 * flat(random));
        return w;
    }();
    float sum = 0.5f;
    for (const auto& [k, phase] : waves) sum += 0.035f * float(std::sin(k.dot(d) + phase));
    return sum;
}

/// Two cameras side by side before blotches, with what they saw.
struct Two {
    Rig rig;
    std::vector<GreyPyramid> seen;
    std::vector<Eyepiece> eyes;
    explicit Two(double apart_deg, int size = 320) : rig(nominal_rig(2, size, size, 1, 190)) {
        rig.cameras[1].pose.turn = {apart_deg, 5, -8};
        for (std::size_t c = 0; c < 2; ++c) {
            rig.cameras[c].pose.position_m = Vec3(0, 0, 0);
            seen.push_back(painted(rig.cameras[c], blotches, 2));
        }
        for (std::size_t c = 0; c < 2; ++c) eyes.emplace_back(rig, c, &seen[c]);
    }
};

} // namespace

TEST_CASE("a place is found again in the other lens, to a twentieth of a pixel, rim against rim") {
    const Two two(110);
    MatchOptions options;
    options.margin_deg = 2;
    int found = 0, near_rims = 0;
    double squares = 0;
    for (const auto& corner : corners_of(two.eyes[0])) {
        const auto truth = two.eyes[1].sees(corner.direction, 10);
        if (!truth) continue;
        const auto m = match_place(two.eyes[0], two.eyes[1], corner.px, options);
        if (!m) continue;
        ++found;
        near_rims += (corner.px - two.rig.cameras[0].lens.center_px).norm() > 0.75 * 160;
        // Compared with the truth of the place that a's end was settled on.
        squares += (m->b_px - two.eyes[1].place_of(*two.eyes[0].direction(m->a_px))).squaredNorm();
    }
    CHECK(found > 40);
    CHECK(near_rims > 5);
    CHECK(std::sqrt(squares / found) < 0.05);
}

TEST_CASE("exposure and contrast of the two lenses may differ, the scene may not") {
    const Two two(90);
    const Vec2 a = two.eyes[0].place_of(rotation_of({45, 3, 0}) * Vec3(0, 0, 1));
    MatchOptions options;
    const GreyPyramid darker = painted(
        two.rig.cameras[1], [](const Vec3& d) { return 0.15f + 0.3f * blotches(d); }, 2);
    const Eyepiece dark(two.rig, 1, &darker);
    const auto plain = match_place(two.eyes[0], two.eyes[1], a, options),
               other = match_place(two.eyes[0], dark, a, options);
    REQUIRE(plain);
    REQUIRE(other);
    CHECK((plain->b_px - other->b_px).norm() < 0.05);
    const GreyPyramid elsewhere = painted(
        two.rig.cameras[1],
        [](const Vec3& d) {
            return blotches(rotation_of({0, 0, 120}) * d);
        },
        2);
    std::string why;
    CHECK_FALSE(match_place(two.eyes[0], Eyepiece(two.rig, 1, &elsewhere), a, options, &why));
    CHECK_FALSE(why.empty());
}

TEST_CASE("a thing's arc in the other lens holds its place at every distance") {
    Two two(90);
    two.rig.cameras[1].pose.position_m = Vec3(0.2, 0, 0);
    const Eyepiece a(two.rig, 0, &two.seen[0]), b(two.rig, 1, &two.seen[1]);
    const Vec3 d = rotation_of({40, -8, 0}) * Vec3(0, 0, 1);
    const auto arc = epipolar_arc(a, b, a.place_of(d), 0.5);
    REQUIRE(arc.size() > 3);
    for (const double metres : {0.6, 1.0, 3.0, 50.0}) {
        const Vec2 there = b.place_of(metres * d - b.position);
        double nearest = 1e9; // from the polyline
        for (std::size_t i = 1; i < arc.size(); ++i) {
            const Vec2 along = arc[i] - arc[i - 1];
            const double t = std::clamp((there - arc[i - 1]).dot(along) / along.squaredNorm(), 0.0, 1.0);
            nearest = std::min(nearest, (there - arc[i - 1] - t * along).norm());
        }
        CHECK(nearest < 0.2);
    }
}

TEST_CASE("how cameras are turned is told from landmarks, any turn at all") {
    const Two two(75);
    std::vector<Landmarks> marks;
    for (std::size_t c = 0; c < 2; ++c) marks.push_back(landmarks_of(two.rig.cameras[c].lens, two.seen[c]));
    REQUIRE(marks[0].size() > 100);
    const Mat3 truth =
        rotation_of(two.rig.cameras[0].pose.turn).transpose() * rotation_of(two.rig.cameras[1].pose.turn);
    const auto off = [&](const RoughTurn& t) {
        return degrees(rotation_vector(t.b_to_a.transpose() * truth).norm());
    };
    const RoughTurn found = rough_turn(marks[0], marks[1], nullptr);
    CHECK(found.sure);
    CHECK(off(found) < 1);
    const Mat3 wrong = rotation_of({75, 5, 82}); // the rig's word may be wrong by a quarter turn
    const RoughTurn told = rough_turn(marks[0], marks[1], &wrong);
    CHECK(off(told) < 1);

    Rig rig = two.rig;
    rig.cameras[1].pose.turn.roll_deg += 90;
    std::vector<Mat3> nominal;
    for (const auto& c : rig.cameras) nominal.push_back(rotation_of(c.pose.turn));
    const RoughRig rough = rough_rig(marks, nominal, Cancel());
    CHECK(rough.placed == std::vector<bool>{true, true});
    const auto trouble = trouble_in(rough, rig, {0, 0}, 12);
    REQUIRE(trouble);
    CHECK(trouble->what.find("turned") != std::string::npos);
    CHECK_FALSE(trouble_in(rough, rig, {0, 0}, 181)); // from far anything goes

    const GreyPyramid other = painted(
        two.rig.cameras[1], [](const Vec3& d) { return blotches(-d.cwiseAbs()); }, 2);
    const RoughTurn none = rough_turn(marks[0], landmarks_of(two.rig.cameras[1].lens, other), nullptr);
    CHECK_FALSE((none.sure && none.agreeing > found.agreeing / 2));
}
