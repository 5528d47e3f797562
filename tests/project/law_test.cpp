// What may be in a project: random projects of allowed values survive their file to the byte, and nothing
// else is ever written.
#include "base/file.h"
#include "project/fields_project.h"
#include "project/rig_change.h"
#include "support/field_filler.h"
#include "support/support.h"

using namespace porb;
using namespace porb::test;

namespace {

Shelter shelter(std::string name, std::string camera) {
    Shelter s;
    s.name = std::move(name), s.camera = std::move(camera);
    s.keys.resize(1);
    return s;
}

template <class Key>
void in_order(std::vector<Key>& keys) {
    for (std::size_t i = 0; i < keys.size(); ++i) keys[i].time = Rational(int(i) * 7 - 3, 3);
}

/// A shot of a real rig, everything else random within what is allowed.
Shot random_shot(std::mt19937& random, int cameras, int number) {
    Shot s;
    FieldFiller fill(random);
    fields(fill, s);
    const Shot usual = shot_for_rig(nominal_rig(cameras, 400, 400, 1, 200), "x");
    const auto any = [&] { return usual.rig.cameras[random() % std::size_t(cameras)].id; };
    s.id = "shot-" + std::to_string(number);
    s.rig = usual.rig;
    if (s.calibration.profile) s.calibration.profile = usual.rig;
    std::vector<ShotCamera> uses = usual.cameras;
    for (std::size_t i = 0; i < uses.size(); ++i) {
        fields(fill, uses[i]);
        uses[i].camera = usual.rig.cameras[i].id;
        uses[i].media = random() & 1 ? "m" : "";
        in_order(uses[i].colour.gains);
        for (auto& shape : uses[i].shapes) {
            if (shape.distance) shape.restores = false;
            if (shape.keys.empty()) shape.keys.resize(1);
            in_order(shape.keys);
            for (auto& k : shape.keys) k.corners.resize(4, {{0.5, 3}, {-3, 0}, {0, 0}});
        }
    }
    s.cameras = uses;
    if (s.timing.out) s.timing.in = Rational(-1, 3), s.timing.out = Rational(1001, 30000);
    if (s.calibration.motion && s.calibration.motion->path.empty()) s.calibration.motion.reset();
    if (s.calibration.motion) s.calibration.motion->camera.clear();
    std::stable_sort(s.timing.markers.begin(), s.timing.markers.end(),
                     [](const Marker& a, const Marker& b) { return a.time < b.time; });
    in_order(s.levelling.orientation_keys);
    s.calibration.points.edit([&](ControlPoints& list) {
        for (std::size_t i = 0; i < list.size(); ++i)
            list[i].id = int(i), list[i].a = usual.rig.cameras[0].id, list[i].b = usual.rig.cameras[1].id;
    });
    for (auto& l : s.calibration.lines) l.camera = any(), l.places_px.resize(3, Vec2(0, 0));
    for (auto& r : s.calibration.regions)
        r.camera = random() & 1 ? any() : "", r.corners.resize(3, Vec2(0, 0));
    for (auto& k : s.calibration.solves) k.rig = usual.rig;
    s.colour.match.reference = any();
    in_order(s.seams.flow.keys);
    s.seams.flow.seams.resize(std::min<std::size_t>(s.seams.flow.seams.size(), 1));
    for (auto& seam : s.seams.flow.seams)
        seam.a = usual.rig.cameras[1].id, seam.b = usual.rig.cameras[0].id, in_order(seam.keys);
    for (auto& shelter : s.seams.shelters) {
        shelter.camera = random() & 1 ? any() : "";
        if (shelter.from && shelter.to) shelter.to = *shelter.from;
        if (shelter.keys.empty()) shelter.keys.resize(1);
        in_order(shelter.keys);
    }
    s.seams.seam_lines.edit([&](SeamLines& lines) {
        in_order(lines.keys);
        std::vector<std::uint8_t> who(std::size_t(SeamLines::kSide) * SeamLines::kSide);
        for (std::size_t i = 0; i < who.size(); ++i)
            who[i] = i % 5000 < 2 ? LineKey::kNobody : std::uint8_t(i / 600 % std::size_t(cameras));
        for (auto& k : lines.keys) k.who = who;
    });
    for (std::size_t i = 0; i < s.patches.size(); ++i) {
        Patch& patch = s.patches[i];
        patch.media = random() & 1 ? "m" : "";
        if (patch.from && patch.to) patch.to = *patch.from;
        if (patch.keys.empty()) patch.keys.resize(1);
        in_order(patch.keys);
        in_order(patch.light);
    }
    in_order(s.stereo.keys);
    s.stereo.merge_to_deg = std::max(1.0, s.stereo.merge_to_deg);
    s.stereo.merge_from_deg = std::min(s.stereo.merge_from_deg, s.stereo.merge_to_deg / 2);
    if (s.seams.crossings) {
        CrossingScan scan = **s.seams.crossings;
        for (auto& c : scan.crossings) {
            c.a = any(), c.b = any(), c.to = c.from;
            if (c.path.empty()) c.path.resize(1);
            in_order(c.path);
        }
        s.seams.crossings = Shared(scan);
    }
    return s;
}

Project random_project(unsigned seed) {
    std::mt19937 random(seed);
    FieldFiller fill(random);
    Project p;
    fields(fill, p);
    p.media.resize(1);
    p.media[0].id = "m";
    if (p.media[0].ref.path.empty()) p.media[0].ref.path = "/tmp/m.mp4";
    p.media[0].ref.kind = MediaKind::video;
    p.shots = {random_shot(random, seed % 7 == 0 ? kMostCameras : 2 + int(seed % 4), 0),
               random_shot(random, 2, 1)};
    for (std::size_t i = 0; i < p.deliverables.size(); ++i) {
        Deliverable& d = p.deliverables[i];
        d.id = "d" + std::to_string(i), d.shot = p.shots[0].id;
        d.depth = d.depth == 9 ? 10 : d.depth, d.width &= ~3;
        if (d.stereo == EyeLayout::views) d.container = Container::exr_sequence;
    }
    return p;
}

/// Adds a member that nobody knows to every object of a document.
std::size_t add_unknown(Json& j) {
    std::size_t added = 0;
    for (auto& child : j) // of objects and of lists
        if (child.is_structured()) added += add_unknown(child);
    if (!j.is_object()) return added;
    j["not_yet_invented"] = added;
    return added + 1;
}

} // namespace

