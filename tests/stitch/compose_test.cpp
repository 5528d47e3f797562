// What a composer keeps from picture to picture must never be seen: a warm one makes what a fresh one makes.
#include "media/still.h"
#include "picture/compare.h"
#include "project/orientation.h"
#include "stitch/compose.h"
#include "stitch/plan/coverage_report.h"
#include "support/support.h"

#include <atomic>
#include <cstring>
#include <functional>
#include <thread>

using namespace porb;
using namespace porb::test;

namespace {

/// A ring of four in the hall, small, each with stills or short sequences that drift from frame to frame.
struct SmallRing {
    TempFolder folder;
    Project project;
    View view;
    static constexpr int kFrames = 6, kSize = 200;

    SmallRing() {
        sim::SimOptions o;
        o.rig = sim::SimRig::ring_of_four;
        o.circle_size = kSize;
        const sim::Truth truth = sim::make_truth(o);
        sim::Hall hall;
        Shot shot = shot_for_rig(truth.actual, "ring");
        shot.timing.rate = FrameRate(4);
        shot.seams.agree_distance_m = 4;
        for (std::size_t c = 0; c < shot.cameras.size(); ++c) {
            const std::string name = "c" + std::to_string(c);
            const Picture still = sim::render_source(hall, o, truth, {c}, 0);
            for (int n = 0; n < kFrames; ++n) {
                Picture p(still.width(), still.height());
                for (int y = 0; y < p.height(); ++y)
                    for (int x = 0; x < p.width(); ++x) {
                        const Rgba v = pixel_at(still, x, y);
                        set_pixel(p, x, y, {v.r, v.g, v.b * (1 - 0.02f * float(n)), 1});
                    }
                write_still(p, folder / (name + ".000" + std::to_string(n) + ".png"), {8, 95, {}});
            }
            MediaRef ref;
            ref.path = folder / (name + ".%04d.png");
            ref.kind = MediaKind::sequence;
            ref.sequence_rate = FrameRate(4);
            shot.cameras[c].media = add_media(project, ref);
        }
        project.shots.push_back(std::move(shot));
        view.target = equirect_target(256);
        view.filter = Filter::linear;
    }
    Shot& shot() { return project.shots[0]; }
    Picture made_by(Composer& composer, Seconds time = Seconds(0)) {
        return composer.compose(project, shot(), time, view);
    }
};

bool same(const Picture& a, const Picture& b) {
    if (a.width() != b.width() || a.height() != b.height()) return false;
    for (int y = 0; y < a.height(); ++y)
        if (std::memcmp(a.row(y), b.row(y), std::size_t(a.width()) * 4 * sizeof(Half)) != 0) return false;
    return true;
}

Shape triangle(bool restores) {
    Shape s;
    s.name = "triangle";
    s.restores = restores;
    ShapeKey key;
    for (const Vec2& at : {Vec2(0.2, -0.5), Vec2(0.8, 0.1), Vec2(0.3, 0.6)}) {
        key.corners.emplace_back();
        key.corners.back().at = at;
    }
    s.keys = {key};
    return s;
}

/// Who supplies what, by halves of the sphere's square.
SeamLines halves() {
    SeamLines lines;
    std::vector<std::uint8_t> who(std::size_t(SeamLines::kSide * SeamLines::kSide));
    for (std::size_t i = 0; i < who.size(); ++i)
        who[i] = std::uint8_t(i % SeamLines::kSide < SeamLines::kSide / 2 ? 0 : 1);
    lines.keys = {{Seconds(0), who}};
    return lines;
}

} // namespace

