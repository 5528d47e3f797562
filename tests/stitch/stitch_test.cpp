#include "base/angle.h"
#include "base/error.h"
#include "media/still.h"
#include "optics/profiles.h"
#include "optics/target.h"
#include "picture/compare.h"
#include "project/orientation.h"
#include "stitch/blend/blend_kernel.h"
#include "stitch/compose.h"
#include "stitch/plan/coverage.h"
#include "stitch/plan/coverage_report.h"
#include "support/support.h"

#include <random>

using namespace porb;
using namespace porb::test;

namespace {

Shot assigned(const Rig& rig) {
    Shot s = shot_for_rig(rig, "t");
    for (auto& c : s.cameras) c.media = "m";
    return s;
}

View map_view(int width, Filter filter = Filter::cubic) {
    View v;
    v.target = equirect_target(width);
    v.filter = filter;
    return v;
}

Picture noise_picture(int w, int h, unsigned seed) {
    std::mt19937 random(seed);
    std::uniform_real_distribution<float> unit(0, 1);
    Picture p(w, h);
    for (int y = 0; y < h; ++y)
        for (int x = 0; x < w; ++x) set_pixel(p, x, y, {unit(random), unit(random), unit(random), 1});
    return p;
}

/// A project whose only source is a still.
struct StillProject {
    StillProject(const TempFolder& folder, const Rig& rig, const Picture& source) {
        write_still(source, folder / "s.png", {16, 95, {}});
        Shot shot = shot_for_rig(rig, "t");
        for (auto& c : shot.cameras) c.media = add_media(project, media_ref_for(folder / "s.png"));
        project.shots.push_back(shot);
    }
    Picture compose(const View& view) {
        return composer.compose(project, project.shots[0], Rational(0), view);
    }
    Project project;
    Composer composer{std::make_shared<MediaLibrary>()};
};

} // namespace

/// Noise in planes of so many bits; what holds the samples goes with the picture.
YuvPicture noise_planes(int width, int height, int depth, unsigned seed) {
    const auto bytes = std::size_t(depth > 8 ? 2 : 1);
    const std::size_t luma = std::size_t(width) * std::size_t(height) * bytes, chroma = luma / 4;
    auto memory = std::make_shared<std::vector<std::uint8_t>>(luma + 2 * chroma + 64);
    std::mt19937 random(seed);
    for (std::size_t i = 0; i < memory->size() / bytes; ++i) {
        const unsigned code = random() % (1u << depth);
        std::memcpy(memory->data() + i * bytes, &code, bytes);
    }
    YuvPlanes<const std::uint8_t> in;
    in.width = width, in.height = height, in.depth = depth;
    in.plane = {memory->data(), memory->data() + luma, memory->data() + luma + chroma};
    const std::ptrdiff_t row = width * std::ptrdiff_t(bytes);
    in.stride = {row, row / 2, row / 2};
    return yuv_picture(in, memory);
}

TEST_CASE("the kernel does what the slow obvious way does") {
    Rig rig = tiny_rig(200);
    rig.cameras[0].pose.turn = {3, 7, 40};
    const Shot shot = assigned(rig);
    const Filter filter = GENERATE(Filter::linear, Filter::cubic);
    const int width = GENERATE(256, 1300); // with every position stored, and with parabolas
    const BlendPlan plan = make_plan(plan_key(shot, map_view(width, filter)));
    const int depth = GENERATE(0, 8, 10); // of planes; 0: the working format
    std::vector<SourcePicture> sources;
    for (const auto& c : plan.cameras) {
        SourcePicture p =
            depth > 0 ? SourcePicture(noise_planes(400, 200, depth, 5)) : noise_picture(400, 200, 1);
        for (int l = 0; l < c.level; ++l) p = halved(p);
        sources.push_back(p);
    }
    Picture fast(plan.width, plan.height), slow(plan.width, plan.height);
    blend_rows(plan, {sources, {}, nullptr, {}, filter}, 0, plan.height, fast);
    const int step = width > 500 ? 9 : 1;
    for (int y = 0; y < plan.height; y += step)
        blend_rows_reference(plan, {sources, {}, nullptr, {}, filter}, {}, y, y + 1, slow);
    double worst = 0;
    for (int y = 0; y < plan.height; y += step)
        for (int x = 0; x < plan.width; ++x) {
            const Rgba a = pixel_at(fast, x, y), b = pixel_at(slow, x, y);
            worst = std::max({worst, double(std::abs(a.r - b.r)), double(std::abs(a.g - b.g)),
                              double(std::abs(a.a - b.a))});
        }
    // Positions of the working format in 1/256 pixel, on pure noise; halves of noise beyond 1 (chroma at both
    // ends).
    CHECK(worst < (depth > 0 ? 0.004 : 0.006));
}

