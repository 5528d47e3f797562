// Eyes drawn from distances: their rays, their distances, their pictures against the simulator's truth.
#include "base/angle.h"
#include "optics/eye_pairs.h"
#include "optics/eye_rays.h"
#include "picture/compare.h"
#include "project/stereo.h"
#include "stitch/compose.h"
#include "stitch/depth_map.h"
#include "stitch/distances/eye_field.h"
#include "stitch/plan/plan_lens.h"
#include "support/support.h"

using namespace porb;
using namespace porb::test;

namespace {
Vec3 towards(double yaw_deg, double pitch_deg) {
    return rotation_of({yaw_deg, pitch_deg, 0}) * Vec3(0, 0, 1);
}
} // namespace

TEST_CASE("rays of an eye touch the viewing circle, and both eyes see a thing at one latitude") {
    const EyeRays right = converged({0.032, 0, 55, 80}, 2), left = converged({-0.032, 0, 55, 80}, 2);
    for (const double yaw : {-170.0, -35.0, 0.0, 77.0})
        for (const double pitch : {-85.0, -60.0, 0.0, 30.0, 70.0, 90.0}) {
            const Vec3 d = towards(yaw, pitch), origin = right.origin_m(d);
            CHECK(origin.dot(d) == Approx(0).margin(1e-12)); // it touches
            CHECK(origin.y() == 0);
            const double expected = std::abs(pitch) <= 55 ? 0.032 : std::abs(pitch) >= 80 ? 0 : -1;
            if (expected >= 0) CHECK(origin.norm() == Approx(expected).margin(1e-12));
            CHECK((right.shown(right.looks(d)) - d).norm() < 1e-12);
            CHECK(right.looks(d).y() == Approx(d.y()));
            CHECK((origin + left.origin_m(d)).norm() < 1e-12); // and the other is its mirror image
        }
    // Right of the middle, for who looks ahead.
    CHECK(right.origin_m({0, 0, 1}).x() == Approx(0.032));
    // What stands at the convergence distance lies in the middle of both pictures; what is nearer is further
    // right in the left one.
    const Vec3 at(0, 0, 2);
    for (const EyeRays& eye : {left, right}) {
        const Vec3 looks = eye.looks({0, 0, 1}), from = eye.origin_m(looks);
        CHECK((at - from).cross(looks).norm() < 1e-9);
    }
    CHECK(converged({0.032, 0, 55, 80}, 0).turn_deg == 0);
    CHECK(std::isfinite(converged({0.032, 0, 55, 80}, 0.001).turn_deg));
}

TEST_CASE("an eye's distances are those of what its rays meet first") {
    // A room of 4 m, and a disc of 12 degrees 1 m away straight ahead.
    constexpr double kRoom = 4, kDisc = 1;
    const double rim = std::cos(radians(12));
    SphereGrid centre(576, 2, 1);
    for (int y = 0; y < centre.side; ++y)
        for (int x = 0; x < centre.side; ++x)
            centre.cell(x, y)[0] = float(1 / (centre.direction(x, y).z() > rim ? kDisc : kRoom));
    centre.close_edges();
    const Turn leant{20, 10, -5};
    const RigEyeRays eye{{0.05, 3, 55, 80}, rotation_of(leant)};
    const SphereGrid found = eye_field(centre, eye);
    REQUIRE(found.side == centre.side);
    int wrong = 0, near = 0, beside = 0;
    for (int y = 0; y < found.side; ++y)
        for (int x = 0; x < found.side; ++x) {
            const Vec3 d = found.direction(x, y), from = eye.origin_m(d);
            const auto length = [&](double radius) { // to a sphere about the centre
                const double b = from.dot(d);
                return -b + std::sqrt(b * b - from.squaredNorm() + radius * radius);
            };
            const Vec3 on_disc = from + length(kDisc) * d;
            const double edge = degrees(std::acos(on_disc.z() / on_disc.norm())) - 12;
            const double truth = edge < 0 ? 1 / length(kDisc) : 1 / length(kRoom);
            if (std::abs(edge) < 0.5) { // a cell's width, and what is between two cells is neither
                ++beside;
                continue;
            }
            near += edge < 0;
            wrong += std::abs(double(found.cell(x, y)[0]) - truth) > 0.004;
            if (eye.rays.share(eye.to_world * d) == 0) CHECK(found.cell(x, y)[0] == centre.cell(x, y)[0]);
        }
    INFO(near << " near, " << beside << " beside its edge");
    CHECK(near > 3000);
    CHECK(wrong == 0);
    CHECK(eye_field(centre, {}).values == centre.values); // from the centre it is the same

    // In a part of the sphere alone: the same there.
    PlanKey key;
    key.view.target = window_target(640, 360, {10, 5, 0}, 70);
    const SphereBlocks part = blocks_shown(key);
    const SphereGrid there = eye_field(centre, eye, &part);
    for (int y = 0; y < found.side; ++y)
        for (int x = 0; x < found.side; ++x) {
            const SphereGrid& same = part.has_cell(x, y, found.side) ? found : centre;
            if (there.cell(x, y)[0] != same.cell(x, y)[0]) FAIL("at " << x << ", " << y);
        }
}

