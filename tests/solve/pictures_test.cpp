#include "base/angle.h"
#include "base/error.h"
#include "media/still.h"
#include "optics/ray_error.h"
#include "project/orientation.h"
#include "solve/calibrate.h"
#include "solve/level.h"
#include "solve/pictures/grey.h"
#include "solve/pictures/matching.h"
#include "solve/pictures/samples.h"
#include "solve/points.h"
#include "solve/stitch_error.h"
#include "support/support.h"

using namespace porb;
using namespace porb::test;

namespace {

/// A ring of four in the hall, stills of one moment, with the nominal rig.
struct Ring {
    sim::SimOptions options;
    sim::Truth truth;
    Project project;
};
Ring ring(const TempFolder& folder, bool faults) {
    Ring r;
    r.options.rig = sim::SimRig::ring_of_four;
    r.options.circle_size = 300;
    r.options.distant = true;
    r.options.seed = 12;
    r.options.faults.pose = r.options.faults.lens = r.options.faults.distortion = r.options.faults.exposure =
        faults;
    r.truth = sim::make_truth(r.options);
    sim::Hall hall;
    Shot shot = shot_for_rig(r.truth.nominal, "ring");
    for (std::size_t c = 0; c < 4; ++c) {
        const auto path = folder / (shot.rig.cameras[c].id + ".png");
        write_still(sim::render_source(hall, r.options, r.truth, {c}, 0), path, {8, 95, std::nullopt});
        shot.cameras[c].media = add_media(r.project, media_ref_for(path));
    }
    r.project.shots.push_back(std::move(shot));
    return r;
}

} // namespace

TEST_CASE("a ring is solved from its pictures, and plain trouble is told by name", "[slow]") {
    const TempFolder folder;
    Ring r = ring(folder, true);
    Shot& shot = r.project.shots[0];
    MediaLibrary library;
    double share = 0;
    const Solved solved = solve_shot(
        r.project, shot, library, {}, [&](const SolveProgress& p) { share = p.share; }, Cancel());
    CHECK(share == 1);
    CHECK(solved.report.points > 150);
    CHECK(ray_error(r.truth.actual, r.truth.nominal).mean_deg > 0.6);
    CHECK(ray_error(r.truth.actual, solved.rig).mean_deg < 0.12);
    CHECK(shot.rig == r.truth.nominal); // nothing is changed by looking

    SECTION("swapped files") {
        std::swap(shot.cameras[0].media, shot.cameras[1].media);
        CHECK(error_of([&] {
                  solve_shot(r.project, shot, library, {}, nullptr, Cancel());
              }).find("swapped") != std::string::npos);
    }
    SECTION("a black picture") {
        Picture black(300, 300);
        for (int y = 0; y < 300; ++y)
            for (int x = 0; x < 300; ++x) set_pixel(black, x, y, {0, 0, 0, 1});
        write_still(black, folder / "black.png", {8, 95, std::nullopt});
        shot.cameras[2].media = add_media(r.project, media_ref_for(folder / "black.png"));
        const std::string why =
            error_of([&] { solve_shot(r.project, shot, library, {}, nullptr, Cancel()); });
        CHECK(why.find("camera C") != std::string::npos);
        CHECK(why.find("black") != std::string::npos);
    }
    SECTION("no overlap") {
        for (auto& c : shot.rig.cameras) {
            c.lens.circle.radius_px = 20;
            c.lens.focal_px = focal_for_field_of_view(c.lens, 30);
        }
        CHECK(error_of([&] {
                  solve_shot(r.project, shot, library, {}, nullptr, Cancel());
              }).find("no overlap") != std::string::npos);
    }
    SECTION("a camera turned, and taken from far") {
        shot.rig.cameras[1].pose.turn.roll_deg += 90;
        CHECK(error_of([&] {
                  solve_shot(r.project, shot, library, {}, nullptr, Cancel());
              }).find("camera B: is turned by") != std::string::npos);
        SolveOptions far;
        far.from_far = true;
        const Solved again = solve_shot(r.project, shot, library, far, nullptr, Cancel());
        CHECK(ray_error(r.truth.actual, again.rig).mean_deg < 0.2);
    }
    SECTION("a point by hand is found along its line") {
        shot.rig = r.truth.actual;
        const Eyepiece a(shot.rig, 0, nullptr), b(shot.rig, 1, nullptr);
        int tried = 0, right = 0;
        for (const auto& p : solved.points) {
            if (p.a != "A" || p.b != "B" || !p.dropped.empty() || ++tried > 12) continue;
            try {
                const ControlPoint q = propose_point(r.project, shot, library, Seconds(0), "A", p.a_px, "B");
                CHECK(q.by_hand);
                right += (q.b_px - b.place_of(*a.direction(p.a_px))).norm() < 0.7;
            } catch (const Error& e) {
                CHECK(e.mend().find("Click the same thing") != std::string::npos);
            }
        }
        CHECK(right >= 9);
        CHECK(error_of([&] {
                  propose_point(r.project, shot, library, Seconds(0), "A", {1, 1}, "B");
              }).find("no match was found") != std::string::npos);
    }
    SECTION("stitch error is small with the true rig and large with a wrong one") {
        Shot right = shot;
        right.rig = r.truth.actual;
        Shot wrong = right;
        wrong.rig.cameras[0].pose.turn.roll_deg += 0.7;
        const auto good = stitch_error(r.project, right, Seconds(0), library, Cancel());
        const auto bad = stitch_error(r.project, wrong, Seconds(0), library, Cancel());
        REQUIRE(good);
        REQUIRE(bad);
        CHECK(bad->px > 3 * good->px);
    }
}

