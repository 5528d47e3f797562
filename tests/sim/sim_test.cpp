#include "base/angle.h"
#include "base/file.h"
#include "base/json.h"
#include "media/still.h"
#include "picture/compare.h"
#include "stitch/compose.h"
#include "support/support.h"

#include <nlohmann/json.hpp>

using namespace porb;
using namespace porb::test;

namespace {

Picture stitched(const Project& project, int width, SphereMapping mapping = SphereMapping::equirect,
                 Eye eye = Eye::mono) {
    Composer composer(std::make_shared<MediaLibrary>());
    View view;
    view.target = mapping == SphereMapping::equirect ? equirect_target(width) : half_sphere_target(width);
    view.eye = eye;
    return composer.compose(project, project.shots[0], Rational(0), view);
}

/// The picture moved sideways by whole pixels, round the back.
Picture shifted(const Picture& in, int by) {
    Picture out(in.width(), in.height());
    for (int y = 0; y < in.height(); ++y)
        for (int x = 0; x < in.width(); ++x)
            set_pixel(out, (x + by + in.width()) % in.width(), y, pixel_at(in, x, y));
    return out;
}

} // namespace

TEST_CASE("a true-rig stitch of a distant scene is the true panorama, at every pixel", "[slow]") {
    const TempFolder folder;
    sim::SimOptions options;
    options.distant = true;
    options.circle_size = 512;
    options.rig = GENERATE(sim::SimRig::two_fisheyes, sim::SimRig::ring_of_six);
    if (options.rig == sim::SimRig::ring_of_six) options.circle_size = 320;
    options.faults.tilt = true;
    const StillTake take = hall_still(folder, options);
    sim::Hall hall;
    const int width = options.rig == sim::SimRig::ring_of_six ? 480 : 720;
    const Picture truth =
        sim::true_panorama(hall, options, 0, SphereMapping::equirect, width, sim::TruthEye::mono);
    const Picture made = stitched(take.project, width);
    REQUIRE(made.height() == truth.height());
    CHECK(hole_share(made) == 0);
    const double db = psnr_db(made, truth);
    CHECK(db > 27);
    // No offset: any shift, even by one pixel, is clearly worse.
    CHECK(psnr_db(shifted(made, 1), truth) < db - 3);
    CHECK(psnr_db(shifted(made, -1), truth) < db - 3);
    // Every pixel: both were averaged over their own pixel grids, so edges may differ, but each pixel lies
    // within the range of the truth's nearest neighbours (two pixels about, more near the poles where columns
    // crowd).
    std::size_t far_off = 0;
    for (int y = 0; y < made.height(); ++y) {
        const double lat = (0.5 - (y + 0.5) / made.height()) * kPi;
        const int reach_x = std::min(width / 2, int(std::ceil(2.5 / std::max(0.01, std::cos(lat)))));
        for (int x = 0; x < width; ++x) {
            const Rgba m = pixel_at(made, x, y);
            float low = 9, high = -9;
            for (int dy = -2; dy <= 2; ++dy)
                for (int dx = -reach_x; dx <= reach_x; ++dx) {
                    const float g = pixel_at(truth, (x + dx + 2 * width) % width,
                                             std::clamp(y + dy, 0, made.height() - 1))
                                        .g;
                    low = std::min(low, g);
                    high = std::max(high, g);
                }
            far_off += m.g < low - 0.08f || m.g > high + 0.08f;
        }
    }
    CHECK(double(far_off) / (double(width) * made.height()) < 0.001);
}

TEST_CASE("the nominal rig of a faulty take stitches worse than its true one", "[slow]") {
    const TempFolder folder;
    sim::SimOptions options;
    options.distant = true;
    options.circle_size = 320;
    options.faults.lens = options.faults.pose = true;
    options.seed = 5;
    StillTake take = hall_still(folder, options);
    sim::Hall hall;
    const Picture truth =
        sim::true_panorama(hall, options, 0, SphereMapping::equirect, 480, sim::TruthEye::mono);
    const double with_truth = psnr_db(stitched(take.project, 480), truth);
    for (std::size_t i = 0; i < 2; ++i) {
        Camera& c = take.project.shots[0].rig.cameras[i];
        c = take.truth.nominal.cameras[i];
    }
    CHECK(psnr_db(stitched(take.project, 480), truth) < with_truth - 3);
}