TEST_CASE("random projects of allowed values are saved, read and saved again to the same bytes") {
    const TempFolder folder;
    const auto file = folder / "p.porb";
    for (unsigned seed = 0; seed < 60; ++seed) {
        const Project p = random_project(seed);
        INFO("seed " << seed);
        REQUIRE_NOTHROW(validate(p));
        const std::string text = project_to_text(p, file);
        const Project back = parse_project(text, file);
        CHECK(back == p);
        REQUIRE(project_to_text(back, file) == text);
    }
}

TEST_CASE("the demo projects are saved as they were read") {
    for (const char* name : {"dual", "pair", "ring"}) {
        const auto file = source_folder() / "demo" / name / (std::string("hall_") + name + ".porb");
        const std::string text = project_to_text(load_project(file), file);
        CHECK(project_to_text(parse_project(text, file), file) == text);
    }
}

TEST_CASE("unknown members of every object survive") {
    const std::filesystem::path file = "/tmp/p.porb";
    for (const unsigned seed : {1u, 2u, 3u, 4u, 5u, 6u}) {
        Json document = parse_json(project_to_text(random_project(seed), file), "p");
        const std::size_t added = add_unknown(document);
        const Json again = parse_json(project_to_text(parse_project(document.dump(), file), file), "p");
        CHECK(added > 30);
        CHECK(again == document);
    }
}