TEST_CASE("a composer that has made much makes what a fresh one makes, whatever was decided between",
          "[slow]") {
    SmallRing ring;
    const Blending blending = GENERATE(Blending::feathered, Blending::multiband);
    ring.shot().seams.flow.on = true;
    ring.shot().seams.blend.kind = blending;
    const std::pair<const char*, std::function<void(Shot&)>> edits[] = {
        {"a lens", [](Shot& s) { s.rig.cameras[1].lens.focal_px *= 1.02; }},
        {"a pose", [](Shot& s) { s.rig.cameras[2].pose.turn.yaw_deg += 2; }},
        {"a place", [](Shot& s) { s.rig.cameras[2].pose.position_m.x() += 0.02; }},
        {"upright",
         [](Shot& s) {
             s.levelling.orientation = {10, 4, -3};
         }},
        {"reach", [](Shot& s) { s.cameras[0].reach_deg = 60; }},
        {"feather", [](Shot& s) { s.cameras[1].feather_deg = 9; }},
        {"an offset", [](Shot& s) { s.cameras[3].offset = Rational(1, 2); }},
        {"a trim", [](Shot& s) { s.cameras[1].colour.exposure_ev = 0.8; }},
        {"a falloff",
         [](Shot& s) {
             s.cameras[1].colour.vignetting = {-0.3, 0};
         }},
        {"colours as shot", [](Shot& s) { s.colour.match.on = false; }},
        {"the agree distance", [](Shot& s) { s.seams.agree_distance_m = 1.5; }},
        {"flow's strength", [](Shot& s) { s.seams.flow.strength = 0.4; }},
        {"its zone", [](Shot& s) { s.seams.flow.zone_deg = 8; }},
        {"its smoothness", [](Shot& s) { s.seams.flow.smoothness = 3; }},
        {"the nearest", [](Shot& s) { s.seams.flow.nearest_m = 2; }},
        {"a seam's own",
         [](Shot& s) {
             s.seams.flow.seams = {{"A", "B", 0.2, 16, 1, 9.0}};
         }},
        {"a key of strength",
         [](Shot& s) {
             s.seams.flow.keys = {{Seconds(0), 0.1}};
         }},
        {"a cut-out", [](Shot& s) { s.cameras[0].shapes = {triangle(false)}; }},
        {"its edge", [](Shot& s) { s.cameras[0].shapes[0].feather_deg = 8; }},
        {"a restore", [](Shot& s) { s.cameras[0].shapes.push_back(triangle(true)); }},
        {"a shelter",
         [](Shot& s) {
             s.seams.shelters = {{"s", "A", {}, true, {}, {}, 0.5, 2, {{Seconds(0), 45, 0, 30, 40}}}};
         }},
        {"its camera", [](Shot& s) { s.seams.shelters[0].camera = "B"; }},
        {"lines", [](Shot& s) { s.seams.seam_lines = halves(); }},
        {"no lines", [](Shot& s) { s.seams.seam_lines.edit([](SeamLines& l) { l.on = false; }); }},
        {"a grade", [](Shot& s) { s.look.grade.exposure_ev = 0.5; }},
        {"denoising", [](Shot& s) { s.look.denoise.on = true; }},
        {"how much", [](Shot& s) { s.look.denoise.in_frame = 0.9; }},
        {"a camera out of use", [](Shot& s) { s.cameras[2].used = false; }},
        {"no flow", [](Shot& s) { s.seams.flow.on = false; }},
        {"hard lines", [](Shot& s) { s.seams.blend.kind = Blending::hard; }},
    };
    ring.shot().seams.flow.everywhere = false; // so that its zone shows
    Composer warm(std::make_shared<MediaLibrary>());
    Picture before = ring.made_by(warm);
    const Picture first = before;
    const Shot began = ring.shot();
    for (const auto& [what, edit] : edits) {
        INFO(what);
        edit(ring.shot());
        Composer fresh(std::make_shared<MediaLibrary>());
        const Picture now = ring.made_by(warm);
        CHECK(same(now, ring.made_by(fresh)));
        // The edit shows, else the comparison would say nothing; multiband has no feather.
        CHECK(same(now, before) == (what == std::string("feather") && blending == Blending::multiband));
        CHECK(same(now, ring.made_by(warm)));
        before = now;
    }
    ring.shot() = began;
    CHECK(same(ring.made_by(warm), first));
}

TEST_CASE("a frame is the same whatever was looked at before it, and whoever else looks meanwhile",
          "[slow]") {
    SmallRing ring;
    ring.shot().seams.flow.on = true;
    std::vector<Picture> alone;
    for (int n = 0; n < SmallRing::kFrames; ++n) {
        Composer fresh(std::make_shared<MediaLibrary>());
        alone.push_back(ring.made_by(fresh, Rational(n, 4)));
    }
    CHECK_FALSE(same(alone[0], alone[5]));
    Composer shared(std::make_shared<MediaLibrary>(std::size_t(1) << 20)); // too small to keep much
    for (const int n : {5, 0, 3, 3, 1, 4, 2, 0, 5})
        CHECK(same(ring.made_by(shared, Rational(n, 4)), alone[std::size_t(n)]));

    // Several threads, each with an order and sizes of its own; Catch2's checks are the main thread's alone.
    Composer busy(std::make_shared<MediaLibrary>());
    std::atomic<int> wrong = 0;
    std::vector<std::thread> threads;
    for (int t = 0; t < 4; ++t)
        threads.emplace_back([&, t] {
            Project project = ring.project;
            for (int i = 0; i < SmallRing::kFrames; ++i) {
                const int n = (i * (t % 2 ? 5 : 1) + t) % SmallRing::kFrames;
                View other = ring.view;
                other.target = equirect_target(96 + 32 * t);
                busy.compose(project, project.shots[0], Rational(n, 4), other);
                if (!same(busy.compose(project, project.shots[0], Rational(n, 4), ring.view),
                          alone[std::size_t(n)]))
                    ++wrong;
            }
        });
    for (auto& t : threads) t.join();
    CHECK(wrong == 0);
}

