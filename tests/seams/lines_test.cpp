#include "base/angle.h"
#include "media/sequence.h"
#include "media/still.h"
#include "picture/compare.h"
#include "seams/crossings.h"
#include "seams/find_lines.h"
#include "stitch/plan/coverage.h"
#include "stitch/plan/line_field.h"
#include "stitch/source/denoise.h"
#include "stitch/source/noise_look.h"
#include "support/support.h"

#include <random>

using namespace porb;
using namespace porb::test;

namespace {

/// Who supplies each cell, by a rule on its direction.
template <class Rule>
std::vector<std::uint8_t> labels(const Rule& rule) {
    constexpr int n = SeamLines::kSide;
    std::vector<std::uint8_t> who;
    for (int y = 0; y < n; ++y)
        for (int x = 0; x < n; ++x) who.push_back(rule(octahedral_direction({(x + 0.5) / n, (y + 0.5) / n})));
    return who;
}

/// Two lenses of 200 degrees back to back, so that their overlap is a band all round.
Shot pair_shot() {
    Rig rig = nominal_rig(2, 400, 400, 1, 200);
    rig.cameras[0].pose.position_m = {0, 0, 0.05};
    rig.cameras[1].pose.position_m = {0, 0, -0.05};
    Shot shot = shot_for_rig(rig, "t");
    for (auto& c : shot.cameras) c.media = "m";
    return shot;
}

View map_view(int width) {
    View v;
    v.target = equirect_target(width);
    return v;
}

double weight_at(const BlendPlan& plan, std::size_t camera, const Vec3& d) {
    const int px = std::clamp(int((std::atan2(d.x(), d.z()) / (2 * kPi) + 0.5) * plan.width), 0,
                              plan.width - 1),
              py = std::clamp(int((0.5 + std::asin(d.y()) / kPi) * plan.height), 0, plan.height - 1);
    const Segment& s = plan.segments[std::size_t(py * plan.segments_per_row + px / kSegment)];
    for (std::uint32_t k = 0; k < s.count; ++k) {
        const Contribution& c = plan.contributions[s.first + k];
        if (plan.cameras[c.camera].index == camera)
            return c.full ? 1 : double(plan.weights[c.weights + std::size_t(px % kSegment)]);
    }
    return 0;
}

Vec3 towards(double yaw_deg, double pitch_deg) {
    return rotation_of({yaw_deg, pitch_deg, 0}) * Vec3(0, 0, 1);
}

/// The project that a simulation left in a folder.
Project project_in(const std::filesystem::path& folder) {
    for (const auto& e : std::filesystem::directory_iterator(folder))
        if (e.path().extension() == ".porb") return load_project(e.path());
    FAIL("no project in " << folder);
    return {};
}

/// The first camera's part ends where z falls under a bound: 4 degrees ahead of or behind half-way.
SeamLines line_at(double degrees_ahead) {
    SeamLines lines;
    const double bound = -std::sin(radians(degrees_ahead));
    lines.keys = {
        {Seconds(0), labels([bound](const Vec3& d) { return std::uint8_t(d.z() > bound ? 0 : 1); })}};
    return lines;
}

} // namespace

TEST_CASE("cells lie beside each other across the folds of the sphere's square") {
    constexpr int n = 24;
    for (int c = 0; c < n * n; ++c) {
        const auto at = [](int cell) {
            return octahedral_direction({(cell % n + 0.5) / n, (cell / n + 0.5) / n});
        };
        const auto beside = cells_beside(c, n);
        for (int k = 0; k < 4; ++k) {
            const auto back = cells_beside(beside[std::size_t(k)], n);
            CHECK(std::count(back.begin(), back.begin() + 4, c) > 0);
            CHECK((at(c) - at(beside[std::size_t(k)])).norm() < 0.32);
        }
    }
}