TEST_CASE("no value out of its range, and nothing that is no number, is ever written") {
    // Each number of a project in turn becomes one that is not allowed.
    const std::filesystem::path file = "/tmp/p.porb";
    const Project good = random_project(11);
    const double kBad[] = {std::nan(""), INFINITY, -INFINITY, 1e308};
    int tried = 0;
    const auto refused = [&](const std::function<void(Shot&, double)>& set) {
        for (const double bad : kBad) {
            Project p = good;
            set(p.shots[0], bad);
            CHECK_THROWS_AS(validate(p), Error);
            CHECK_THROWS_AS(validate(p, &good), Error);
            CHECK_THROWS_AS(project_to_text(p, file), Error);
            ++tried;
        }
    };
    refused([](Shot& s, double v) { s.levelling.orientation.yaw_deg = v; });
    refused([](Shot& s, double v) { s.seams.agree_distance_m = v; });
    refused([](Shot& s, double v) { s.look.grade.exposure_ev = v; });
    refused([](Shot& s, double v) { s.look.grade.lift[1] = v; });
    refused([](Shot& s, double v) { s.seams.flow.zone_deg = v; });
    refused([](Shot& s, double v) { s.look.denoise.in_frame = v; });
    refused([](Shot& s, double v) { s.cameras[0].reach_deg = v; });
    refused([](Shot& s, double v) { s.cameras[1].colour.vignetting[0] = v; });
    refused([](Shot& s, double v) { s.rig.cameras[0].pose.position_m.y() = v; });
    refused([](Shot& s, double v) { s.rig.cameras[0].lens.focal_px = v; });
    refused([](Shot& s, double v) { s.calibration.solving.limit_px = v; });
    refused([](Shot& s, double v) {
        ControlPoint p;
        p.id = 99, p.a = s.rig.cameras[0].id, p.b = s.rig.cameras[1].id, p.a_px.x() = v;
        s.calibration.points.edit([&](ControlPoints& list) { list.push_back(p); });
    });
    refused([](Shot& s, double v) { s.seams.shelters = {shelter("x", "")}, s.seams.shelters[0].ease_s = v; });
    refused([](Shot& s, double v) {
        ShapeKey k;
        k.corners = {{{0, 0}, {0, 0}, {0, 0}}, {{1, 0}, {0, 0}, {0, 0}}, {{v, 1}, {0, 0}, {0, 0}}};
        s.cameras[0].shapes = {Shape{"x", false, true, std::nullopt, 2, {k}}};
    });
    const auto of_patch = [&](const std::function<void(Patch&, double)>& set) {
        refused([&](Shot& s, double v) {
            Patch patch;
            patch.keys.resize(1);
            set(patch, v);
            s.patches = {patch};
        });
    };
    of_patch([](Patch& p, double v) { p.keys[0].width_deg = v; });
    of_patch([](Patch& p, double v) { p.distance_m = v; });
    of_patch([](Patch& p, double v) {
        p.light = {PatchLightKey{Seconds(0), Vec3(1, v, 1), Vec3::Zero(), {}}};
    });
    of_patch([](Patch& p, double v) { p.shadows = v; });
    CHECK(tried == 72);
    const auto says = [&](const std::function<void(Project&)>& change) {
        Project p = good;
        change(p);
        return error_of([&] { validate(p, &good); });
    };
    CHECK(says([](Project& p) {
              Patch patch;
              patch.name = "ground", patch.keys.resize(1), patch.resolution = 256,
              patch.mask = whole_mask(128);
              p.shots[1].patches = {patch};
              p.shots[1].name = "hall";
          }).starts_with("shot hall, patch ground, mask: is not of the patch's resolution"));
    // In words, not by path: what is shown where it was edited.
    CHECK(says([](Project& p) { p.shots[1].name = "hall", p.shots[1].cameras[1].feather_deg = 91; }) ==
          "shot hall, camera B, feather: is 91. It must be between 0 and 90.");
    CHECK(says([](Project& p) {
              p.shots[1].seams.shelters = {shelter(std::string(300, 'x'), "")};
          }).find("At most 256") != std::string::npos);
    CHECK(says([](Project& p) { p.shots[1].name = "caf\xe9"; }).find("is not text") != std::string::npos);
}

