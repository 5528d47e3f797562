#include "media/still.h"
#include "optics/circle_finder.h"
#include "support/support.h"

#include <array>
#include <random>

using namespace porb;
using namespace porb::test;

namespace {

/// One picture of a simulated source, coded as 8 bits would, and the circles it truly holds.
struct Scene {
    std::vector<Picture> moments;
    std::vector<ImageCircle> truth;
    int width;
};
Scene scene(sim::SimRig rig, const sim::Faults& faults, unsigned seed, std::size_t camera = 0, int size = 320,
            int moments = 1) {
    sim::SimOptions o;
    o.rig = rig, o.faults = faults, o.seed = seed, o.circle_size = size;
    const sim::Truth truth = sim::make_truth(o);
    sim::Hall hall;
    std::vector<std::size_t> cameras{camera};
    if (rig != sim::SimRig::ring_of_six) cameras = {0, 1};
    Scene s;
    s.width = truth.actual.cameras[camera].lens.width;
    for (int m = 0; m < moments; ++m) {
        Picture p = sim::render_source(hall, o, truth, cameras, 20 * m);
        for (int y = 0; y < p.height(); ++y)
            for (int x = 0; x < p.width(); ++x) {
                const auto eight = [](float v) { return std::round(v * 255) / 255; };
                const Rgba c = pixel_at(p, x, y);
                set_pixel(p, x, y, {eight(c.r), eight(c.g), eight(c.b), 1});
            }
        s.moments.push_back(p);
    }
    for (const auto c : cameras) s.truth.push_back(truth.actual.cameras[c].lens.circle);
    return s;
}

void check_found(const Scene& s) {
    const CircleSearch found = find_circles(s.moments);
    INFO(found.why_not);
    REQUIRE(found.circles.size() == s.truth.size());
    for (std::size_t i = 0; i < s.truth.size(); ++i) {
        const auto& c = found.circles[i];
        const double limit = 0.003 * s.width;
        INFO("circle " << i << " at " << c.circle.center_px.transpose() << " radius " << c.circle.radius_px
                       << ", true " << s.truth[i].center_px.transpose() << " radius " << s.truth[i].radius_px
                       << ", confidence " << c.confidence);
        CHECK((c.circle.center_px - s.truth[i].center_px).norm() < limit);
        CHECK(std::abs(c.circle.radius_px - s.truth[i].radius_px) < limit);
        CHECK(c.confidence > 0.2);
        CHECK(c.confidence <= 1);
    }
}

/// A disc of even light on a dark surround.
Picture disc(int width, int height, const std::vector<ImageCircle>& circles, float light, float surround) {
    Picture p(width, height);
    for (int y = 0; y < height; ++y)
        for (int x = 0; x < width; ++x) {
            float covered = 0;
            for (const auto& c : circles)
                for (int k = 0; k < 16; ++k)
                    if ((Vec2(x + (k % 4 + 0.5) / 4, y + (k / 4 + 0.5) / 4) - c.center_px).norm() <
                        c.radius_px)
                        covered += 1 / 16.0f;
            const float v = surround + (light - surround) * covered;
            set_pixel(p, x, y, {v, v, v, 1});
        }
    return p;
}
} // namespace

TEST_CASE("image circles of all simulated rigs are found within 0.3 percent of the width", "[slow]") {
    sim::Faults faults;
    faults.lens = faults.noise = faults.vignetting = true;
    for (unsigned seed = 31; seed < 33; ++seed) {
        check_found(scene(sim::SimRig::two_fisheyes, faults, seed));
        check_found(scene(sim::SimRig::pair_180, faults, seed));
        check_found(scene(sim::SimRig::ring_of_six, faults, seed, seed % 6));
    }
}

TEST_CASE("image circles are found in dark, flared and cropped pictures", "[slow]") {
    const std::pair<const char*, bool sim::Faults::*> kinds[] = {
        {"dark", &sim::Faults::dark}, {"flare", &sim::Faults::flare}, {"cropped", &sim::Faults::cropped}};
    for (const auto& [name, fault] : kinds)
        for (const auto rig : {sim::SimRig::two_fisheyes, sim::SimRig::pair_180, sim::SimRig::ring_of_six})
            for (unsigned seed = 41; seed < 42; ++seed) {
                sim::Faults faults;
                faults.lens = faults.noise = true;
                faults.*fault = true;
                INFO(name << " rig " << int(rig) << " seed " << seed);
                check_found(
                    scene(rig, faults, seed, 2 * (seed % 3), 320, fault == &sim::Faults::dark ? 3 : 1));
            }
}

TEST_CASE("a circle is found to a hundredth of a pixel where nothing disturbs it") {
    const ImageCircle c{{201.3, 148.8}, 121.7};
    const auto found = find_circles(std::vector{disc(400, 300, {c}, 0.7f, 0.02f)});
    REQUIRE(found.circles.size() == 1);
    CHECK((found.circles[0].circle.center_px - c.center_px).norm() < 0.02);
    CHECK(found.circles[0].circle.radius_px == Approx(c.radius_px).margin(0.06));
    CHECK(found.circles[0].confidence > 0.9);
    CHECK(found.circles[0].rim_seen_deg > 350);
}

TEST_CASE("stacked circles, a small one off centre, and one whose rim is mostly outside") {
    const ImageCircle upper{{150, 160}, 130}, lower{{148, 455}, 131};
    auto found = find_circles(std::vector{disc(300, 600, {upper, lower}, 0.6f, 0.0f)});
    REQUIRE(found.circles.size() == 2);
    CHECK((found.circles[1].circle.center_px - lower.center_px).norm() < 0.2);
    const ImageCircle small{{130, 220}, 90};
    found = find_circles(std::vector{disc(400, 400, {small}, 0.5f, 0.03f)});
    REQUIRE(found.circles.size() == 1);
    CHECK((found.circles[0].circle.center_px - small.center_px).norm() < 0.2);
    const ImageCircle wide{{240, 135}, 210}; // cut off far above and below
    found = find_circles(std::vector{disc(480, 270, {wide}, 0.5f, 0.0f)});
    REQUIRE(found.circles.size() == 1);
    CHECK(found.circles[0].circle.radius_px == Approx(210).margin(0.003 * 480));
}

TEST_CASE("where no circle can be known, the search says why") {
    const auto why = [](const std::vector<Picture>& p, int wanted = 0) {
        const auto found = find_circles(p, wanted);
        CHECK(found.circles.empty());
        CHECK(!found.mend.empty());
        return found.why_not;
    };
    CHECK(why({}).find("no picture") != std::string::npos);
    CHECK(why({disc(300, 300, {}, 0, 0.01f)}).find("too dark") != std::string::npos);
    // A picture of a flat lens: texture to its corners.
    Picture full(320, 240);
    std::mt19937 random(4);
    for (int y = 0; y < 240; ++y)
        for (int x = 0; x < 320; ++x) {
            const float v = 0.4f + 0.2f * float(random() % 100) / 100;
            set_pixel(full, x, y, {v, v, v, 1});
        }
    CHECK(!why({full}).empty());
    CHECK(!why({gradient(320, 240)}).empty());
    // Two asked for, one there.
    CHECK(why({disc(400, 200, {{{100, 100}, 90}}, 0.6f, 0)}, 2).find("right half") != std::string::npos);
    // A sliver of rim in one corner.
    CHECK(!why({disc(300, 300, {{{-350, -350}, 640}}, 0.6f, 0)}).empty());
}