TEST_CASE("each eye of the 180 pair is its own true view", "[slow]") {
    const TempFolder folder;
    sim::SimOptions options;
    options.rig = sim::SimRig::pair_180;
    options.circle_size = 360;
    const StillTake take = hall_still(folder, options);
    sim::Hall hall;
    const auto truth = [&](sim::TruthEye e) {
        return sim::true_panorama(hall, options, 0, SphereMapping::half_equirect, 320, e);
    };
    const Picture left = stitched(take.project, 320, SphereMapping::half_equirect, Eye::left);
    const Picture right = stitched(take.project, 320, SphereMapping::half_equirect, Eye::right);
    const Picture true_left = truth(sim::TruthEye::left), true_right = truth(sim::TruthEye::right);
    CHECK(psnr_db(left, true_left) > 26);
    CHECK(psnr_db(right, true_right) > 26);
    CHECK(psnr_db(left, true_left) > psnr_db(left, true_right) + 1);
    CHECK(psnr_db(right, true_right) > psnr_db(right, true_left) + 1);
}

TEST_CASE("the scene moves: planets and keeper, not the hall") {
    sim::Hall hall;
    sim::SimOptions options;
    const Picture a = sim::true_panorama(hall, options, 0, SphereMapping::equirect, 256, sim::TruthEye::mono);
    const Picture b = sim::true_panorama(hall, options, 2, SphereMapping::equirect, 256, sim::TruthEye::mono);
    std::size_t changed = 0;
    for (int y = 0; y < 128; ++y)
        for (int x = 0; x < 256; ++x) changed += std::abs(pixel_at(a, x, y).g - pixel_at(b, x, y).g) > 0.1f;
    CHECK(changed > 100);
    CHECK(changed < 256 * 128 / 6);
}

TEST_CASE("depth is what it should be straight down") {
    sim::Hall hall;
    const auto down = Eigen::Vector3f(0.30f, 1, 0.05f).normalized(); // past the stand's legs
    CHECK(hall.depth(Eigen::Vector3f(0, 0, 0), down) * down.y() == Approx(1.6f).margin(0.01));
    CHECK(hall.depth(Eigen::Vector3f(0, 0, 0), Eigen::Vector3f(0, -1, 0)) < 8);
}

TEST_CASE("things stand close by as their names say") {
    const sim::Hall bare;
    const sim::Vec3f o(0, 0, 0);
    const TargetMap map(equirect_target(1440)); // a quarter of a degree
    const auto at = [&](double x, double y) { return map.direction({x, y})->cast<float>().eval(); };
    const unsigned seed = GENERATE(1u, 5u);
    std::size_t near_by = 0, narrow = 0;
    const sim::Hall thin(sim::Things::thin, seed);
    for (int y = 240; y < 480; ++y)
        for (int x = 8; x < 1432; ++x) {
            const float here = thin.depth(o, at(x, y));
            if (here > 0.8f * bare.depth(o, at(x, y))) continue;
            ++near_by;
            narrow += thin.depth(o, at(x - 4, y)) > 1.2f * here && thin.depth(o, at(x + 4, y)) > 1.2f * here;
        }
    CHECK(near_by > 4000);
    CHECK(narrow > near_by / 4);

    const sim::Hall glass(sim::Things::glass, seed), plain(sim::Things::plain, seed);
    std::size_t panes = 0, through = 0, boards = 0, flat = 0;
    for (int y = 200; y < 520; y += 2)
        for (int x = 0; x < 1440; x += 2) {
            const auto d = at(x, y);
            const sim::Vec3f without = bare.light(o, d);
            if (glass.depth(o, d) == bare.depth(o, d) && (glass.light(o, d) - without).norm() > 1e-3f) {
                ++panes;
                through += (glass.light(o, d) - 0.75f * without).minCoeff() > 0;
            }
            if (plain.depth(o, d) > 0.8f * bare.depth(o, d)) continue;
            const auto beside = at(x + 0.5, y);
            if (std::abs(plain.depth(o, beside) - plain.depth(o, d)) > 0.02f) continue;
            ++boards;
            flat += (plain.light(o, beside) - plain.light(o, d)).cwiseAbs().maxCoeff() < 0.01f;
        }
    CHECK(panes > 4000);
    CHECK(double(through) > 0.8 * double(panes)); // the others are looked at from the side, or in a shadow
    CHECK(boards > 4000);
    CHECK(double(flat) > 0.97 * double(boards));
}

