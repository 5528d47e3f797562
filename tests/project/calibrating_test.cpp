#include "project/project.h"
#include "support/support.h"

using namespace porb;
using namespace porb::test;

namespace {

Project full_project() {
    Project p;
    p.name = "calibrated";
    Shot s = shot_for_rig(tiny_rig(), "shot");
    ControlPoint a;
    a.id = 1, a.time = Rational(1, 3), a.a = "A", a.b = "B", a.a_px = {100.25, 60.5}, a.b_px = {300, 70.125},
    a.correlation = 0.97;
    ControlPoint b = a;
    b.id = 7, b.by_hand = true, b.dropped = {DropReason::residual, "3.10 px"};
    s.calibration.points = ControlPoints{a, b};
    LineMark line;
    line.id = 9, line.kind = LineKind::horizontal, line.camera = "B",
    line.places_px = {{300, 100}, {310, 140.5}};
    s.calibration.lines = {line};
    s.calibration.regions = {{true, "A", {{1, 2}, {30, 2}, {30, 40}}},
                             {false, "", {{170, -10}, {-170, -10}, {180, 20}}}};
    s.calibration.solving.samples = 7;
    s.calibration.solving.focal = Freedom::shared;
    s.calibration.solving.by_hand = {Rational(1, 7)};
    s.calibration.solving.limit_px = 1.25;
    KeptSolve k;
    k.id = 2, k.name = "Solve 2", k.rig = s.rig, k.rms_px = 0.31, k.points = 12;
    k.values = {{"A", "yaw", "deg", 1.5, 1.0, 0.01, true}, {"B", "x", "mm", 0, 0, 3, false}};
    s.calibration.solves = {k};
    s.levelling.orientation_keys = {{Seconds(1), {10, 0, 0}}, {Rational(5, 2), {20, 1, -1}}};
    Steady steady;
    steady.strength = 0.75, steady.follow_s = 1.5, steady.readout_s = 0.016, steady.step_s = 1 / 30.0;
    steady.path = std::vector<Vec3>{{0, 0, 0}, {0.01, -0.02, 0.005}};
    s.levelling.steady = steady;
    p.shots = {s};
    return p;
}

/// The project's text with one piece replaced, read again: the error it gives.
std::string refused(const std::string& from, const std::string& to) {
    std::string text = project_to_text(full_project(), "/tmp/p.porb");
    const auto at = text.find(from);
    REQUIRE(at != std::string::npos);
    text.replace(at, from.size(), to);
    return error_of([&] { parse_project(text, "/tmp/p.porb"); });
}

} // namespace

TEST_CASE("points, lines, regions, solves, keys and steadying survive a round trip") {
    const Project p = full_project();
    CHECK(parse_project(project_to_text(p, "/tmp/p.porb"), "/tmp/p.porb") == p);
}

TEST_CASE("why a point is left out is kept as words that earlier and later versions read") {
    for (const char* text :
         {"", "by hand", "moves", "residual too large: 3.10 px, the limit was 2.00 px",
          "its rays part: it would lie beyond infinity", "by hand: ", "a reason of tomorrow: 7"})
        CHECK(text_of(dropped_from(text)) == text);
    const Dropped earlier = dropped_from("misses by too much: 3.10 px");
    CHECK(earlier == Dropped{DropReason::residual, "3.10 px"});
    CHECK(dropped_from("a reason of tomorrow").reason == DropReason::other);
    CHECK(dropped_from("").empty());
}

TEST_CASE("copies of a project share their points until they are edited") {
    Project p = full_project(), q = p;
    CHECK(&*p.shots[0].calibration.points == &*q.shots[0].calibration.points);
    q.shots[0].calibration.points.edit([](ControlPoints& l) { l.pop_back(); });
    CHECK(p.shots[0].calibration.points->size() == 2);
    CHECK(q.shots[0].calibration.points->size() == 1);
    CHECK_FALSE(p == q);
}

TEST_CASE("damaged calibrations are refused by name") {
    CHECK(refused("\"horizontal\"", "\"slanted\"").find("vertical, horizontal, straight") !=
          std::string::npos);
    CHECK(refused("\"strength\": 0.75", "\"strength\": 3").find("/steady/strength") != std::string::npos);
    CHECK(refused("\"time_s\": 2.5", "\"time_s\": 0.5").find("in order of time") != std::string::npos);
    CHECK(refused("\"limit_px\": 1.25", "\"limit_px\": -1").find("/solving/limit_px") != std::string::npos);
}