TEST_CASE("plans pass from camera to camera on the lines found, smoothly, whatever lies half-way") {
    Shot shot = pair_shot();
    const double ahead = GENERATE(-4.0, 0.0, 4.0);
    shot.seams.seam_lines = line_at(ahead);
    const PlanKey key = plan_key(shot, map_view(1440));
    const BlendPlan plan = make_plan(key);
    for (const double pitch : {-40.0, 0.0, 35.0}) {
        // Where the line crosses this row, and how the weight of the first camera falls there.
        double crossing = 0, last = 1;
        for (double yaw = 60; yaw < 130; yaw += 0.25) {
            const Vec3 d = towards(yaw, pitch);
            const double w = weight_at(plan, 0, d), o = weight_at(plan, 1, d);
            CHECK(w + o == Approx(1).margin(1e-4));
            CHECK(w <= last + 0.02); // it only falls
            if (w > 0.5) crossing = yaw;
            last = w;
        }
        const double from_line = degrees(std::asin(towards(crossing, pitch).z())) + ahead;
        CHECK(std::abs(from_line) < 0.7);
    }
    // Off, or with the camera that they name gone, everything is as without.
    shot.seams.seam_lines.edit([](SeamLines& l) { l.on = false; });
    const BlendPlan without = make_plan(plan_key(shot, map_view(1440)));
    CHECK(weight_at(without, 0, towards(88, 0)) > 0.5);
    CHECK(weight_at(without, 1, towards(92, 0)) > 0.5);
    shot.seams.seam_lines.edit([](SeamLines& l) { l.on = true; });
    shot.cameras[1].used = false;
    const BlendPlan alone = make_plan(plan_key(shot, map_view(1440)));
    CHECK(weight_at(alone, 0, towards(94, 0)) == 1); // though the line gives it to the other
}

TEST_CASE("a line moves over without a jump, and only what lies beside it is planned anew", "[slow]") {
    Shot shot = pair_shot();
    SeamLines lines = line_at(-4);
    lines.keys.push_back({Seconds(2), line_at(4).keys[0].who});
    lines.ease_s = 1;
    shot.seams.seam_lines = lines;
    CHECK(line_state_at(lines, Seconds(0)) == LineState{0, 0});
    CHECK(line_state_at(lines, Rational(3, 2)).towards_next == Approx(0.5));
    CHECK(line_state_at(lines, Seconds(2)) == LineState{1, 0});
    double last = 0;
    for (const double t : {0.5, 1.2, 1.4, 1.6, 1.8, 2.0}) {
        const PlanKey key = plan_key(shot, map_view(720), Rational::from_double(t));
        const BlendPlan whole = make_plan(key), changed = with_changes(make_plan(at_rest(key)), key);
        double at = 0;
        for (double yaw = 70; yaw < 110; yaw += 0.5) {
            if (weight_at(whole, 0, towards(yaw, 10)) > 0.5) at = yaw;
            CHECK(weight_at(changed, 0, towards(yaw, 10)) ==
                  Approx(weight_at(whole, 0, towards(yaw, 10))).margin(0.02));
        }
        CHECK(at >= last);
        if (last > 0) CHECK(at - last < 5);
        last = at;
    }
    CHECK(last == Approx(94).margin(0.8));
}