TEST_CASE("truth is seen from the place and at the moment that are asked for") {
    sim::SimOptions options;
    options.truth_place_m = Vec3(0.2, 0.5, 0.1);
    CHECK(sim::truth_place(options, 3) == options.truth_place_m);
    options.faults.drive = true;
    CHECK(sim::truth_place(options, 3) == sim::rig_place(options, 3) + options.truth_place_m);

    options.faults.drive = false;
    sim::Hall hall;
    const int width = 256;
    const auto at = [&](const std::vector<float>& metres, int x, int y) {
        return metres[std::size_t(y) * std::size_t(width) + std::size_t(x)];
    };
    const auto early = sim::true_distances(hall, options, 0, width),
               late = sim::true_distances(hall, options, 2, width);
    REQUIRE(early.size() == std::size_t(width * width / 2));
    CHECK(at(early, 60, 118) * std::cos(radians(9.5 / 128 * 180)) ==
          Approx(1.1).margin(0.005)); // the floor, half a metre nearer
    std::size_t moved = 0;
    for (std::size_t i = 0; i < early.size(); ++i) moved += std::abs(early[i] - late[i]) > 0.2f;
    CHECK(moved > early.size() / 200);
    options.distant = true;
    CHECK(at(sim::true_distances(hall, options, 0, width), 60, 118) > 1000);
}

TEST_CASE("faults do what they say") {
    sim::SimOptions options;
    options.circle_size = 128;
    options.seed = 3;
    const auto brightness = [&](const sim::Truth& truth) {
        sim::Hall hall;
        const Picture p = sim::render_source(hall, options, truth, {0, 1}, 0);
        return std::pair{pixel_at(halved(halved(halved(p))), 7, 8), pixel_at(p, 64, 8)};
    };
    const auto [clean, clean_rim] = brightness(sim::make_truth(options));
    options.faults.exposure = true;
    sim::Truth bright = sim::make_truth(options);
    bright.cameras[0].exposure_ev = 0.5;
    CHECK(brightness(bright).first.g > clean.g * 1.08f);
    options.faults.vignetting = true;
    sim::Truth dark = sim::make_truth(options);
    dark.cameras[0] = {};
    dark.cameras[0].vignetting = 0.4;
    CHECK(brightness(dark).second.b < clean_rim.b * 0.95f);
    options.faults.tilt = true;
    CHECK(sim::make_truth(options).tilt.pitch_deg != 0);
    options.faults.shake = true;
    const sim::Truth t = sim::make_truth(options);
    CHECK(sim::rig_turn(options, t, 0.1).yaw_deg != sim::rig_turn(options, t, 0.2).yaw_deg);
    options.faults.lens = options.faults.pose = true;
    for (unsigned seed = 1; seed <= 50; ++seed) { // whatever the seed, the lens stays possible
        options.seed = seed;
        for (const auto& c : sim::make_truth(options).actual.cameras) CHECK_FALSE(fault_in(c.lens));
    }
}

TEST_CASE("the clap sounds at one second, for every microphone at its own time") {
    const auto loudest = [](double from, unsigned seed) {
        const auto s = sim::hall_sound(from, 48000 * 2, 48000, {seed});
        std::size_t best = 0;
        double most = 0;
        for (std::size_t i = 0; i + 480 < s.size(); i += 48) {
            double high = 0; // the clap is white, the voice is not: differences stand out
            for (std::size_t k = i + 1; k < i + 480; ++k) high += std::abs(double(s[k]) - double(s[k - 1]));
            if (high > most) {
                most = high;
                best = i;
            }
        }
        return from + double(best) / 48000;
    };
    CHECK(loudest(0, 1) == Approx(1.0).margin(0.01));
    CHECK(loudest(0.4, 2) == Approx(1.0).margin(0.01));
    CHECK(loudest(-0.3, 3) == Approx(1.0).margin(0.01));
}

TEST_CASE("a simulated folder is complete, and its project opens and stitches") {
    const TempFolder folder;
    sim::SimOptions options;
    options.circle_size = 96;
    options.seconds = 0.1;
    options.rig = sim::SimRig::ring_of_six;
    options.faults.offsets = true;
    options.truth_width = 64;
    options.truth_times = {0.0};
    double last = 0;
    const auto files = sim::simulate(
        options, folder / "take",
        [&](double p) {
            CHECK(p >= last);
            last = p;
        },
        Cancel());
    CHECK(last == 1);
    for (const auto& f : files) CHECK(std::filesystem::exists(f));
    CHECK(files.size() ==
          6 + 3 + 1 + 4 + 1 + 6); // movies, rigs and truth, project, pictures, motion, calibrations
    const Project p = load_project(folder / "take/hall_ring.porb");
    CHECK(missing_media(p).empty());
    const Json truth = parse_json(read_text_file(folder / "take/truth.json"), "truth");
    CHECK(truth["cameras"].size() == 6);
    CHECK(truth["cameras"][1]["offset_s"].get<double>() == Approx(p.shots[0].cameras[1].offset.to_double()));
    CHECK(exr_facts(folder / "take/truth_depth_0.000s.exr").width == 32);
    Cancel cancel;
    cancel.raise();
    CHECK_THROWS_AS(sim::simulate(options, folder / "stopped", {}, cancel), Cancelled);
    CHECK(std::filesystem::is_empty(folder / "stopped"));
}