TEST_CASE("the kernel's tones are what the exact curve makes of gains and falloff") {
    Rig rig = tiny_rig(200);
    rig.cameras[0].pose.turn = {3, 7, 40};
    Shot shot = assigned(rig);
    shot.cameras[0].colour.gains = {{Seconds(0), {0.6, -0.3, 0.1}}};
    shot.cameras[0].colour.vignetting = {-0.15, -0.3};
    shot.cameras[1].colour.exposure_ev = GENERATE(-0.8, 0.0);
    shot.cameras[1].colour.vignetting = {0.05, -0.5};
    const BlendPlan plan = make_plan(plan_key(shot, map_view(GENERATE(256, 700), Filter::linear)));
    std::vector<SourcePicture> sources;
    std::vector<CameraTone> tones;
    std::vector<std::array<double, 2>> falloffs;
    for (const auto& c : plan.cameras) {
        Picture p = gradient(400, 200);
        for (int l = 0; l < c.level; ++l) p = halved(p);
        sources.push_back(p);
        const ShotCamera& use = shot.cameras[c.index];
        tones.push_back(
            tone_of(use, find_camera(rig, use.camera)->lens, shot.colour.match, Seconds(0), c.level));
        falloffs.push_back(use.colour.vignetting);
        CHECK_FALSE(tones.back().plain);
    }
    Picture fast(plan.width, plan.height), slow(plan.width, plan.height);
    blend_rows(plan, {sources, tones, nullptr, {}, Filter::linear}, 0, plan.height, fast);
    blend_rows_reference(plan, {sources, tones, nullptr, {}, Filter::linear}, falloffs, 0, plan.height, slow);
    double worst = 0;
    for (int y = 0; y < plan.height; ++y)
        for (int x = 0; x < plan.width; ++x) {
            const Rgba a = pixel_at(fast, x, y), b = pixel_at(slow, x, y);
            worst = std::max({worst, double(std::abs(a.r - b.r)), double(std::abs(a.g - b.g)),
                              double(std::abs(a.b - b.b)), double(std::abs(a.a - b.a))});
        }
    CHECK(worst < 0.006);
    shot.colour.match.on = false;
    CHECK(tone_of(shot.cameras[0], rig.cameras[0].lens, shot.colour.match, Seconds(0), 0).plain);
    CHECK(plan_key(shot, map_view(256, Filter::linear)) ==
          plan_key(assigned(rig), map_view(256, Filter::linear))); // colours never make a plan anew
}

TEST_CASE("parabolas are close enough to exact positions") {
    // A plan of 1300 columns follows parabolas; its positions are held against the lens model itself.
    Rig rig = tiny_rig(512);
    rig.cameras[1].pose.turn = {179, -12, 33};
    rig.cameras[0].lens.non_radial = {1.004, 0.001, {0.002, 0, 0}, {0.0004, -0.0003}, {0.0001, 0, 0, 0}};
    REQUIRE(!fault_in(rig.cameras[0].lens));
    const Shot shot = assigned(rig);
    const PlanKey key = plan_key(shot, map_view(1300));
    const BlendPlan plan = make_plan(key);
    const TargetMap target(key.view.target);
    double worst = 0;
    for (int y = 0; y < plan.height; y += 3)
        for (int s = 0; s < plan.segments_per_row; ++s) {
            const Segment& segment = plan.segments[std::size_t(y * plan.segments_per_row + s)];
            for (std::uint32_t k = 0; k < segment.count; ++k) {
                const Contribution& c = plan.contributions[segment.first + k];
                const Camera& camera = rig.cameras[plan.cameras[c.camera].index];
                const LensMap lens(camera.lens);
                const Mat3 from_world = rotation_of(camera.pose.turn).transpose();
                for (int i = 0; i < kSegment && s * kSegment + i < plan.width; ++i) {
                    if (!c.full && plan.weights[c.weights + std::size_t(i)] <= 0) continue;
                    const Vec2 exact = lens.project_anywhere(
                        from_world * *target.direction({s * kSegment + i + 0.5, y + 0.5}));
                    const double t = i / 15.0;
                    const auto at = [&](const float* n) {
                        return n[0] * (2 * t - 1) * (t - 1) + n[1] * 4 * t * (1 - t) + n[2] * t * (2 * t - 1);
                    };
                    const double scale = 1.0 / (1 << plan.cameras[c.camera].level);
                    const double u = c.exact ? plan.positions[c.positions + std::size_t(i)] : at(c.u),
                                 v = c.exact ? plan.positions[c.positions + kSegment + std::size_t(i)]
                                             : at(c.v);
                    worst =
                        std::max({worst, std::abs(u - exact.x() * scale), std::abs(v - exact.y() * scale)});
                }
            }
        }
    CHECK(worst < 0.02);
}

