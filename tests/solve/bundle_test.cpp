#include "base/angle.h"
#include "optics/ray_error.h"
#include "project/orientation.h"
#include "solve/agree_distance.h"
#include "solve/bundle/lens_model.h"
#include "solve/bundle/report.h"
#include "solve/bundle/solve_points.h"
#include "solve/keep_solve.h"
#include "solve/made_up.h"
#include "solve/pictures/grey.h"
#include "solve/points.h"

using namespace porb;
using namespace porb::test;

TEST_CASE("the solver's lens model is the lens model") {
    std::mt19937 random(4);
    std::uniform_real_distribution<double> flat(-1, 1);
    for (const Projection kind : {Projection::equidistant, Projection::equisolid, Projection::stereographic})
        for (int i = 0; i < 40; ++i) {
            Lens lens = fisheye(800, 190, kind);
            lens.radial = {0.01 * flat(random), 0.001 * flat(random), 0, 0};
            lens.non_radial.aspect = 1 + 0.01 * flat(random);
            lens.non_radial.tangential = {0.001 * flat(random), 0.001 * flat(random)};
            REQUIRE_FALSE(fault_in(lens));
            const double theta = 1.5 * std::abs(flat(random)), phi = 3 * flat(random);
            const double d[3] = {std::sin(theta) * std::cos(phi), std::sin(theta) * std::sin(phi),
                                 std::cos(theta)};
            double px[2];
            project_changed(lens, LensChange<double>{}, d, px);
            const Vec2 want = LensMap(lens).project_anywhere(Vec3(d[0], d[1], d[2]));
            CHECK(px[0] == Approx(want.x()).margin(1e-6));
            CHECK(px[1] == Approx(want.y()).margin(1e-6));
        }
}

TEST_CASE("a point's place is the best there is, and the RMS is what a slow search gives") {
    const MadeUp m = made_up(sim::SimRig::ring_of_six, false, 12, 0.4, 3);
    const auto fits = fit_points(m.truth.actual, m.observations);
    double squares = 0;
    for (std::size_t i = 0; i < m.observations.size(); ++i) {
        const Observation& s = m.observations[i];
        const Eyepiece a(m.truth.actual, s.a, nullptr), b(m.truth.actual, s.b, nullptr);
        const auto cost = [&](const Vec3& d, double inverse) {
            return (a.place_of(d - inverse * a.position) - s.a_px).squaredNorm() +
                   (b.place_of(d - inverse * b.position) - s.b_px).squaredNorm();
        };
        // Coordinate descent with shrinking steps, from the fit: nothing near it may be better.
        Vec3 d = fits[i].direction;
        double inverse = fits[i].inverse_m, best = cost(d, inverse);
        for (double step = 1e-3; step > 1e-9; step *= 0.5)
            for (int round = 0; round < 4; ++round)
                for (int axis = 0; axis < 4; ++axis)
                    for (const double sign : {-1.0, 1.0}) {
                        const Vec3 dd =
                            axis < 3 ? Vec3((d + sign * step * Vec3::Unit(axis)).normalized()) : d;
                        const double ii = axis == 3 ? inverse + sign * step * 10 : inverse;
                        if (const double c = cost(dd, ii); c < best) best = c, d = dd, inverse = ii;
                    }
        const double fitted = fits[i].residual_a.squaredNorm() + fits[i].residual_b.squaredNorm();
        CHECK(fitted <= best * 1.001 + 1e-9);
        squares += best;
    }
    CHECK(rms_of(fits).px ==
          Approx(std::sqrt(squares / (2.0 * double(m.observations.size())))).epsilon(0.01));
}

TEST_CASE("rigs are solved from observations with noise, wrong starts and wrong matches", "[slow]") {
    for (const unsigned seed : {21u, 22u}) {
        const MadeUp m = made_up(sim::SimRig::ring_of_six, false, 700, 0.12, seed, 0.05);
        const Shot shot = shot_of(m);
        Shot with = shot;
        const auto solved = solve_points({&with}, with.rig, with.rig, true, Cancel());
        const RayError e = ray_error(m.truth.actual, solved.rig);
        INFO("seed " << seed << " before " << ray_error(m.truth.actual, m.truth.nominal).mean_deg);
        // Distances are free, so a wider view and nearer things can hardly be told apart: what is left is
        // mostly that.
        CHECK(e.mean_deg < 0.12);
        CHECK(e.worst_camera_deg < 0.12);
        CHECK(e.mean_deg < ray_error(m.truth.actual, m.truth.nominal).mean_deg / 10);
        CHECK(solved.report.dropped > 20);
        CHECK(solved.report.before.px > 5 * solved.report.rms.px);
        CHECK(solved.report.pairs.size() >= 6);
        // What was left out says why.
        for (const auto& p : solved.points[0])
            CHECK(
                (p.dropped.empty() || (p.dropped.reason != DropReason::other && !p.dropped.detail.empty())));
    }
}

