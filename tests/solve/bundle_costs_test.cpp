#include "solve/bundle/bundle_costs.h"
#include "solve/made_up.h"

// Ceres brings a CHECK of its own: REQUIRE here.
using namespace porb;
using namespace porb::test;

TEST_CASE("derivatives by hand are those that are computed, for every kind of lens") {
    Camera camera;
    camera.lens = nominal_rig(1, 800, 800, 1, 190).cameras[0].lens;
    camera.lens.projection =
        GENERATE(Projection::equidistant, Projection::equisolid, Projection::stereographic,
                 Projection::orthographic, Projection::rectilinear);
    camera.lens.radial = {0.02, -0.01, 0.003, -0.001};
    camera.lens.non_radial.aspect = 1.01;
    camera.lens.non_radial.skew = 0.002;
    camera.lens.non_radial.tangential = {0.001, -0.002};
    camera.lens.non_radial.prism = {0.0005, 0.0001, -0.0003, 0.0002};
    camera.lens.non_radial.denominator = {0.01, -0.002, 0.0004};
    camera.pose = {{30, -20, 10}, Vec3(0.05, -0.02, 0.08)};
    const PointBlock point = point_about(rotation_of(camera.pose.turn) * Vec3(0.4, -0.3, 0.7).normalized());
    EndMiss* end = new EndMiss{&camera, rotation_of(camera.pose.turn).transpose(), &point, Vec2(500, 300), 8};
    const ceres::AutoDiffCostFunction<EndMiss, 2, 3, 3, 1, 2, 4, 3> computed(end);
    const WholeEndMiss by_hand(*end);
    const double size = GENERATE(0.0, 1e-3, 0.05, 1.5);
    double eye[kEyeValues], place[3] = {0.02, -0.03, 0.6};
    for (int i = 0; i < kEyeValues; ++i)
        eye[i] = size * 0.1 * (1 + 0.3 * i) * (i % 2 ? 1 : -1) / (i < 3 ? 1 : 10);
    double a[2], b[2], ja[6], jb[6], jc[2], jd[4], je[8], jp[6], whole[2 * kEyeValues], jq[6];
    const double *parts[] = {eye + kTurn, eye + kMove, eye + kFocal, eye + kCentre, eye + kRadial, place},
                 *blocks[] = {eye, place};
    double *jacobians[] = {ja, jb, jc, jd, je, jp}, *wholes[] = {whole, jq};
    REQUIRE(computed.Evaluate(parts, a, jacobians));
    REQUIRE(by_hand.Evaluate(blocks, b, wholes));
    REQUIRE(b[0] == Approx(a[0]));
    REQUIRE(b[1] == Approx(a[1]));
    const int sizes[] = {3, 3, 1, 2, 4};
    for (int row = 0; row < 2; ++row) {
        for (int kind = 0, at = 0; kind < 5; at += sizes[kind], ++kind)
            for (int i = 0; i < sizes[kind]; ++i) {
                INFO("row " << row << ", value " << at + i);
                REQUIRE(whole[row * kEyeValues + at + i] ==
                        Approx(jacobians[kind][row * sizes[kind] + i]).epsilon(1e-6).margin(1e-6));
            }
        for (int i = 0; i < 3; ++i)
            REQUIRE(jq[3 * row + i] == Approx(jp[3 * row + i]).epsilon(1e-6).margin(1e-6));
    }
}