TEST_CASE("weights: one alone is whole, neighbours share, nothing beyond the reach") {
    CHECK(blend_weight(-0.1, -0.1, 4) == 0);
    CHECK(blend_weight(10, 10, 4) == 1);
    CHECK(blend_weight(6, 10, 4) == 0); // a neighbour four degrees better placed takes over
    CHECK(blend_weight(8, 10, 4) == Approx(0.5));
    CHECK(blend_weight(0.5, 0.5, 4) < 0.3); // fades towards its own reach
}

TEST_CASE("planned weights add up to the coverage") {
    const Shot shot = assigned(sim::simulated_rig(sim::SimRig::ring_of_six, 200));
    const BlendPlan plan = make_plan(plan_key(shot, map_view(320)));
    for (std::size_t s = 0; s < plan.segments.size(); ++s)
        for (std::size_t i = 0; i < kSegment; ++i) {
            double sum = 0;
            for (std::uint32_t k = 0; k < plan.segments[s].count; ++k) {
                const Contribution& c = plan.contributions[plan.segments[s].first + k];
                sum += c.full ? 1 : plan.weights[c.weights + i];
            }
            REQUIRE(sum == Approx(1).margin(1e-5));
        }
}

TEST_CASE("weights between a segment's ends are those of the lenses there") {
    // A wide plan asks lenses at three of sixteen pixels; coverage asks them in every direction.
    Shot shot = assigned(sim::simulated_rig(sim::SimRig::ring_of_six, 200));
    shot.seams.flow.on = false;
    const bool short_reach = GENERATE(false, true); // lenses that end amid segments
    if (short_reach)
        for (auto& c : shot.cameras) c.reach_deg = 55;
    shot.cameras[2].feather_deg = 25;
    const PlanKey key = plan_key(shot, map_view(1300));
    const BlendPlan plan = make_plan(key);
    const Coverage coverage(key);
    const TargetMap target(key.view.target);
    double worst = 0;
    int between = 0;
    for (int y = 0; y < plan.height; y += 7)
        for (int s = 0; s < plan.segments_per_row; ++s) {
            const Segment& segment = plan.segments[std::size_t(y * plan.segments_per_row + s)];
            for (int i = 0; i < kSegment; i += 5) {
                const int x = s * kSegment + i;
                if (x >= plan.width) continue;
                const std::vector<float> truth = coverage.supply(*target.direction({x + 0.5, y + 0.5}));
                std::vector<float> planned(truth.size(), 0.0f);
                for (std::uint32_t k = 0; k < segment.count; ++k) {
                    const Contribution& c = plan.contributions[segment.first + k];
                    const float w = c.full ? 1 : plan.weights[c.weights + std::size_t(i)];
                    planned[plan.cameras[c.camera].index] = w;
                    between += w > 0.05f && w < 0.95f;
                }
                for (std::size_t c = 0; c < truth.size(); ++c)
                    worst = std::max(worst, double(std::abs(truth[c] - planned[c])));
            }
        }
    CHECK(between > 1000);
    CHECK(worst < 0.01);
}

TEST_CASE("no sample is ever taken outside an image circle") {
    // The circle is white, all around it is poison; the poison must not show anywhere, at any size or filter.
    const TempFolder folder;
    const Rig rig = tiny_rig(200);
    Picture source(400, 200);
    for (int y = 0; y < 200; ++y)
        for (int x = 0; x < 400; ++x) {
            bool inside = false;
            for (const auto& c : rig.cameras)
                inside = inside || (Vec2(x + 0.5, y + 0.5) - c.lens.circle.center_px).norm() <
                                       c.lens.circle.radius_px + 0.7072;
            set_pixel(source, x, y, inside ? Rgba{1, 1, 1, 1} : Rgba{0, 0, 0, 1});
        }
    StillProject p(folder, rig, source);
    for (auto& c : p.project.shots[0].cameras) c.feather_deg = 0.5;
    View view = map_view(GENERATE(128, 512, 1400), GENERATE(Filter::linear, Filter::cubic));
    view.target.kind = TargetKind::equirect;
    const Picture out = p.compose(view);
    double darkest = 1;
    for (int y = 0; y < out.height(); ++y)
        for (int x = 0; x < out.width(); ++x) {
            const Rgba c = pixel_at(out, x, y);
            if (c.a > 0.01f) darkest = std::min(darkest, double(c.r / c.a));
        }
    CHECK(darkest > 0.99);
}