TEST_CASE("what one sees of a moment depends on its sources alone") {
    SmallRing ring;
    Composer composer(std::make_shared<MediaLibrary>());
    ring.shot().seams.flow.on = true;
    ring.shot().seams.flow.everywhere = false;
    PlanKey key = for_every_view(plan_key(ring.shot(), ring.view));
    const SeamZones zones(key);
    REQUIRE(zones.cameras().size() == 4);
    const auto seen = composer.source_frames(ring.project, ring.shot(), Seconds(0), zones.cameras());
    REQUIRE(seen);
    CHECK(seen->sources.size() == 4);
    CHECK(seen->tones.size() == 4);
    CHECK_FALSE(
        composer.source_frames(ring.project, ring.shot(), Seconds(9), zones.cameras())); // after their end

    // Distances and trust are for shots with flow, and cover the same sphere.
    const SphereGrid found = composer.distances(ring.project, ring.shot(), Seconds(0)),
                     trusted = composer.confidence(ring.project, ring.shot(), Seconds(0));
    REQUIRE_FALSE(found.empty());
    REQUIRE_FALSE(trusted.empty());
    int near = 0, wrong = 0;
    for (int y = 0; y < trusted.side; ++y)
        for (int x = 0; x < trusted.side; ++x) {
            const float trust = *trusted.cell(x, y); // -1 away from seams
            near += trust >= 0;
            wrong += trust != -1 && !(trust >= 0 && trust <= 1);
        }
    CHECK(near > 1000);
    CHECK(near < trusted.side * trusted.side);
    CHECK(wrong == 0);
    // When one source has ended the others go on without it.
    ring.shot().cameras[3].offset = Rational(1);
    const Picture without = ring.made_by(composer, Rational(3, 4));
    ring.shot().cameras[3].used = false;
    CHECK(same(without, ring.made_by(composer, Rational(3, 4))));
    ring.shot().seams.flow.on = false;
    CHECK(composer.distances(ring.project, ring.shot(), Seconds(0)).empty());
    CHECK(composer.confidence(ring.project, ring.shot(), Seconds(0)).empty());
}

TEST_CASE("only sources that a view shows are read") {
    SmallRing ring;
    ring.shot().seams.flow.on = false;
    Composer composer(std::make_shared<MediaLibrary>());
    const auto read = [&] {
        std::vector<std::size_t> cameras;
        for (const auto& r : composer.reads_of(ring.project, ring.shot(), Seconds(0), ring.view))
            cameras.push_back(r.camera);
        return cameras;
    };
    CHECK(read() == std::vector<std::size_t>{0, 1, 2, 3});
    ring.view.target = window_target(160, 100, {}, 60);
    const std::vector<std::size_t> ahead = read();
    REQUIRE(ahead.size() < 4);
    const Picture before = ring.made_by(composer);
    const auto whole = [&](Composer& by) {
        View map = ring.view;
        map.target = equirect_target(256);
        return by.compose(ring.project, ring.shot(), Seconds(0), map);
    };
    const Picture sphere = whole(composer);
    // What it does not show may be anything.
    for (std::size_t c = 0; c < 4; ++c)
        if (std::find(ahead.begin(), ahead.end(), c) == ahead.end()) {
            const std::string name = "c" + std::to_string(c);
            std::filesystem::copy_file(ring.folder / (name + ".0005.png"), ring.folder / (name + ".0000.png"),
                                       std::filesystem::copy_options::overwrite_existing);
        }
    Composer fresh(std::make_shared<MediaLibrary>());
    CHECK(same(before, ring.made_by(fresh)));
    CHECK_FALSE(same(sphere, whole(fresh)));
}