TEST_CASE("without parallax positions cannot be told: that is said, and they stay") {
    const MadeUp m = made_up(sim::SimRig::ring_of_six, true, 500, 0.1, 31);
    const auto solved = solve_bundle(problem_for(m), Cancel());
    CHECK(ray_error(m.truth.actual, solved.rig).mean_deg < 0.03);
    for (std::size_t c = 0; c < 6; ++c)
        CHECK((solved.rig.cameras[c].pose.position_m - m.truth.nominal.cameras[c].pose.position_m).norm() <
              1e-9);
    CHECK(solved.decided.far);
}

TEST_CASE("what is locked stays, what is shared is shared, and the rig's place as a whole is kept") {
    const MadeUp m = made_up(sim::SimRig::ring_of_six, false, 300, 0.1, 41);
    BundleProblem p = problem_for(m);
    p.lens_locked[2] = true;
    p.pose_locked[3] = true;
    auto solved = solve_bundle(p, Cancel());
    CHECK(solved.rig.cameras[2].lens == p.start.cameras[2].lens);
    CHECK(solved.rig.cameras[3].pose == p.start.cameras[3].pose);
    p.pose_locked[3] = p.lens_locked[2] = false;
    p.settings.focal = Freedom::shared;
    solved = solve_bundle(p, Cancel());
    const double ratio = solved.rig.cameras[0].lens.focal_px / p.start.cameras[0].lens.focal_px;
    CHECK(ratio != Approx(1).epsilon(1e-6));
    for (std::size_t c = 1; c < 6; ++c)
        CHECK(solved.rig.cameras[c].lens.focal_px / p.start.cameras[c].lens.focal_px ==
              Approx(ratio).epsilon(1e-9));
    Vec3 turned = Vec3::Zero();
    for (std::size_t c = 0; c < 6; ++c)
        turned += rotation_of(p.start.cameras[c].pose.turn) *
                  rotation_vector(rotation_of(p.start.cameras[c].pose.turn).transpose() *
                                  rotation_of(solved.rig.cameras[c].pose.turn));
    CHECK(degrees(turned.norm() / 6) < 1e-3);
}

TEST_CASE("a locked lens neither follows lenses alike nor is drawn to its profile") {
    const MadeUp m = made_up(sim::SimRig::ring_of_six, false, 300, 0.1, 43);
    Shot shot = shot_of(m);
    shot.calibration.profile =
        shot.rig; // the profile says what the rig said once; since then two lenses were set by hand
    shot.rig.cameras[0].lens = m.truth.actual.cameras[0].lens;
    shot.rig.cameras[3].lens = m.truth.actual.cameras[3].lens;
    shot.cameras[0].lens_locked = shot.cameras[3].lens_locked = true;
    shot.calibration.solving.focal = Freedom::shared;
    const auto solved = solve_points({&shot}, shot.rig, shot.rig, true, Cancel());
    for (const std::size_t c : {0u, 3u}) CHECK(solved.rig.cameras[c].lens == shot.rig.cameras[c].lens);
    const double ratio = solved.rig.cameras[1].lens.focal_px / shot.rig.cameras[1].lens.focal_px;
    for (const std::size_t c : {2u, 4u, 5u})
        CHECK(solved.rig.cameras[c].lens.focal_px / shot.rig.cameras[c].lens.focal_px ==
              Approx(ratio).epsilon(1e-9));
    CHECK(ratio != Approx(1).epsilon(1e-6));
    for (const auto& v : solved.report.values)
        if (v.camera == shot.rig.cameras[0].id) CHECK(v.name != "focal length");
}

TEST_CASE("what a value was before is told from the rig that was, wherever solving began") {
    const MadeUp m = made_up(sim::SimRig::ring_of_six, true, 300, 0.1, 44);
    const Shot shot = shot_of(m);
    Rig start = shot.rig;
    for (auto& c : start.cameras) c.lens.focal_px *= 1.004, c.pose.turn.yaw_deg += 0.2;
    const auto solved = solve_points({&shot}, start, shot.rig, true, Cancel());
    int told = 0;
    for (const auto& v : solved.report.values) {
        const Camera *was = find_camera(shot.rig, v.camera), *is = find_camera(solved.rig, v.camera);
        if (v.name == "focal length") {
            CHECK(v.before == was->lens.focal_px);
            CHECK(v.value == is->lens.focal_px);
            CHECK(v.sigma > 0);
            ++told;
        }
        if (v.name == "yaw") CHECK(v.before == was->pose.turn.yaw_deg);
    }
    CHECK(told == 6);
}