TEST_CASE("files of lines are read, and others refused") {
    const char* good =
        R"({"format": "pale-orbit/lines", "lines": [{"kind": "vertical", "camera": "A", "places_px": [[1, 2], [3, 40]]}]})";
    const auto lines = parse_lines(good, "l.json");
    REQUIRE(lines.size() == 1);
    CHECK(lines[0].places_px[1] == Vec2(3, 40));
    CHECK(error_of([&] { parse_lines(R"({"format": "x", "lines": []})", "l.json"); }).find("list of lines") !=
          std::string::npos);
    CHECK(
        error_of([&] {
            parse_lines(
                R"({"format": "pale-orbit/lines", "lines": [{"kind": "vertical", "camera": "A", "places_px": [[1, 2]]}]})",
                "l.json");
        }).find("at least 2") != std::string::npos);
}

TEST_CASE("colours, matching and flow survive a round trip, and nonsense is refused by name") {
    Project p;
    Shot s = shot_for_rig(nominal_rig(3, 400, 400, 1, 200), "t");
    s.id = "shot-1";
    s.cameras[1].colour.gains = {{Seconds(0), {0.1, -0.2, 0.3}}, {Rational(1, 3), {0, 0.25, 0}}};
    s.cameras[1].colour.vignetting = {-0.1, -0.3};
    s.cameras[1].colour.tint_ev = -0.4;
    s.colour.match.reference = "B";
    s.colour.match.over_time = true;
    s.colour.match.apart_ev = 0.03;
    s.seams.flow.on = true;
    s.seams.flow.strength = 0.5, s.seams.flow.zone_deg = 20, s.seams.flow.nearest_m = 1.5,
    s.seams.flow.smoothness = 2;
    s.seams.flow.keys = {{Seconds(0), 0.2, 30, 1}, {Rational(4, 3), 1, 12, 2.5}};
    s.seams.flow.seams = {{"B", "A", 0.3, 8, 1.5, 4.0},
                          {"A", "C", 1, 14, 1, std::nullopt, {{Seconds(2), 0.5, 9, 3}}}};
    p.shots.push_back(s);
    const std::filesystem::path file = "/tmp/p.porb";
    const std::string text = project_to_text(p, file);
    const Project back = parse_project(text, file);
    CHECK(back.shots[0].cameras[1].colour == s.cameras[1].colour);
    CHECK(back.shots[0].cameras[0].colour == CameraColour{});
    CHECK(back.shots[0].colour.match == s.colour.match);
    CHECK(back.shots[0].seams.flow == s.seams.flow);

    const auto refused = [&](const std::string& from, const std::string& to) {
        std::string bad = text;
        const auto at = bad.find(from);
        REQUIRE(at != std::string::npos);
        bad.replace(at, from.size(), to);
        return error_of([&] { parse_project(bad, file); });
    };
    CHECK(refused("\"nearest_m\": 1.5", "\"nearest_m\": 0").find("flow/nearest_m") != std::string::npos);
    CHECK(refused("\"tint_ev\": -0.4", "\"tint_ev\": 99").find("cameras/1/colour/tint_ev") !=
          std::string::npos);
    CHECK(refused("\"1/3\"", "0").find("order of time") != std::string::npos);
}

TEST_CASE("blending, shapes and shelters survive a round trip, and broken ones are refused by name") {
    Project p;
    Shot s = shot_for_rig(nominal_rig(2, 400, 400, 1, 200), "t");
    s.id = "shot-1";
    s.seams.blend = {Blending::multiband, 8};
    Shape shape;
    shape.name = "pole", shape.restores = true, shape.feather_deg = 1.25;
    shape.keys = {{Seconds(0),
                   {{{0, 0}, {0, 0}, {0.1, 0}}, {{0.5, 0}, {0, 0}, {0, 0}}, {{0.5, 0.25}, {0, 0}, {0, 0}}}}};
    shape.keys.push_back(shape.keys[0]);
    shape.keys[1].time = Rational(7, 3);
    s.cameras[1].shapes = {shape};
    Shelter shelter;
    shelter.name = "keeper", shelter.camera = "B", shelter.from = Seconds(1), shelter.to = Rational(5, 2);
    shelter.keys = {{Seconds(1), 80, -10, 20, 45}};
    s.seams.shelters = {shelter};
    p.shots.push_back(s);
    const std::filesystem::path file = "/tmp/p.porb";
    const std::string text = project_to_text(p, file);
    const Project back = parse_project(text, file);
    CHECK(back.shots[0].seams.blend == s.seams.blend);
    CHECK(back.shots[0].seams.shelters == s.seams.shelters);
    CHECK(back.shots[0].cameras[1].shapes == s.cameras[1].shapes);
    CHECK(back.shots[0].cameras[0].shapes.empty());

    const auto refused = [&](auto damage) {
        Project broken = p;
        damage(broken.shots[0]);
        const std::string words = error_of([&] { validate(broken); });
        CHECK(error_of([&] { (void)project_to_text(broken, file); }) == words); // nothing of it is written
        return words;
    };
    const auto says = [](const std::string& error, const char* what) {
        return error.find(what) != std::string::npos;
    };
    CHECK(says(refused([](Shot& x) { x.cameras[1].shapes[0].keys[0].corners.resize(1); }),
               "has 1 corner: a shape needs 3 at least"));
    CHECK(says(refused([](Shot& x) { x.cameras[1].shapes[0].keys[1].corners.push_back({}); }),
               "shot t, camera B, shape pole, keys: differ in how many corners"));
    CHECK(says(refused([](Shot& x) { x.cameras[1].shapes[0].keys[1].time = Seconds(0); }), "order of time"));
    CHECK(says(refused([](Shot& x) { x.cameras[1].shapes[0].keys.clear(); }), "is empty"));
    CHECK(says(refused([](Shot& x) { x.seams.shelters[0].camera = "Q"; }),
               "names camera 'Q', which the rig has not"));
    CHECK(says(refused([](Shot& x) { x.seams.shelters[0].to = Seconds(0); }), "lies before from_s"));
    CHECK(says(refused([](Shot& x) { x.seams.shelters[0].keys[0].width_deg = 0; }),
               "shelter keeper, key 1, width: is 0"));
    CHECK(says(refused([](Shot& x) { x.seams.blend.widest_deg = 500; }), "blend, widest: is 500"));
}