TEST_CASE("a time a hair beside a frame's own is that frame's, picture and turn alike") {
    const TempFolder folder;
    const CountingMovie movie{.width = 256, .height = 128, .frames = 12};
    write_counting_movie(folder / "c.mp4", movie);
    Project project;
    Shot shot = shot_for_rig(tiny_rig(128), "t");
    shot.seams.flow.on = false;
    for (auto& c : shot.cameras)
        c.media = add_media(project, {folder / "c.mp4", MediaKind::video, FrameRate(30)}), c.reach_deg = 60;
    shot.levelling.orientation_keys = {{Seconds(0), {0, 0, 0}}, {Seconds(1), {300, 0, 0}}};
    project.shots = {shot};
    Composer composer(std::make_shared<MediaLibrary>());
    View view;
    view.target = equirect_target(128);
    view.filter = Filter::linear;
    const Picture exact = composer.compose(project, shot, Rational(7, 30), view);
    for (const char* typed : {"0.2333333", "0.2333334", "0.23345"})
        CHECK(psnr_db(composer.compose(project, shot, Rational::parse(typed, "t"), view), exact) == 200);
    CHECK(psnr_db(composer.compose(project, shot, Rational::parse("0.2320", "t"), view), exact) < 60);
    // A source that began half a frame earlier shows the frame that was taken half a frame earlier, from
    // where the rig was then.
    shot.cameras[1].offset = Rational(1, 60);
    PlanKey key = plan_key(shot, view, Rational(7, 30));
    set_taken(key, shot, Rational(7, 30), {Rational(7, 30), Rational(7, 30) - Rational(1, 60)});
    const Mat3 drawn = rotation_of(key.orientation) * rotation_of(key.cameras[1].pose.turn);
    const Mat3 meant = orientation_at(shot, Rational(13, 60)) * rotation_of(shot.rig.cameras[1].pose.turn);
    CHECK((drawn - meant).norm() < 1e-9);
    CHECK(key.cameras[0].pose == shot.rig.cameras[0].pose);
}

TEST_CASE("a composer stops when it is told to") {
    const TempFolder folder;
    const StillTake take = ring_still(folder, 96);
    Composer composer(std::make_shared<MediaLibrary>());
    View view;
    view.target = equirect_target(512);
    const Cancel cancel;
    cancel.raise();
    CHECK_THROWS_AS(composer.compose(take.project, take.project.shots[0], Seconds(0), view, cancel),
                    Cancelled);
    CHECK(composer.compose(take.project, take.project.shots[0], Seconds(0), view).width() == 512);
}

TEST_CASE("lenses that only just meet are told of, with the reach that closes the line") {
    Shot shot = shot_for_rig(nominal_rig(2, 400, 400, 1, 200), "pair");
    CHECK_FALSE(hairline(shot));
    for (auto& c : shot.cameras) c.reach_deg = 90;
    const auto line = hairline(shot);
    REQUIRE(line);
    REQUIRE(line->reach_deg);
    CHECK(*line->reach_deg == 90.5);
    CHECK(std::abs(line->at.z()) < 0.01); // where both end
    CHECK(words_of(*line).find(" only just meet (yaw ") != std::string::npos);
    for (auto& c : shot.cameras) c.reach_deg = 90.1;
    CHECK_FALSE(hairline(shot));
    for (auto& c : shot.cameras) c.reach_deg = 80; // a wide hole, of which others tell
    CHECK_FALSE(hairline(shot));
    shot.rig = nominal_pair(800, 400, 2, 200);
    CHECK_FALSE(hairline(shot)); // half a sphere is all it is for
}

TEST_CASE("a small hole at a pole is told, with the reach that closes it") {
    Shot shot = shot_for_rig(nominal_rig(6, 400, 400, 1, 200), "ring");
    CHECK(pole_holes(shot).empty());
    for (auto& c : shot.cameras) c.reach_deg = 88;
    const auto holes = pole_holes(shot);
    REQUIRE(holes.size() == 2);
    CHECK(holes[0].below);
    CHECK(holes[0].radius_deg > 1);
    CHECK(holes[0].radius_deg < 4);
    REQUIRE(holes[0].reach_deg);
    for (auto& c : shot.cameras) c.reach_deg = *holes[0].reach_deg;
    CHECK(pole_holes(shot).empty());
    CHECK(words_of(holes[0]).find("about the nadir are seen by no lens: a reach of") != std::string::npos);
}