TEST_CASE("the parts of the sphere that a view shows are all that its pixels look at, and little more") {
    const auto [yaw, pitch, fov] = GENERATE(table<double, double, double>(
        {{0, 0, 90}, {180, 10, 60}, {-120, -85, 40}, {30, 90, 20}, {77, 45, 140}}));
    PlanKey key;
    key.orientation = {25, -40, 60};
    key.view.target = window_target(400, 300, {yaw, pitch, 15}, fov);
    key.view.region = GENERATE(Region{}, Region{220, 40, 100, 60});
    const SphereBlocks blocks = blocks_shown(key);
    const TargetMap map(key.view.target);
    const Mat3 to_rig = rotation_of(key.orientation).transpose();
    const Region region = whole_region(key.view);
    double farthest = 0;
    const Vec3 middle =
        to_rig * *map.direction({region.x + region.width / 2.0, region.y + region.height / 2.0});
    for (int y = region.y; y < region.y + region.height; ++y)
        for (int x = region.x; x < region.x + region.width; ++x) {
            const Vec3 d = to_rig * *map.direction({x + 0.5, y + 0.5});
            farthest = std::max(farthest, std::acos(std::clamp(d.dot(middle), -1.0, 1.0)));
            if (!blocks.has(d)) FAIL("at " << x << ", " << y);
        }
    for (int y = 0; y < SphereBlocks::kSide; ++y)
        for (int x = 0; x < SphereBlocks::kSide; ++x)
            if (blocks.in[std::size_t(y * SphereBlocks::kSide + x)]) {
                const Vec3 d =
                    octahedral_direction({(x + 0.5) / SphereBlocks::kSide, (y + 0.5) / SphereBlocks::kSide});
                CHECK(std::acos(std::clamp(d.dot(middle), -1.0, 1.0)) < farthest + radians(20));
            }
    key.view = {};
    key.view.target = equirect_target(512);
    CHECK(blocks_shown(key).all());
}

TEST_CASE("eyes drawn from a ring are the truth's, agree in height, and are alike straight up and down",
          "[slow]") {
    const TempFolder folder;
    StillTake take = ring_still(folder, 300);
    Shot& shot = take.project.shots[0];
    shot.seams.agree_distance_m = 4;
    shot.stereo.from = EyesFrom::distances;
    shot.seams.flow.everywhere = true;
    sim::Hall hall;
    constexpr int kWidth = 576;
    Composer composer(std::make_shared<MediaLibrary>());
    const auto made = [&](Eye eye, const Shot& s) {
        View view;
        view.target = equirect_target(kWidth);
        view.eye = eye;
        return composer.compose(take.project, s, Seconds(0), view);
    };
    const auto truth = [&](sim::TruthEye eye, double converge_m = 0) {
        sim::SimOptions o = take.options;
        o.truth_converge_m = converge_m;
        return sim::true_panorama(hall, o, 0, SphereMapping::equirect, kWidth, eye);
    };
    const Picture left = made(Eye::left, shot), right = made(Eye::right, shot), mono = made(Eye::mono, shot);
    const Picture true_left = truth(sim::TruthEye::left), true_right = truth(sim::TruthEye::right),
                  true_mono = truth(sim::TruthEye::mono);
    const double plain = psnr_db(mono, true_mono);
    INFO(plain << " dB mono, " << psnr_db(left, true_left) << " left, " << psnr_db(right, true_right)
               << " right");
    CHECK(psnr_db(left, true_left) > plain - 0.7);
    CHECK(psnr_db(right, true_right) > plain - 0.7);
    CHECK(psnr_db(left, true_left) > psnr_db(left, true_right) + 2);
    CHECK(psnr_db(right, true_right) > psnr_db(right, true_left) + 2);
    for (int x = 0; x < kWidth; x += 16) // beyond 80 degrees both eyes are one
        for (const int y : {2, kWidth / 2 - 3}) CHECK(pixel_at(left, x, y).g == pixel_at(right, x, y).g);

    // Swapped, converged, and off.
    Shot other = shot;
    other.stereo.swap = true;
    CHECK(psnr_db(made(Eye::left, other), right) > 60);
    other = shot;
    other.stereo.converge_m = 2;
    CHECK(psnr_db(made(Eye::left, other), truth(sim::TruthEye::left, 2)) > plain - 0.7);
    other.stereo.from = EyesFrom::one;
    CHECK(psnr_db(made(Eye::left, other), mono) > 60);
    // With fine edges both sides of outlines are drawn; it comes no less near.
    other = shot;
    other.seams.flow.fine_edges = true;
    CHECK(psnr_db(made(Eye::left, other), true_left) > psnr_db(left, true_left) - 0.1);

    // Distances of an eye are told along its rays.
    View view;
    view.target = equirect_target(256);
    view.eye = Eye::right;
    const DepthMap depth = depth_map(composer, take.project, shot, Seconds(0), view);
    const EyeRays rays = eye_rays_of(shot, Eye::right, Seconds(0));
    int off = 0, places = 0;
    for (int y = 40; y < 88; ++y)
        for (int x = 0; x < 256; ++x, ++places) {
            const Vec3 d = *TargetMap(view.target).direction({x + 0.5, y + 0.5});
            const double far = double(hall.depth(rays.origin_m(d).cast<float>(), d.cast<float>()));
            off += std::abs(1 / double(depth.metres[std::size_t(y) * 256 + std::size_t(x)]) - 1 / far) > 0.05;
        }
    CHECK(off < places / 8);
}