TEST_CASE(
    "lines, crossings, grades, curves and denoising survive a round trip, and nonsense is refused by name") {
    Project p;
    MediaRef ref;
    ref.path = "/tmp/a.mp4";
    ref.curve = "film-log";
    add_media(p, ref);
    ref.path = "/tmp/b.mp4";
    ref.curve = kCurveFile + "/tmp/curves/b.clf";
    add_media(p, ref);
    Shot s = shot_for_rig(nominal_rig(2, 400, 400, 1, 200), "t");
    s.id = "shot-1";
    SeamLines lines;
    lines.on = false;
    lines.ease_s = 0.25;
    std::vector<std::uint8_t> who(std::size_t(SeamLines::kSide) * SeamLines::kSide, 0);
    for (std::size_t i = 500; i < 9000; ++i) who[i] = 1;
    who[77] = LineKey::kNobody;
    lines.keys.push_back({Seconds(0), who});
    who[12] = 1;
    lines.keys.push_back({Rational(1, 3), who});
    s.seams.seam_lines = lines;
    CrossingScan scan;
    scan.to = Seconds(4), scan.step_s = 0.1;
    Crossing c;
    c.id = "1", c.a = "A", c.b = "B", c.from = Rational(1, 2), c.to = Seconds(1);
    c.path = {{Rational(1, 2), 10, 5, 8, 20}, {Seconds(1), 14, 5, 9, 20}};
    c.apart_px = 21, c.visible_parallax_px = 0.5, c.resolution = CrossingResolution::shelter,
    c.shelter = "keeper", c.dismissed = true;
    scan.crossings = {c};
    s.seams.crossings = Shared(scan);
    s.look.grade.exposure_ev = 0.3, s.look.grade.lift = {0.01, 0, -0.02}, s.look.grade.contrast = 1.2,
    s.look.grade.on = false;
    s.look.grade.lut = "/tmp/looks/warm.cube", s.look.grade.lut_strength = 0.5;
    s.look.denoise = {true, 0.4, 0.2};
    p.shots.push_back(s);
    const std::filesystem::path file = "/tmp/p.porb";
    const std::string text = project_to_text(p, file);
    const Project back = parse_project(text, file);
    CHECK(back == p);
    CHECK(text.size() < 30000); // lines take little room

    const auto refused = [&](const std::string& from, const std::string& to) {
        std::string bad = text;
        const auto at = bad.find(from);
        REQUIRE(at != std::string::npos);
        bad.replace(at, from.size(), to);
        return error_of([&] { (void)parse_project(bad, file); });
    };
    CHECK(refused("a77.1", "a77x1").find("seam_lines") != std::string::npos);
    CHECK(refused("a77.1", "a77z1").find("names camera 26 of 2") != std::string::npos);
    CHECK(refused("a77.1", "a77[300]1").find("does not say who supplies what") != std::string::npos);
    CHECK(refused("a77.1", "a76.1").find("says who supplies 36863 of 36864") != std::string::npos);
    CHECK(refused("\"damage_px\": 0.5", "\"damage_px\": -3").find("damage_px") != std::string::npos);
    CHECK(refused("\"contrast\": 1.2", "\"contrast\": 0").find("contrast") != std::string::npos);
    CHECK(refused("\"over_time\": 0.4", "\"over_time\": 4").find("over_time") != std::string::npos);

    // Lines name cameras by number: another rig has none of them.
    Shot other = s;
    other.rig = nominal_rig(3, 400, 400, 1, 200);
    match_cameras_to_rig(other);
    CHECK(other.seams.seam_lines->keys.empty());
    Shot same = s;
    match_cameras_to_rig(same);
    CHECK(same.seams.seam_lines->keys.size() == 2);
}