TEST_CASE("regions say where points may be") {
    PointRegion avoid;
    avoid.camera = "A";
    avoid.corners = {{10, 10}, {50, 10}, {50, 50}, {10, 50}};
    CHECK_FALSE(regions_allow({avoid}, "A", {30, 30}, Vec3(0, 0, 1)));
    CHECK(regions_allow({avoid}, "A", {60, 30}, Vec3(0, 0, 1)));
    CHECK(regions_allow({avoid}, "B", {30, 30}, Vec3(0, 0, 1)));
    PointRegion use; // over longitude 180
    use.avoid = false;
    use.corners = {{170, -20}, {-170, -20}, {-170, 20}, {170, 20}};
    CHECK(regions_allow({use}, "A", {0, 0}, Vec3(0.02, 0, -1).normalized()));
    CHECK_FALSE(regions_allow({use}, "A", {0, 0}, Vec3(0, 0, 1)));
}

TEST_CASE("sample moments are the ends and between, or those set by hand") {
    const TempFolder folder;
    CountingMovie movie;
    write_counting_movie(folder / "m.mp4", movie);
    Project project;
    Shot shot = shot_for_rig(nominal_rig(1, movie.width, movie.height, 1, 180), "s");
    shot.cameras[0].media = add_media(project, media_ref_for(folder / "m.mp4"));
    shot.timing.rate = movie.rate;
    MediaLibrary library;
    auto times = sample_times(project, shot, library, Cancel());
    REQUIRE(times.size() == 5);
    CHECK(times.front() == Seconds(0));
    CHECK(times.back() == frame_time(movie.frames - 1, movie.rate));
    shot.timing.in = Rational(1, 3), shot.timing.out = Rational(2, 3);
    times = sample_times(project, shot, library, Cancel());
    CHECK(times.front() == Rational(1, 3));
    CHECK(times.back() < *shot.timing.out);
    shot.calibration.solving.by_hand = {Rational(1, 2), Rational(1, 2), Seconds(50)};
    times = sample_times(project, shot, library, Cancel());
    CHECK(times.size() == 2); // each once, and never past the end
    CHECK(times.back() == frame_time(movie.frames - 1, movie.rate));
}

TEST_CASE("of the moments about a sample the sharpest and stillest is taken") {
    const TempFolder folder;
    constexpr int kFrames = 21, kSize = 120;
    // Blurred everywhere but at frames 8 and 11; 8 is followed by another picture, 11 by a like one.
    for (int n = 0; n < kFrames; ++n) {
        Picture p(kSize, kSize);
        const bool sharp = n == 8 || n == 11 || n == 12;
        for (int y = 0; y < kSize; ++y)
            for (int x = 0; x < kSize; ++x) {
                const float v = sharp ? ((x / 6 + y / 6 + (n == 8)) % 2 ? 0.8f : 0.2f)
                                      : 0.5f + 0.3f * std::sin(0.05f * float(x + n));
                set_pixel(p, x, y, {v, v, v, 1});
            }
        char name[32];
        std::snprintf(name, sizeof name, "f.%04d.png", n);
        write_still(p, folder / name, {8, 95, std::nullopt});
    }
    Project project;
    Shot shot = shot_for_rig(nominal_rig(1, kSize, kSize, 1, 180), "s");
    MediaRef ref;
    ref.path = folder / "f.%04d.png";
    ref.kind = MediaKind::sequence;
    ref.sequence_rate = shot.timing.rate = FrameRate(10);
    shot.cameras[0].media = add_media(project, ref);
    shot.calibration.solving.samples = 3;
    MediaLibrary library;
    CHECK(sample_times(project, shot, library, Cancel()) ==
          std::vector<Seconds>{Seconds(0), Seconds(1), Seconds(2)});
    shot.calibration.solving.pick = SamplePick::best;
    const auto best = sample_times(project, shot, library, Cancel());
    REQUIRE(best.size() == 3);
    CHECK(best.front() == Seconds(0));
    CHECK(best.back() == Seconds(2));
    CHECK(best[1].to_string() == Rational(11, 10).to_string());
}

