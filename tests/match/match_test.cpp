#include "match/agree.h"
#include "picture/compare.h"
#include "stitch/compose.h"
#include "support/support.h"

#include <cmath>
#include <random>

using namespace porb;
using namespace porb::test;

namespace {

/// Three cameras in a row that overlap, with known gains and falloff; `wrong` of the places see other things.
struct MadeUpColours {
    Shot shot = shot_for_rig(nominal_rig(3, 400, 400, 1, 200), "made up");
    std::vector<std::array<double, 3>> ev{
        {0.4, 0.3, 0.2}, {-0.5, -0.4, -0.45}, {0.1, 0.1, 0.25}}; ///< of the pictures
    std::array<double, 2> vignetting{-0.1, -0.25};

    ColourMoment moment(Seconds time, double wrong, unsigned seed, double drift_ev = 0) const {
        std::mt19937 random(seed);
        std::uniform_real_distribution<double> flat(0, 1);
        std::normal_distribution<double> noise(0, 0.02);
        ColourMoment m{time, {}};
        for (int i = 0; i < 900; ++i) {
            ColourPlace p;
            p.a = std::size_t(i % 3), p.b = (p.a + 1) % 3;
            p.a_q = 0.35 + 0.6 * flat(random), p.b_q = 1.3 - p.a_q;
            const double shared = -3 + 2.5 * flat(random);
            const bool other = flat(random) < wrong;
            for (std::size_t c = 0; c < 3; ++c) {
                const auto seen = [&](std::size_t camera, double q) {
                    return shared + std::log(2.0) * (ev[camera][c] + (camera == 1 ? drift_ev : 0)) +
                           std::log(1 + q * (vignetting[0] + q * vignetting[1])) + noise(random);
                };
                p.a_light[c] = seen(p.a, p.a_q);
                p.b_light[c] = seen(p.b, p.b_q) + (other ? 1.5 * flat(random) : 0);
            }
            m.places.push_back(p);
        }
        return m;
    }
};

/// The largest error of a camera's brightness against the truth of the simulator, as a share, over cameras
/// and channels, once the mean of all is the same; at `q` of the image circle, where neighbours meet.
double worst_gain_error(const sim::Truth& truth, const std::vector<CameraColour>& found, double q) {
    double worst = 0;
    for (int channel = 0; channel < 3; ++channel) {
        std::vector<double> off;
        for (std::size_t c = 0; c < found.size(); ++c) {
            const auto& t = truth.cameras[c];
            const double share = channel == 0 ? t.red_gain : channel == 2 ? t.blue_gain : 1;
            const double made = std::exp2(t.exposure_ev) * share * (1 - t.vignetting * q * q) /
                                (1 + q * (found[c].vignetting[0] + q * found[c].vignetting[1]));
            off.push_back(std::log(made * std::exp2(gains_at(found[c], Seconds(0))[std::size_t(channel)])));
        }
        double mean = 0;
        for (const double o : off) mean += o / double(off.size());
        for (const double o : off) worst = std::max(worst, std::abs(std::expm1(o - mean)));
    }
    return worst;
}

} // namespace

TEST_CASE("gains run in straight lines between keys, trims come on top") {
    CameraColour c;
    CHECK(gains_at(c, Seconds(3)) == std::array<double, 3>{0, 0, 0});
    c.gains = {{Seconds(1), {0, 0, 0.4}}, {Seconds(3), {1, 2, 0.4}}};
    CHECK(gains_at(c, Seconds(0))[0] == 0);
    CHECK(gains_at(c, Seconds(2))[0] == Approx(0.5));
    CHECK(gains_at(c, Seconds(2))[1] == Approx(1));
    CHECK(gains_at(c, Seconds(9))[1] == Approx(2));
    c.exposure_ev = 0.25, c.warmth_ev = 0.2, c.tint_ev = -0.1;
    const auto ev = gains_at(c, Seconds(1));
    CHECK(ev[0] == Approx(0.35));
    CHECK(ev[1] == Approx(0.15));
    CHECK(ev[2] == Approx(0.55));
}

TEST_CASE("known gains and falloff are found, with a fifth of the places wrong") {
    MadeUpColours m;
    const auto matched = match_places(m.shot, {m.moment(Seconds(0), 0.2, 7), m.moment(Seconds(1), 0.2, 8)});
    const double rim = m.vignetting[0] + m.vignetting[1];
    for (std::size_t c = 0; c < 3; ++c) {
        const CameraColour& found = matched.colours[c];
        REQUIRE(found.gains.size() == 1);
        for (std::size_t i = 0; i < 3; ++i) {
            const double mean = (m.ev[0][i] + m.ev[1][i] + m.ev[2][i]) / 3;
            CHECK(std::exp2(found.gains[0].ev[i] + m.ev[c][i] - mean) == Approx(1).margin(0.01));
        }
        CHECK(found.vignetting[0] + found.vignetting[1] == Approx(rim).margin(0.03));
    }
    CHECK(matched.report.before_ev > 0.4);
    CHECK(matched.report.after_ev < 0.1 * matched.report.before_ev + 0.1);
    CHECK(matched.report.pairs.size() == 3);

    m.shot.colour.match.reference = "B";
    const auto by_reference = match_places(m.shot, {m.moment(Seconds(0), 0.2, 7)});
    for (std::size_t i = 0; i < 3; ++i) {
        CHECK(by_reference.colours[1].gains[0].ev[i] == Approx(0).margin(1e-9));
        CHECK(by_reference.colours[0].gains[0].ev[i] == Approx(m.ev[1][i] - m.ev[0][i]).margin(0.03));
    }
    m.shot.colour.match.vignetting = false;
    CHECK(match_places(m.shot, {m.moment(Seconds(0), 0, 7)}).colours[0].vignetting ==
          std::array<double, 2>{});
}