TEST_CASE("lines go round what differs, keep still, and make way in time", "[slow]") {
    const TempFolder folder;
    sim::SimOptions o;
    o.rig = sim::SimRig::ring_of_six;
    o.circle_size = 260;
    o.rate = FrameRate(10);
    o.seconds = 1.6;
    o.truth_width = 512;
    o.truth_times = {0.9};
    o.faults.noise = true;
    (void)sim::simulate(o, folder.path(), [](double) {}, {});
    Project project = project_in(folder.path());
    Shot& shot = project.shots[0];
    shot.seams.agree_distance_m = 4;
    Composer composer(std::make_shared<MediaLibrary>());
    const SeamLines lines = find_lines(project, shot, composer, {0.5}, [](double) {}, {});
    REQUIRE(lines.keys.size() >= 2);                                               // things move in it
    CHECK(find_lines(project, shot, composer, {0.5}, [](double) {}, {}) == lines); // the same tomorrow
    // Most of every line stays: what changes hands is a few per cent.
    for (std::size_t k = 1; k < lines.keys.size(); ++k) {
        int changes = 0;
        for (std::size_t c = 0; c < lines.keys[k].who->size(); ++c)
            changes += (*lines.keys[k].who)[c] != (*lines.keys[k - 1].who)[c];
        CHECK(changes > 0);
        CHECK(changes < 0.06 * SeamLines::kSide * SeamLines::kSide);
    }
    // Everything is supplied by someone who sees it.
    const Coverage coverage(plan_key(shot, map_view(4096)));
    for (int c = 0; c < SeamLines::kSide * SeamLines::kSide; c += 7) {
        const auto who = (*lines.keys[0].who)[std::size_t(c)];
        const Vec3 d = octahedral_direction({(c % SeamLines::kSide + 0.5) / SeamLines::kSide,
                                             (c / SeamLines::kSide + 0.5) / SeamLines::kSide});
        if (coverage.lenses_at(d) == 0) continue;
        REQUIRE(who < 6);
        CHECK(coverage.margin_deg(d)[who] > 0);
    }
    Cancel stop;
    stop.raise();
    CHECK_THROWS_AS(find_lines(
                        project, shot, composer, {0.5}, [](double) {}, stop),
                    Cancelled);

    // Crossings: with neighbours meeting half-way, a planet and the keeper's way are among them.
    Shot bare = shot;
    bare.seams.flow.on = false;
    bare.seams.crossings = Shared(scan_crossings(project, bare, composer, {}, [](double) {}, {}));
    const auto& found = (*bare.seams.crossings)->crossings;
    REQUIRE(found.size() >= 2);
    double worst = 0;
    for (const Crossing& c : found) {
        CHECK(c.to > c.from);
        CHECK(c.a != c.b);
        worst = std::max(worst, c.visible_parallax_px);
        CHECK(c.path.front().time <= c.from);
        CHECK(c.path.back().time >= c.to);
    }
    CHECK(worst > 4); // doubled for all to see
    const ClosedCrossings closed =
        close_crossings(project, bare, composer, {}, [](double, const std::string&) {}, {});
    const auto& after = (*closed.shot.seams.crossings)->crossings;
    const auto open = [](const auto& list) { return std::count_if(list.begin(), list.end(), is_open); };
    CHECK(open(found) >= 2);
    CHECK(open(after) < open(found));
    CHECK(closed.shot.seams.flow.on);
    for (const Crossing& c : after)
        if (c.resolution != CrossingResolution::none) CHECK(c.visible_parallax_px < kVisible_px);
    // By opinion alone nothing is closed: measured again without what closed them, they are open.
    Shot undone = closed.shot;
    undone.seams.flow.on = false, undone.seams.shelters.clear(), undone.seams.seam_lines = SeamLines();
    CHECK(open(measured_again(project, undone, composer, [](double) {}, {}).crossings) == open(found));
}

TEST_CASE("without overlap there is nothing to find, in plain words") {
    const TempFolder folder;
    sim::SimOptions o;
    o.circle_size = 160;
    StillTake take = hall_still(folder, o);
    Shot& shot = take.project.shots[0];
    for (auto& c : shot.cameras) c.reach_deg = 80;
    Composer composer(std::make_shared<MediaLibrary>());
    CHECK(error_of([&] {
              (void)find_lines(take.project, shot, composer, {}, [](double) {}, {});
          }).find("No two cameras overlap") != std::string::npos);
    CHECK(error_of([&] {
              (void)scan_crossings(take.project, shot, composer, {}, [](double) {}, {});
          }).find("No two cameras overlap") != std::string::npos);
}