TEST_CASE("another rig takes along what names its cameras, and says what it drops") {
    Shot s = shot_for_rig(nominal_rig(3, 400, 400, 1, 200), "x");
    s.cameras[0].media = "a", s.cameras[1].media = "b", s.cameras[2].media = "c";
    s.cameras[1].shapes = {
        Shape{"pole", false, true, std::nullopt, 2, {ShapeKey{Seconds(0), {{{0, 0}, {0, 0}, {0, 0}}}}}}};
    ControlPoint ab, bc;
    ab.id = 1, ab.a = "A", ab.b = "B";
    bc.id = 2, bc.a = "B", bc.b = "C";
    s.calibration.points = ControlPoints{ab, bc};
    s.calibration.lines = {LineMark{1, LineKind::vertical, Seconds(0), "C", {{1, 1}, {2, 2}}}};
    s.calibration.regions = {{true, "C", {}}, {true, "", {}}};
    s.seams.shelters = {shelter("keeper", "C")};
    s.seams.flow.seams.resize(2);
    s.seams.flow.seams[0].a = "A", s.seams.flow.seams[0].b = s.seams.flow.seams[1].a = "B",
    s.seams.flow.seams[1].b = "C";
    s.colour.match.reference = "C";
    SeamLines lines;
    lines.keys = {
        {Seconds(0), std::vector<std::uint8_t>(std::size_t(SeamLines::kSide) * SeamLines::kSide, 1)}};
    s.seams.seam_lines = lines;
    CrossingScan scan;
    Crossing x, y;
    x.a = "A", x.b = "B", y.a = "C", y.b = "A";
    scan.crossings = {x, y};
    s.seams.crossings = Shared(scan);
    KeptSolve solve;
    solve.rig = s.rig;
    s.calibration.solves = {solve};

    SECTION("the same cameras under other names") {
        Rig next = s.rig;
        next.cameras[0].id = "front", next.cameras[1].id = "right";
        const auto words = change_rig(s, next);
        REQUIRE(words.size() == 2);
        CHECK(words[0] == "camera A is now front");
        CHECK(s.cameras[0].media == "a");
        CHECK(s.cameras[1].shapes.size() == 1);
        CHECK((*s.calibration.points)[0].a == "front");
        CHECK((*s.calibration.points)[1].b == "C");
        CHECK(s.seams.flow.seams[1].a == "right");
        CHECK((*s.seams.crossings)->crossings[0].b == "right");
        CHECK(s.calibration.solves[0].rig.cameras[1].id == "right");
        CHECK(s.seams.seam_lines->keys.size() == 1);
        CHECK(s.calibration.lines.size() == 1);
    }
    SECTION("in another order") {
        Rig next = s.rig;
        std::swap(next.cameras[0], next.cameras[1]);
        CHECK(change_rig(s, next).empty());
        CHECK(s.cameras[0].media == "b");
        CHECK(s.seams.seam_lines->keys[0].who->front() == 0); // B, which is the first now
        CHECK((*s.calibration.points)[0].a == "A");
    }
    SECTION("one fewer") {
        Rig next = s.rig;
        next.cameras.pop_back();
        const auto words = change_rig(s, next);
        CHECK(s.cameras.size() == 2);
        CHECK(s.calibration.points->size() == 1);
        CHECK(s.calibration.lines.empty());
        CHECK(s.calibration.regions.size() == 1);
        CHECK(s.seams.shelters[0].camera.empty());
        CHECK(s.seams.flow.seams.size() == 1);
        CHECK(s.colour.match.reference.empty());
        CHECK((*s.seams.crossings)->crossings.size() == 1);
        CHECK(s.calibration.solves.empty());
        CHECK(s.seams.seam_lines->keys.size() == 1);
        CHECK(words.size() == 9);
    }
    SECTION("of other pictures") {
        change_rig(s, nominal_rig(3, 800, 800, 1, 200));
        CHECK(s.calibration.points->empty());
        CHECK(s.cameras[0].media.empty());
        CHECK(s.seams.seam_lines->keys.empty());
    }
}

TEST_CASE("what earlier versions saved of cameras that are gone is left out and told") {
    Project p;
    Shot s = shot_for_rig(nominal_rig(2, 400, 400, 1, 200), "t");
    s.id = "shot-1";
    ControlPoint a;
    a.id = 1, a.a = "A", a.b = "B";
    s.calibration.points = ControlPoints{a};
    p.shots = {s};
    std::string text = project_to_text(p, "/tmp/p.porb");
    const auto at = text.find("1 0 A 0 0 B 0 0");
    REQUIRE(at != std::string::npos);
    text.replace(at, 15, "1 0 A 0 0 Q 0 0");
    std::vector<std::string> remarks;
    CHECK(parse_project(text, "/tmp/p.porb", &remarks).shots[0].calibration.points->empty());
    REQUIRE(remarks.size() == 1);
    CHECK(remarks[0].find("1 control point is dropped") != std::string::npos);
}

TEST_CASE("points written as lists by earlier versions are read") {
    Project p;
    Shot s = shot_for_rig(nominal_rig(2, 400, 400, 1, 200), "t");
    s.id = "shot-1";
    ControlPoint a;
    a.id = 3, a.time = Rational(1, 3), a.a = "A", a.b = "B", a.a_px = {1.5, 2}, a.by_hand = true,
    a.correlation = 0.5;
    a.dropped.reason = DropReason::residual;
    s.calibration.points = ControlPoints{a};
    p.shots = {s};
    std::string text = project_to_text(p, "/tmp/p.porb");
    const std::string row = "\"3 1/3 A 1.5 2 B 0 0 1 0.5 residual too large\"";
    const auto at = text.find(row);
    REQUIRE(at != std::string::npos);
    text.replace(at, row.size(), R"([3, "1/3", "A", 1.5, 2, "B", 0, 0, true, 0.5, "misses by too much"])");
    CHECK(parse_project(text, "/tmp/p.porb") == p);
}