TEST_CASE("where no lens sees there is an honest hole") {
    const TempFolder folder;
    Rig rig = tiny_rig(128);
    rig.cameras.pop_back(); // only the front
    StillProject p(folder, rig, gradient(256, 128));
    const Picture out = p.compose(map_view(256));
    CHECK(pixel_at(out, 2, 64).a == 0);
    CHECK(pixel_at(out, 128, 64).a == Approx(1).margin(1e-3));
    CHECK(hole_share(out) == Approx(0.41).margin(0.05)); // 200 degrees of 360 see
}

TEST_CASE("reach moves the seam, a lens out of use leaves") {
    const TempFolder folder;
    const Rig rig = tiny_rig(400);
    Picture source(800, 400);
    for (int y = 0; y < 400; ++y)
        for (int x = 0; x < 800; ++x) set_pixel(source, x, y, x < 400 ? Rgba{1, 0, 0, 1} : Rgba{0, 1, 0, 1});
    StillProject p(folder, rig, source);
    p.project.shots[0].seams.agree_distance_m = 10;
    const auto seam_lon = [&] { // on the horizon, right of ahead, where red becomes green
        const Picture out = p.compose(map_view(720));
        for (int x = 360; x < 720; ++x)
            if (pixel_at(out, x, 180).g > pixel_at(out, x, 180).r) return (x + 0.5) / 2 - 180;
        return -1.0;
    };
    CHECK(seam_lon() == Approx(90).margin(0.6));
    p.project.shots[0].cameras[0].reach_deg = 90; // ten less: the seam comes five degrees nearer
    CHECK(seam_lon() == Approx(85).margin(0.8));
    p.project.shots[0].cameras[0].used = false;
    const Picture out = p.compose(map_view(720));
    CHECK(pixel_at(out, 360, 180).a == 0);
    CHECK(pixel_at(out, 20, 180).g == Approx(1).margin(0.01));
}

TEST_CASE("orientation turns the sphere, and the agree distance shifts a displaced camera") {
    const TempFolder folder;
    StillProject p(folder, tiny_rig(256), noise_picture(512, 256, 4));
    const Picture before = p.compose(map_view(720));
    p.project.shots[0].levelling.orientation.yaw_deg =
        30; // what was ahead is now 30 degrees to the right: 60 columns
    const Picture after = p.compose(map_view(720));
    double worst = 0;
    for (int x = 120; x < 500; ++x)
        worst =
            std::max(worst, double(std::abs(pixel_at(before, x, 180).g - pixel_at(after, x + 60, 180).g)));
    CHECK(worst < 0.02);

    Rig rig = tiny_rig(256);
    rig.cameras[0].pose.position_m = Vec3(0.5, 0, 0);
    Shot shot = assigned(rig);
    shot.seams.agree_distance_m = 2;
    const Coverage coverage(plan_key(shot, map_view(2048)));
    CHECK(coverage.lenses_at(Vec3(0, 0, 1)) == 1);
    const BlendPlan plan = make_plan(plan_key(shot, map_view(2048)));
    // Straight ahead at 2 m lies atan(0.5 / 2) to the left of the displaced camera's axis.
    const auto& s = plan.segments[std::size_t(512 * plan.segments_per_row + 1024 / kSegment)];
    const Contribution& c = plan.contributions[s.first];
    const double expected =
        rig.cameras[0].lens.center_px.x() - rig.cameras[0].lens.focal_px * std::atan2(0.5, 2);
    CHECK(c.u[0] == Approx(expected).margin(0.3));
}