TEST_CASE("flow passes evenly from key to key, of the shot and of a seam of its own") {
    FlowSettings f;
    f.strength = 0.7, f.zone_deg = 20, f.smoothness = 2;
    CHECK(values_at(f, Seconds(3)) == FlowKey{Seconds(3), 0.7, 20, 2});
    CHECK(widest_zone_deg(f) == 20);
    set_value(f, Seconds(1), &FlowKey::zone_deg, 24); // without keys: for ever
    CHECK(f.keys.empty());
    CHECK(f.zone_deg == 24);
    toggle_key(f, Seconds(2));
    toggle_key(f, Seconds(1));
    REQUIRE(f.keys.size() == 2);
    CHECK(f.keys[0] == FlowKey{Seconds(1), 0.7, 24, 2}); // in order of time, whatever came first
    set_value(f, Seconds(1), &FlowKey::strength, 0);
    set_value(f, Seconds(2), &FlowKey::zone_deg, 8);
    set_value(f, Seconds(2), &FlowKey::smoothness, 4);
    CHECK(f.zone_deg == 24); // the shot's own waits for the keys to go
    CHECK(values_at(f, Seconds(0)).strength == 0);
    CHECK(values_at(f, Rational(3, 2)).strength == Approx(0.35));
    CHECK(values_at(f, Rational(3, 2)).zone_deg == Approx(16));
    CHECK(values_at(f, Rational(7, 4)).smoothness == Approx(3.5));
    CHECK(values_at(f, Seconds(5)).zone_deg == 8);
    set_value(f, Rational(3, 2), &FlowKey::strength, 1); // with keys: one more
    REQUIRE(f.keys.size() == 3);
    CHECK(f.keys[1].zone_deg == Approx(16));
    CHECK(widest_zone_deg(f) == 24);

    f.seams = {{"A", "B", 0.2, 10, 1, 3.0}};
    CHECK(find_seam(f, "B", "A")->strength == 0.2);
    CHECK(find_seam(f, "B", "C") == nullptr);
    CHECK(seam_flow(f, "B", "A") == f.seams[0]);
    CHECK(seam_flow(f, "B", "C").keys == f.keys); // as the shot's
    toggle_key(f.seams[0], Seconds(0));
    toggle_key(f.seams[0], Seconds(4));
    set_value(f.seams[0], Seconds(4), &FlowKey::zone_deg, 30);
    const FlowSettings then = flow_at(f, Seconds(1));
    CHECK(then.keys.empty());
    CHECK(then.strength == 0);
    REQUIRE(then.seams.size() == 1);
    CHECK(then.seams[0].keys.empty());
    CHECK(then.seams[0].zone_deg == Approx(15));
    CHECK(then.seams[0].agree_distance_m == 3.0);
    CHECK(widest_zone_deg(f.seams[0]) == 30);
    toggle_key(f.seams[0], Seconds(0));
    toggle_key(f.seams[0], Seconds(4)); // what the last one said stays
    CHECK(f.seams[0].keys.empty());
    CHECK(f.seams[0].zone_deg == 30);
}

TEST_CASE("denoising takes noise off, keeps detail and what moves, and leaves clean pictures alone") {
    // A pattern of fine bars and a square that moves by three pixels a frame.
    const auto clean_at = [](int frame) {
        Picture p(160, 120);
        for (int y = 0; y < 120; ++y)
            for (int x = 0; x < 160; ++x) {
                float v = 0.35f + 0.25f * float((x / 4 + y / 9) % 2);
                const int sx = x - 30 - 3 * frame, sy = y - 40;
                if (sx >= 0 && sx < 24 && sy >= 0 && sy < 24) v = (sx + sy) % 8 < 4 ? 0.9f : 0.1f;
                set_pixel(p, x, y, {v, v * 0.9f, v * 0.8f, 1});
            }
        return p;
    };
    std::mt19937 random(7);
    const auto noisy = [&](const Picture& p, double sigma) {
        std::normal_distribution<float> n(0, float(sigma));
        Picture out(p.width(), p.height());
        for (int y = 0; y < p.height(); ++y)
            for (int x = 0; x < p.width(); ++x) {
                const Rgba c = pixel_at(p, x, y);
                set_pixel(out, x, y, {c.r + n(random), c.g + n(random), c.b + n(random), 1});
            }
        return out;
    };
    const Picture truth = clean_at(2);
    const std::vector<Picture> before = {noisy(clean_at(1), 0.03), noisy(clean_at(0), 0.03)};
    const Picture now = noisy(truth, 0.03);
    CHECK(noise_of(now) == Approx(0.03).epsilon(0.35));
    Denoise settings;
    settings.over_time = 1, settings.in_frame = 0;
    const double raw = psnr_db(now, truth),
                 by_time = psnr_db(denoised(now, before, settings, nullptr), truth);
    CHECK(by_time > raw + 2.5); // three frames: 4.8 dB at most
    settings.in_frame = 0.5;
    CHECK(psnr_db(denoised(now, before, settings, nullptr), truth) > by_time + 0.5);
    const std::vector<Picture> still_before = {clean_at(1), clean_at(0)};
    CHECK(psnr_db(denoised(truth, still_before, settings, nullptr), truth) > 45);
}

