#include "base/error.h"
#include "project/camera_edits.h"
#include "project/origins.h"
#include "support/support.h"

using namespace porb;
using namespace porb::test;

TEST_CASE("source, shot and shown time agree, with drift and at the very start") {
    ShotCamera c;
    c.offset = Rational(-1, 100);
    CHECK(source_time(c, Seconds(2)) == Rational(199, 100));
    CHECK(shot_time(c, Rational(199, 100)) == Seconds(2));
    CHECK(shown_time(c, Seconds(0), FrameRate(30)) ==
          Seconds(0)); // a third of a frame late: its first picture
    c.offset = Rational(-1, 30);
    CHECK(shown_time(c, Seconds(0), FrameRate(30)) == Rational(-1, 30)); // a whole frame late: nothing yet
    c.drift_ppm = 100;
    CHECK(source_time(c, Seconds(1000)).to_double() == Approx(1000.1 - 1.0 / 30));
    CHECK(shot_time(c, source_time(c, Seconds(1000))).to_double() == Approx(1000).margin(1e-7));
    Shot shot = shot_for_rig(tiny_rig(), "s");
    shot.cameras[1].media = shot.timing.sound = "b";
    shot.cameras[1].offset = Rational(1, 2);
    CHECK(sound_time(shot, Seconds(1)) == Rational(3, 2));
}

TEST_CASE("a circle keeps the glass: field of view and centre offset go along") {
    Lens lens = fisheye(1000, 187, Projection::equisolid);
    lens.center_px += Vec2(4, -2);
    const Vec2 apart = lens.center_px - lens.circle.center_px;
    Lens moved = lens;
    set_circle(moved, {{520, 470}, lens.circle.radius_px * 0.9});
    CHECK(field_of_view_deg(moved) == Approx(field_of_view_deg(lens)).epsilon(1e-9));
    CHECK((moved.center_px - moved.circle.center_px - 0.9 * apart).norm() < 1e-9);
}

TEST_CASE("a pasted lens keeps the circle where the light is, at any size") {
    const Lens from = fisheye(2000, 190);
    Lens onto = fisheye(1000, 160);
    onto.circle.center_px = onto.center_px = {480, 510};
    const Lens out = pasted_lens(from, onto);
    CHECK(out.width == 1000);
    CHECK(field_of_view_deg(out) == Approx(190));
    CHECK((out.circle.center_px - onto.circle.center_px).norm() < 1e-9);
    CHECK(out.circle.radius_px == Approx(from.circle.radius_px / 2));
}

TEST_CASE(
    "alike cameras are of one kind and size; found circles go to the nearest camera, locked ones stay") {
    Rig rig = tiny_rig(400);
    CHECK(alike_cameras(rig, "A") == std::vector<std::string>{"A", "B"});
    rig.cameras[1].lens.projection = Projection::stereographic;
    CHECK(alike_cameras(rig, "A") == std::vector<std::string>{"A"});
    CHECK(alike_cameras(rig, "Z").empty());

    Shot shot = shot_for_rig(tiny_rig(400), "s");
    for (auto& c : shot.cameras) c.media = "m";
    CircleSearch found; // in the other order than the cameras
    found.circles.push_back({{{603, 199}, 190}, 0.9, 350, 0.1});
    found.circles.push_back({{{198, 201}, 191}, 0.8, 350, 0.1});
    CHECK(take_circles(shot, "m", found) == 2);
    CHECK(shot.rig.cameras[0].lens.circle.radius_px == 191);
    CHECK(shot.rig.cameras[1].lens.circle.center_px.x() == 603);
    CHECK(origin_of(shot.cameras[1], CameraValue::circle).kind == OriginKind::found);
    shot.cameras[0].lens_locked = true;
    found.circles[1].circle.radius_px = 150;
    CHECK(take_circles(shot, "m", found) == 1);
    CHECK(shot.rig.cameras[0].lens.circle.radius_px == 191);
    CHECK(take_circles(shot, "other", found) == 0);
}

TEST_CASE(
    "a calibration is scaled to its camera, placed against the first, and refused where it cannot fit") {
    Shot shot = shot_for_rig(tiny_rig(400), "s"); // two circles in 800 x 400
    Calibration c;
    Lens lens = shot.rig.cameras[0].lens;
    c.lenses = {scaled(lens, 1600, 800), scaled(shot.rig.cameras[1].lens, 1600, 800)};
    c.lenses[0].radial[0] = 0.01;
    c.second_pose = Pose{{178, 1, 0}, Vec3(0, 0, -0.02)};
    shot.rig.cameras[0].pose.turn.yaw_deg = 10;
    take_calibration(shot, {"A", "B"}, c, {OriginKind::file, "pair.yml"});
    CHECK(shot.rig.cameras[0].lens.width == 800);
    CHECK(shot.rig.cameras[0].lens.radial[0] == 0.01);
    CHECK(shot.rig.cameras[1].pose.turn.yaw_deg == Approx(-172));
    CHECK(origin_of(shot.cameras[1], CameraValue::position) == Origin{OriginKind::file, "pair.yml"});
    CHECK(error_of([&] { take_calibration(shot, {"A"}, c, {}); }).find("2 lenses for 1") !=
          std::string::npos);
    CHECK(error_of([&] {
              take_calibration(shot, {"A", "Z"}, c, {});
          }).find("no camera 'Z'") != std::string::npos);
    c.lenses = {fisheye(640, 180)};
    c.second_pose.reset();
    CHECK(error_of([&] {
              take_calibration(shot, {"A"}, c, {OriginKind::file, "x.yml"});
          }).find("640 x 640") != std::string::npos);
}

TEST_CASE("the project's motion record moves with its movie") {
    const TempFolder folder;
    std::filesystem::create_directories(folder / "new");
    write_counting_movie(folder / "new/m.mp4", {.width = 64, .height = 64, .frames = 2, .sound = false});
    Project p;
    Shot shot = shot_for_rig(tiny_rig(), "s");
    const auto old = folder / "old/m.mp4";
    shot.cameras[0].media = add_media(p, {old, MediaKind::video, FrameRate(30)});
    shot.calibration.motion = MotionSource{old, Seconds(0), "A"};
    p.shots.push_back(shot);
    const Project moved = relinked(p, shot.cameras[0].media, folder / "new/m.mp4");
    CHECK(moved.shots[0].calibration.motion->path == folder / "new/m.mp4");
}

TEST_CASE("uneven terms and the pixel pitch survive the rig file, impossible ones are refused by path") {
    Rig rig = tiny_rig(400);
    rig.cameras[0].lens.non_radial = {1.01, 0.002, {0.01, 0, 0.0002}, {0.001, -0.002}, {0, 0.0001, 0, 0}};
    rig.cameras[0].lens.pixel_pitch_um = 2.4;
    REQUIRE(!fault_in(rig.cameras[0].lens));
    const std::string text = rig_to_text(rig);
    CHECK(parse_rig(text, "r") == rig);
    const auto with = [&](const std::string& from, const std::string& to) {
        std::string changed = text;
        const auto at = changed.find(from);
        REQUIRE(at != changed.npos);
        return error_of([&] { parse_rig(changed.replace(at, from.size(), to), "r"); });
    };
    CHECK(with("\"aspect\": 1.01", "\"aspect\": 9").find("/cameras/0/lens/aspect") != std::string::npos);
    CHECK(with("\"skew\": 0.002", "\"skew\": \"x\"").find("/cameras/0/lens/skew") != std::string::npos);
    CHECK(with("\"pixel_pitch_um\": 2.4", "\"pixel_pitch_um\": -1").find("pixel_pitch_um") !=
          std::string::npos);
}