TEST_CASE("with a rolling shutter every row is seen from where the rig stood when it was read") {
    Shot shot = assigned(tiny_rig(512));
    shot.cameras[0].used = true;
    Steady steady;
    steady.readout_s = 0.02;
    steady.step_s = 0.001;
    const Vec3 spin(0.9, 2.4, -1.1); // radians a second: a rig that is thrown about
    std::vector<Vec3> path;
    for (int i = 0; i <= 1000; ++i) path.push_back(spin * (i * steady.step_s - 0.5));
    steady.path = std::move(path);
    shot.levelling.steady = steady;
    const Seconds time(1, 2);
    View view = map_view(128);
    const PlanKey key = plan_key(shot, view, time);
    CHECK(degrees(key.row_turns.at(0).norm()) > 3);
    const BlendPlan plan = make_plan(key), still = make_plan([&] {
                                               PlanKey k = key;
                                               k.row_turns.clear();
                                               return k;
                                           }());
    const TargetMap map(view.target);
    const Mat3 upright =
        orientation_at(shot, time) * path_at(steady, 0.5).transpose(); // still world to the output
    int compared = 0;
    double worst = 0, without = 0;
    const auto position = [](const BlendPlan& p, const Contribution& c, int i, int axis) {
        return double(p.positions[c.positions + std::size_t(axis * kSegment + i)]) *
               (1 << p.cameras[c.camera].level);
    };
    for (int y = 8; y < plan.height - 8; y += 3)
        for (int column = 0; column < plan.segments_per_row; ++column) {
            const auto at = std::size_t(y * plan.segments_per_row + column);
            if (plan.segments[at].count != 1 || still.segments[at].count != 1) continue;
            const Contribution &c = plan.contributions[plan.segments[at].first],
                               &s = still.contributions[still.segments[at].first];
            if (!c.exact || !c.full || plan.cameras[c.camera].index != still.cameras[s.camera].index)
                continue;
            const Camera& camera = shot.rig.cameras[plan.cameras[c.camera].index];
            const LensMap lens(camera.lens);
            for (const int i : {0, 7, 15}) {
                // Which row shows the direction, found by trying, with the rig's whole path.
                const Vec3 world =
                    upright.transpose() * *map.direction(Vec2(column * kSegment + i + 0.5, y + 0.5));
                Vec2 px = camera.lens.center_px;
                for (int round = 0; round < 30; ++round) {
                    const double when = 0.5 + steady.readout_s * (px.y() / camera.lens.height - 0.5);
                    px = lens.project_anywhere(
                        (path_at(steady, when) * rotation_of(camera.pose.turn)).transpose() * world);
                }
                worst = std::max(worst, (px - Vec2(position(plan, c, i, 0), position(plan, c, i, 1))).norm());
                without =
                    std::max(without, (px - Vec2(position(still, s, i, 0), position(still, s, i, 1))).norm());
                ++compared;
            }
        }
    CHECK(compared > 100);
    CHECK(worst < 0.1);
    CHECK(without > 2); // and it matters: half the turn, at 1.4 px a degree
}

TEST_CASE("a region is exactly that part of the whole") {
    const TempFolder folder;
    StillProject p(folder, tiny_rig(256), noise_picture(512, 256, 9));
    View view = map_view(1024);
    const Picture whole = p.compose(view);
    view.region = {237, 101, 333, 77};
    const Picture part = p.compose(view);
    REQUIRE(part.width() == 333);
    double worst = 0;
    for (int y = 0; y < 77; ++y)
        for (int x = 0; x < 333; ++x)
            worst = std::max(worst,
                             double(std::abs(pixel_at(part, x, y).r - pixel_at(whole, x + 237, y + 101).r)));
    CHECK(worst < 0.02); // segments start elsewhere: positions differ by thousandths of a pixel
}

TEST_CASE("a small preview is the large picture reduced") {
    const TempFolder folder;
    StillProject p(folder, tiny_rig(512), gradient(1024, 512));
    Picture large = p.compose(map_view(2048));
    const Picture small = p.compose(map_view(512));
    large = halved(halved(large));
    CHECK(psnr_db(large, small, [](int, int y) { return y > 8 && y < 248; }) > 38);
}

TEST_CASE("the window looks where it should, the half sphere is the middle of the whole") {
    const TempFolder folder;
    StillProject p(folder, tiny_rig(512), gradient(1024, 512));
    View window;
    window.target = window_target(200, 100, {25, 10, 0}, 60);
    const Picture w = p.compose(window), whole = p.compose(map_view(1440));
    const TargetMap from(window.target), to(equirect_target(1440));
    for (const auto& [x, y] : {std::pair{20, 20}, {100, 50}, {180, 90}}) {
        const Vec2 at = *to.pixel(*from.direction({x + 0.5, y + 0.5}));
        CHECK(pixel_at(w, x, y).r == Approx(pixel_at(whole, int(at.x()), int(at.y())).r).margin(0.02));
    }
    View half;
    half.target = half_sphere_target(720);
    const Picture h = p.compose(half);
    CHECK(pixel_at(h, 100, 300).g == Approx(pixel_at(whole, 460, 300).g).margin(0.01));
}