TEST_CASE("gains that drift are followed through the shot, and do not jump") {
    MadeUpColours m;
    m.shot.colour.match.over_time = true;
    std::vector<ColourMoment> moments;
    for (int i = 0; i <= 8; ++i) moments.push_back(m.moment(Seconds(i), 0.1, 20 + unsigned(i), 0.08 * i));
    const auto matched = match_places(m.shot, moments);
    REQUIRE(matched.colours[1].gains.size() == 9);
    for (int i = 0; i <= 8; ++i) {
        const auto one = gains_at(matched.colours[1], Seconds(i)),
                   other = gains_at(matched.colours[0], Seconds(i));
        CHECK(one[1] - other[1] == Approx(m.ev[0][1] - m.ev[1][1] - 0.08 * i).margin(0.03));
    }
    // Noise of single moments must not be followed: the steps from moment to moment stay near the drift's
    // own.
    for (std::size_t i = 1; i < 9; ++i) {
        const double step = matched.colours[1].gains[i].ev[1] - matched.colours[1].gains[i - 1].ev[1];
        CHECK(step == Approx(-0.08 * 2 / 3).margin(0.03));
    }
}

TEST_CASE("trims by hand stay when gains are solved again") {
    MadeUpColours m;
    m.shot.cameras[2].colour.exposure_ev = 0.3;
    const Shot after = with_match(m.shot, match_places(m.shot, {m.moment(Seconds(0), 0, 3)}));
    CHECK(after.cameras[2].colour.exposure_ev == 0.3);
    CHECK(after.cameras[2].colour.gains.size() == 1);
}

TEST_CASE("nothing to compare is said in words") {
    MadeUpColours m;
    CHECK(error_of([&] {
              match_places(m.shot, {ColourMoment{Seconds(0), {}}});
          }).find("overlap") != std::string::npos);
    m.shot.colour.match.reference = "Z";
    CHECK(error_of([&] { match_places(m.shot, {m.moment(Seconds(0), 0, 3)}); }).find("reference camera Z") !=
          std::string::npos);
}

TEST_CASE("exposure, white balance and falloff of rendered footage are found to 2 percent", "[slow]") {
    const TempFolder folder;
    sim::SimOptions o;
    o.rig = GENERATE(sim::SimRig::two_fisheyes, sim::SimRig::ring_of_six);
    o.circle_size = 360;
    o.seed = GENERATE(77, 78);
    o.faults.exposure = o.faults.white_balance = o.faults.vignetting = o.faults.noise = true;
    StillTake take = hall_still(folder, o);
    Shot& shot = take.project.shots[0];
    MediaLibrary library;
    const Matched matched = match_shot(take.project, shot, library, {}, Cancel());
    const bool ring = o.rig == sim::SimRig::ring_of_six;
    CHECK(worst_gain_error(take.truth, matched.colours, ring ? 0.1 : 0.81) < 0.02);
    if (ring)
        CHECK(worst_gain_error(take.truth, matched.colours, 0) < 0.02); // lenses see one another's middles
    CHECK(matched.report.after_ev < 0.25 * matched.report.before_ev);

    // What the viewer sees: a sphere as good as with the true colours undone, but for one colour over all.
    sim::Hall hall;
    const Picture truth = sim::true_panorama(hall, o, 0, SphereMapping::equirect, 480, sim::TruthEye::mono);
    View view;
    view.target = equirect_target(480);
    Composer composer(std::make_shared<MediaLibrary>());
    const auto quality = [&] {
        return psnr_db(composer.compose(take.project, shot, Seconds(0), view), truth);
    };
    const double as_shot = quality();
    shot = with_match(shot, matched);
    std::vector<std::array<double, 3>> ideal;
    for (const auto& t : take.truth.cameras)
        ideal.push_back({-t.exposure_ev - std::log2(t.red_gain), -t.exposure_ev,
                         -t.exposure_ev - std::log2(t.blue_gain)});
    for (std::size_t i = 0; i < 3; ++i) {
        double off = 0;
        for (std::size_t c = 0; c < ideal.size(); ++c)
            off += (ideal[c][i] - shot.cameras[c].colour.gains[0].ev[i]) / double(ideal.size());
        for (auto& c : shot.cameras) c.colour.gains[0].ev[i] += off;
    }
    const double solved = quality();
    for (std::size_t c = 0; c < ideal.size(); ++c) {
        shot.cameras[c].colour.gains = {{Seconds(0), ideal[c]}};
        shot.cameras[c].colour.vignetting = {0, -take.truth.cameras[c].vignetting};
    }
    const double best = quality();
    INFO(as_shot << " dB as shot, " << solved << " dB matched, " << best << " dB with the truth");
    CHECK(solved > best - 0.5);
    CHECK(solved > as_shot + (ring ? 0.3 : 1)); // parallax is most of what is left in the ring
    shot.colour.match.on = false;
    CHECK(quality() == as_shot);
}