TEST_CASE("convergence passes smoothly from key to key, and a pair's pictures turn as a whole") {
    StereoSettings s;
    CHECK(converge_at(s, Seconds(3)) == 0);
    toggle_converge_key(s, Seconds(1));
    set_converge(s, Seconds(1), 2);
    set_converge(s, Seconds(3), 0);
    REQUIRE(s.keys.size() == 2);
    CHECK(converge_at(s, Seconds(0)) == 2);
    CHECK(converge_at(s, Seconds(2)) == Approx(4)); // half the inverse distance
    CHECK(converge_at(s, Seconds(9)) == 0);
    toggle_converge_key(s, Seconds(3));
    toggle_converge_key(s, Seconds(1));
    CHECK(s.keys.empty());
    CHECK(s.converge_m == 2); // what the last key said stays

    Shot shot = shot_for_rig(nominal_pair(256, 256, 1, 190), "pair");
    const double apart = eye_separation_m(shot.rig);
    REQUIRE(apart > 0.01);
    shot.stereo.converge_m = 1.5;
    const EyeRays left = eye_rays_of(shot, Eye::left, Seconds(0)),
                  right = eye_rays_of(shot, Eye::right, Seconds(0));
    CHECK_FALSE(left.moves()); // cameras are where they are
    CHECK(left.turn_deg == Approx(degrees(std::asin(apart / 2 / 1.5))));
    CHECK(right.turn_deg == -left.turn_deg);
    CHECK(left.share(towards(10, 89)) == 1);
    CHECK(eye_rays_of(shot, Eye::mono, Seconds(0)) == EyeRays{});
    View view;
    view.target = half_sphere_target(256);
    const auto cameras = [&](Eye eye) {
        view.eye = eye;
        return contributing_cameras(plan_key(shot, view, Seconds(0), Sources::all));
    };
    const auto first = cameras(Eye::left);
    CHECK(cameras(Eye::mono) == first);
    shot.stereo.mono = MonoEye::right;
    CHECK(cameras(Eye::mono) == cameras(Eye::right));
    shot.stereo.swap = true;
    CHECK(cameras(Eye::right) == first);
    shot.stereo.from = EyesFrom::distances;
    CHECK(cameras(Eye::right).size() == 2);
}

TEST_CASE("a rig with a left and a right camera in each direction shows each eye the whole sphere") {
    const TempFolder folder;
    sim::SimOptions o;
    o.rig = sim::SimRig::ring_of_pairs;
    o.circle_size = 240;
    StillTake take = hall_still(folder, o);
    Shot& shot = take.project.shots[0];
    CHECK_FALSE(is_half_sphere_pair(shot.rig));
    CHECK(eye_separation_m(shot.rig) == Approx(0.064));
    shot.seams.agree_distance_m = 4;
    Composer composer(std::make_shared<MediaLibrary>());
    View view;
    view.target = equirect_target(512);
    sim::Hall hall;
    const auto made = [&](Eye eye) {
        view.eye = eye;
        return composer.compose(take.project, shot, Seconds(0), view);
    };
    const auto truth = [&](sim::TruthEye eye) {
        return sim::true_panorama(hall, o, 0, SphereMapping::equirect, 512, eye);
    };
    const Picture left = made(Eye::left), right = made(Eye::right), true_left = truth(sim::TruthEye::left),
                  true_right = truth(sim::TruthEye::right);
    for (const int x : {256, 320, 384, 128}) // before pairs, and between them
        for (const int y : {100, 128, 150}) {
            double own = 0, other = 0;
            for (int dy = -16; dy <= 16; ++dy)
                for (int dx = -24; dx <= 24; ++dx) {
                    const auto off = [&](const Picture& t) {
                        const double d =
                            double(pixel_at(left, x + dx, y + dy).g - pixel_at(t, x + dx, y + dy).g);
                        return d * d;
                    };
                    own += off(true_left), other += off(true_right);
                }
            INFO(x << ", " << y);
            CHECK(own < other);
        }
    CHECK(psnr_db(left, right) < 40); // and they are two
    const Picture true_mono = truth(sim::TruthEye::mono), mono = made(Eye::mono);
    INFO(psnr_db(left, true_left) << " dB left, " << psnr_db(mono, true_mono) << " mono");
    CHECK(psnr_db(mono, true_mono) > psnr_db(mono, true_left)); // the left cameras', from the centre
}