TEST_CASE("a solve is one value to keep and to return to") {
    const MadeUp m = made_up(sim::SimRig::ring_of_six, false, 400, 0.1, 51);
    Shot shot = shot_of(m);
    const Rig before = shot.rig;
    const auto solved = solve_points({&shot}, shot.rig, shot.rig, true, Cancel());
    const Shot unsolved = shot;
    const auto agree = take_solve(shot, solved.rig, solved.points[0], solved.lines[0], solved.report);
    REQUIRE(shot.calibration.solves.size() == 1);
    // An agree distance that nobody chose lies among the solved depths; one that was chosen stays.
    REQUIRE(agree);
    CHECK(shot.seams.agree_choice == AgreeChoice::solve);
    CHECK(shot.seams.agree_distance_m == *agree);
    std::vector<double> depths;
    for (const auto& f : measure_points(shot)) depths.push_back(f.inverse_m);
    std::sort(depths.begin(), depths.end());
    CHECK(1 / *agree > depths[depths.size() / 10]);
    CHECK(1 / *agree < depths[depths.size() * 9 / 10]);
    Shot chosen = unsolved;
    chosen.seams.agree_distance_m = 0, chosen.seams.agree_choice = AgreeChoice::chosen;
    CHECK_FALSE(take_solve(chosen, solved.rig, solved.points[0], solved.lines[0], solved.report));
    CHECK(chosen.seams.agree_distance_m == 0);
    CHECK(shot.calibration.solves[0].rms_px == Approx(solved.report.rms.px));
    CHECK(shot.cameras[0].origins[std::size_t(CameraValue::turn)].kind == OriginKind::solve);
    shot.rig = before;
    return_to_solve(shot, shot.calibration.solves[0].id);
    CHECK(shot.rig.cameras == solved.rig.cameras);
    // The report's points carry what is needed to compute its RMS again.
    const std::string text = report_json(solved.report, solved.rig, solved.points[0]);
    for (const char* key : {"\"rms_px\"", "\"points\"", "\"dropped\"", "\"cameras\"", "\"pairs\"",
                            "\"undetermined\"", "\"point_list\""})
        CHECK(text.find(key) != std::string::npos);
}

TEST_CASE("several shots of one rig are solved together; nothing to solve from is said") {
    const MadeUp m = made_up(sim::SimRig::ring_of_six, false, 240, 0.1, 61);
    Shot one = shot_of(m), two = one;
    ControlPoints first, second;
    for (const auto& p : *one.calibration.points) (p.id % 2 ? first : second).push_back(p);
    one.calibration.points = first, two.calibration.points = second;
    const auto solved = solve_points({&one, &two}, one.rig, one.rig, false, Cancel());
    REQUIRE(solved.points.size() == 2);
    CHECK(solved.points[1].size() == second.size());
    CHECK(solved.report.points == int(first.size() + second.size()));
    Shot empty = one;
    empty.calibration.points = ControlPoints{};
    CHECK(error_of([&] {
              solve_points({&empty}, empty.rig, empty.rig, true, Cancel());
          }).find("nothing to solve from") != std::string::npos);
    Cancel stop;
    stop.raise();
    CHECK_THROWS_AS(solve_points({&one}, one.rig, one.rig, true, stop), Cancelled);
}

TEST_CASE("the agree distance of a region is that of its points, and the doubling there goes") {
    MadeUp m = made_up(sim::SimRig::ring_of_six, false, 0, 0, 71);
    std::mt19937 random(5);
    std::normal_distribution<double> bell;
    Shot shot = shot_for_rig(m.truth.actual, "wall");
    ControlPoints points;
    const Eyepiece a(shot.rig, 0, nullptr), b(shot.rig, 1, nullptr);
    for (int i = 0; i < 40; ++i) { // a wall 2.25 m away between two cameras
        const Vec3 d =
            (rotation_of({30, 0, 0}) * Vec3(0.1 * bell(random), 0.1 * bell(random), 1)).normalized();
        ControlPoint p;
        p.id = i + 1, p.a = "A", p.b = "B";
        p.a_px = a.place_of(d - a.position / 2.25), p.b_px = b.place_of(d - b.position / 2.25);
        points.push_back(p);
    }
    shot.calibration.points = points;
    const auto fits = measure_points(shot);
    const auto s = suggest_agree_distance(shot, fits, rotation_of({30, 0, 0}) * Vec3(0, 0, 1), 20);
    REQUIRE(s);
    CHECK(s->distance_m == Approx(2.25).epsilon(0.01));
    CHECK_FALSE(suggest_agree_distance(shot, fits, Vec3(0, 0, -1), 10));
    for (const double v : doubling_px(shot, fits, 2.25)) CHECK(v < 0.05);
    for (const double v : doubling_px(shot, fits, 8)) CHECK(v > 2);
}