TEST_CASE("plans are cached by value and within a bound") {
    Composer composer(std::make_shared<MediaLibrary>(std::size_t(3) << 20));
    Shot shot = assigned(tiny_rig(128));
    const auto a = composer.plan_for(plan_key(shot, map_view(512)));
    shot.cameras[0].offset = Rational(1, 7); // nothing a plan depends on
    shot.rig.name = "renamed";
    CHECK(composer.plan_for(plan_key(shot, map_view(512))) == a);
    shot.cameras[0].reach_deg -= 1;
    CHECK(composer.plan_for(plan_key(shot, map_view(512))) != a);
    for (int w = 512; w < 1024; w += 64) composer.plan_for(plan_key(shot, map_view(w)));
    shot.cameras[0].reach_deg += 1;
    CHECK(composer.plan_for(plan_key(shot, map_view(512))) != a); // was pushed out
}

TEST_CASE("what does not fit is said by name") {
    const TempFolder folder;
    StillProject p(folder, tiny_rig(128), gradient(200, 100)); // the lens is for 256 x 128
    const std::string words = error_of([&] { p.compose(map_view(128)); });
    CHECK(words.find("200 x 100") != std::string::npos);
    CHECK(words.find("256 x 128") != std::string::npos);
    p.project.media[0].ref.path = folder / "gone.png";
    CHECK(error_of([&] { p.compose(map_view(128)); }).find("gone.png") != std::string::npos);
}

TEST_CASE("sources that have ended are left out, in and out are clipped") {
    const TempFolder folder;
    const CountingMovie movie{.width = 256, .height = 128};
    write_counting_movie(folder / "c.mp4", movie);
    Project p;
    Shot shot = shot_for_rig(tiny_rig(128), "t");
    for (auto& c : shot.cameras) c.media = add_media(p, media_ref_for(folder / "c.mp4"));
    shot.cameras[1].offset = Rational(1, 2);
    shot.timing.in = Rational(-3);
    shot.timing.out = Rational(50);
    p.shots.push_back(shot);
    Composer composer(std::make_shared<MediaLibrary>());
    CHECK(shot_length(p, shot, composer.library()) == Rational(1, 2));
    CHECK(used_span(p, shot, composer.library()).in == Rational(0));
    CHECK(used_span(p, shot, composer.library()).out == Rational(1, 2));
    const Picture both = composer.compose(p, shot, Rational(1, 10), map_view(256));
    CHECK(hole_share(both) == 0);
    // Camera B shows its own later frame.
    CHECK(std::floor(pixel_at(both, 2, 64).g * 30) == 18);
    CHECK(std::floor(pixel_at(both, 128, 64).g * 30) == 3);
    const Picture one = composer.compose(p, shot, Rational(7, 10), map_view(256));
    CHECK(hole_share(one) > 0.3);
}

TEST_CASE("coverage: shares, overlaps between axes, and directions nobody sees") {
    const auto shot_of = [](const char* words) {
        return shot_for_rig(search(built_in_profiles(), words).at(0).rig, "s");
    };
    const auto dual = coverage_report(shot_of("two fisheyes one picture 3840x1920"));
    CHECK(dual.share[0] == 0);
    CHECK(dual.share[0] + dual.share[1] + dual.share[2] + dual.share[3] == Approx(1));
    REQUIRE(dual.overlaps.size() == 1);
    CHECK(dual.overlaps[0].width_deg == Approx(200 - 180).margin(0.8));
    // The band that both see, 10 degrees either side of the equator between them, is sin(10) of the sphere.
    CHECK(dual.share[2] == Approx(std::sin(radians(10))).margin(0.01));
    const auto ring = coverage_report(shot_of("ring of six, 1920"));
    CHECK(ring.overlaps.front().width_deg ==
          Approx(190 - 60).margin(0.8)); // neighbours stand 60 degrees apart
    Shot narrow = shot_of("two fisheyes one picture 3840x1920");
    for (auto& c : narrow.cameras) c.reach_deg = 80;
    const auto open = coverage_report(narrow);
    CHECK(open.overlaps.empty());
    CHECK(open.share[0] == Approx(std::sin(radians(10))).margin(0.01));
    REQUIRE(!open.unseen.empty());
    for (const auto& d : open.unseen) CHECK(std::abs(d.z()) < std::sin(radians(10.5)));
}