TEST_CASE("four upright lines level to a tenth of a degree, a wrong one among them too") {
    const Mat3 lean = rotation_of({20, 9, -8});
    const Vec3 up = lean.transpose() * Vec3(0, -1, 0);
    std::vector<LineSense> lines;
    int i = 0;
    for (const double yaw : {10.0, 95.0, 170.0, -100.0}) {
        // A vertical edge in that direction; the normal is off by a twentieth of a degree.
        const Vec3 foot = lean.transpose() * (rotation_of({yaw, 10, 0}) * Vec3(0, 0, 1));
        const Vec3 normal =
            rotation_about(foot, radians(i++ % 2 ? 0.05 : -0.05)) * foot.cross(up).normalized();
        lines.push_back({LineKind::vertical, normal, 0.6});
    }
    const Vec3 near = rotation_of({0, 3, -2}).transpose() * Vec3(0, -1, 0);
    Upright u = upright_from_lines(lines, near);
    CHECK(degrees(std::acos(u.up.dot(up))) < 0.1);
    CHECK(u.error_deg < 0.1);
    lines.push_back({LineKind::vertical, Vec3(0.3, 0.8, 0.2).normalized(), 0.6});
    u = upright_from_lines(lines, near);
    CHECK(degrees(std::acos(u.up.dot(up))) < 0.1);
    CHECK_FALSE(u.agrees.back());
    CHECK(u.residual_deg.back() > 5);
    // The shot stands upright after it, its heading kept as well as can be.
    Shot shot;
    shot.levelling.orientation = {15, 0, 0};
    set_upright(shot, Seconds(0), up);
    CHECK(lean_deg(shot, Seconds(0), up) < 1e-6);
}

TEST_CASE("level lines that run side by side level too; too few are refused in words") {
    const Mat3 lean = rotation_of({-30, -5, 12});
    const Vec3 up = lean.transpose() * Vec3(0, -1, 0);
    std::vector<LineSense> lines;
    for (const double along : {0.0, 90.0}) // two walls, three sills each
        for (const double height : {-0.5, 0.7, 1.1}) {
            const Vec3 h = rotation_of({along, 0, 0}) * Vec3(0, 0, 1),
                       at = rotation_of({along + 90, 0, 0}) * Vec3(0, 0, 2) + Vec3(0, height, 0);
            lines.push_back({LineKind::horizontal, lean.transpose() * h.cross(at).normalized(), 1.0});
        }
    const Upright u = upright_from_lines(lines, Vec3(0, -1, 0));
    CHECK(degrees(std::acos(u.up.dot(up))) < 0.05);
    lines.resize(1);
    CHECK(error_of([&] { upright_from_lines(lines, Vec3(0, -1, 0)); }).find("Draw three or more") !=
          std::string::npos);
}

TEST_CASE("upright edges of the hall are found whichever way the rig leans", "[slow]") {
    const TempFolder folder;
    sim::SimOptions o;
    o.circle_size = 480;
    o.faults.tilt = true;
    StillTake take = hall_still(folder, o);
    Shot& shot = take.project.shots[0];
    shot.levelling.orientation = {}; // nothing is known yet: it leans by twelve degrees
    MediaLibrary library;
    const Seconds at[] = {Seconds(0)};
    const FoundUpright found = find_upright(take.project, shot, at, library, {}, Cancel());
    REQUIRE(found.lines.size() >= 8);
    CHECK_FALSE(found.turned_over);
    shot.calibration.lines = found.lines;
    const Vec3 up = rotation_of(take.truth.tilt).transpose() * Vec3(0, -1, 0);
    const Upright& u = found.upright;
    CHECK(degrees(std::acos(std::clamp(u.up.dot(up), -1.0, 1.0))) < 0.3);
    set_upright(shot, Seconds(0), u.up);
    CHECK(lean_deg(shot, Seconds(0), up) < 0.3);
}
