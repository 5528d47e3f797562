// A pair's eyes that do not agree in height, by what their lenses are, and brought together.
#include "base/angle.h"
#include "made_up.h"
#include "solve/bundle/vertical_agreement.h"

using namespace porb;
using namespace porb::test;

namespace {

/// Mean of what is off without noise, pixels of a half sphere 2048 a side, of the same things in the true
/// lenses.
double truly_off_px(const Rig& rig, const MadeUp& m) {
    double sum = 0;
    int n = 0;
    for (const auto& miss : vertical_misses(rig, m.observations))
        if (miss) sum += std::abs(*miss) * 2048 / kPi, ++n;
    return n > 0 ? sum / n : 0;
}

MadeUp pair_with(const NonRadial& left, const NonRadial& right, double noise_px, unsigned seed,
                 unsigned things_seed) {
    MadeUp m = made_up(sim::SimRig::pair_180, false, 10, 0, seed, 0, false);
    m.truth.nominal = m.truth.actual; // solved, but for what bends
    m.truth.actual.cameras[0].lens.non_radial = left, m.truth.actual.cameras[1].lens.non_radial = right;
    const LensMap maps[2] = {LensMap(m.truth.actual.cameras[0].lens),
                             LensMap(m.truth.actual.cameras[1].lens)};
    std::mt19937 random(things_seed);
    std::normal_distribution<double> bell;
    std::uniform_real_distribution<double> flat(0, 1);
    m.observations.clear();
    while (m.observations.size() < 400) {
        const Vec3 d = Vec3(bell(random), bell(random), std::abs(bell(random))).normalized();
        const double inverse = 1 / (1.2 + 6 * flat(random));
        std::optional<Vec2> px[2];
        for (std::size_t c = 0; c < 2; ++c) {
            const Pose& pose = m.truth.actual.cameras[c].pose;
            px[c] = maps[c].project(rotation_of(pose.turn).transpose() * (d - inverse * pose.position_m));
            if (px[c]) *px[c] += noise_px * Vec2(bell(random), bell(random));
        }
        if (px[0] && px[1] && maps[0].clearance(*px[0]) > 20 && maps[1].clearance(*px[1]) > 20)
            m.observations.push_back({0, 1, *px[0], *px[1], 1, -1});
    }
    return m;
}

} // namespace

TEST_CASE("what bends one eye's picture against the other's is taken out by half in each, and told") {
    NonRadial left, right;
    left.prism[2] = -0.002, right.prism[2] = 0.001;
    right.tangential = {0.0008, -0.0006};
    for (const unsigned seed : {3u, 11u}) {
        const MadeUp m = pair_with(left, right, 0.1, seed, seed);
        const MadeUp clean = pair_with(left, right, 0, seed, seed + 1);
        Rig rig = m.truth.nominal;
        const double before = truly_off_px(rig, clean);
        REQUIRE(before > 0.8);
        const auto told = agree_vertically(rig, m.observations);
        REQUIRE(told);
        INFO(before << " px, then " << truly_off_px(rig, clean) << "; told " << told->before_px << ", "
                    << told->after_px << ", size " << told->size_px << ", lines " << told->bends_px
                    << ", terms " << told->terms);
        CHECK(truly_off_px(rig, clean) < 0.1 * before); // in places that it was not fitted to
        CHECK(told->after_px < 0.3 * told->before_px);
        CHECK(told->terms >= 2);
        CHECK(told->size_px > 0.3);
        CHECK(told->size_px < 12);
        CHECK(told->bends_px < told->size_px);
        // By half each: what both have in common stays.
        for (const int k : {2, 3})
            CHECK(rig.cameras[0].lens.non_radial.prism[std::size_t(k)] ==
                  Approx(-rig.cameras[1].lens.non_radial.prism[std::size_t(k)]).margin(1e-12));
        // A second time there is nothing left to do.
        CHECK_FALSE(agree_vertically(rig, m.observations));
    }
}

TEST_CASE("eyes that agree, that differ by noise alone, or of which little is known are left alone") {
    const MadeUp noisy = pair_with({}, {}, 0.5, 5, 5);
    Rig rig = noisy.truth.nominal;
    REQUIRE(truly_off_px(rig, noisy) > 0.1);
    CHECK_FALSE(agree_vertically(rig, noisy.observations));
    CHECK(rig == noisy.truth.nominal);

    NonRadial bent;
    bent.prism[2] = 0.004;
    const MadeUp few = pair_with({}, bent, 0.1, 7, 7);
    CHECK_FALSE(agree_vertically(rig, std::span(few.observations).first(40)));
    const MadeUp ring = made_up(sim::SimRig::ring_of_four, false, 100, 0.1, 3);
    Rig other = ring.truth.nominal;
    CHECK_FALSE(agree_vertically(other, ring.observations));
}