TEST_CASE("a part is denoised as the whole is, and lies inside the picture whatever is asked") {
    const TempFolder folder;
    std::mt19937 random(11);
    std::normal_distribution<float> noise(0, 0.03f);
    for (int frame = 1; frame <= 4; ++frame) { // broad tiles that move by two pixels a frame
        Picture p(400, 400);
        for (int y = 0; y < 400; ++y)
            for (int x = 0; x < 400; ++x) {
                const float v =
                    0.3f + 0.12f * float(((x + 2 * frame) / 40 + 3 * (y / 40)) % 4) + noise(random);
                set_pixel(p, x, y, {v, v, v, 1});
            }
        write_still(p, numbered_file(folder / "s.%04d.png", frame), {16, 95, {}});
    }
    Project project;
    Shot shot = pair_shot();
    for (auto& c : shot.cameras)
        c.media = add_media(project, {folder / "s.%04d.png", MediaKind::sequence, FrameRate(12)});
    shot.timing.rate = FrameRate(12);
    shot.look.denoise = {true, 0.8, 0.4};
    MediaLibrary library;
    const std::string id = shot.cameras[1].camera;
    const Seconds time = Rational(3, 12);
    const auto look = look_at_noise(library, project, shot, id, time, {100, 90, 120, 80});
    REQUIRE(look);
    CHECK(look->part == Region{100, 90, 120, 80});
    CHECK(look->noise_before == Approx(0.03).epsilon(0.3));
    CHECK(look->noise_after < 0.6 * look->noise_before);
    Cleaner cleaner(library.bound());
    const auto whole = cleaner.picture(library, find_media(project, shot.cameras[1].media)->ref, time,
                                       Rational(1) / shot.timing.rate, 0, shot.look.denoise);
    REQUIRE(whole);
    const Picture same = cropped(*whole, 100, 90, 120, 80);
    // Flow sees less about it, so what is brought from other frames differs a little.
    const double apart = psnr_db(look->cleaned, same), made = psnr_db(look->as_shot, same);
    INFO(apart << " dB from the whole's, as shot " << made);
    CHECK(apart > made + 10);

    const auto corner = look_at_noise(library, project, shot, id, time, {-50, 5000, 64, 32});
    REQUIRE(corner);
    CHECK(corner->part == Region{0, 400 - 32, 64, 32});
    const auto most = look_at_noise(library, project, shot, id, time, {0, 0, 9000, 9000});
    REQUIRE(most);
    CHECK(most->part == Region{0, 0, 400, 400});
    CHECK(psnr_db(most->cleaned, *whole) > 60);

    CHECK_FALSE(look_at_noise(library, project, shot, id, Rational(9), {0, 0, 64, 64})); // it has ended
    CHECK_FALSE(look_at_noise(library, project, shot, "Q", time, {0, 0, 64, 64}));
    shot.cameras[1].media.clear();
    CHECK_FALSE(look_at_noise(library, project, shot, id, time, {0, 0, 64, 64}));
}
