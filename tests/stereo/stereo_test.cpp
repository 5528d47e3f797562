// What is measured between two eyes, against what was done to them.
#include "base/angle.h"
#include "base/error.h"
#include "picture/transfer.h"
#include "stereo/comfort.h"
#include "stereo/findings.h"
#include "stereo/torn.h"
#include "support/support.h"

using namespace porb;
using namespace porb::test;

namespace {

constexpr int kWidth = 1920;

Picture true_eye(sim::TruthEye eye, double pitch_deg = 0) {
    sim::Hall hall(sim::Things::clutter, 4);
    sim::SimOptions o;
    o.things = sim::Things::clutter;
    const Picture level = sim::true_panorama(hall, o, 0, SphereMapping::equirect, kWidth, eye);
    if (pitch_deg == 0) return level;
    Picture out(level.width(), level.height());
    const TargetMap map(equirect_target(kWidth));
    const Mat3 turn = rotation_of({0, pitch_deg, 0});
    for (int y = 0; y < out.height(); ++y)
        for (int x = 0; x < out.width(); ++x) {
            const Vec2 at = *map.pixel(turn * *map.direction({x + 0.5, y + 0.5})) - Vec2(0.5, 0.5);
            const int u = int(std::floor(at.x())),
                      v = std::clamp(int(std::floor(at.y())), 0, out.height() - 2);
            const float fu = float(at.x() - u), fv = float(at.y() - v);
            const auto p = [&](int i, int j) { return pixel_at(level, (u + i + kWidth) % kWidth, v + j); };
            const auto mix = [&](float Rgba::*c) {
                const float top = p(0, 0).*c + fu * (p(1, 0).*c - p(0, 0).*c),
                            low = p(0, 1).*c + fu * (p(1, 1).*c - p(0, 1).*c);
                return top + fv * (low - top);
            };
            set_pixel(out, x, y, {mix(&Rgba::r), mix(&Rgba::g), mix(&Rgba::b), 1});
        }
    return out;
}

Picture changed(Picture p, const std::function<Rgba(const Picture&, int, int)>& change) {
    const Picture before = p;
    Picture out(p.width(), p.height());
    for (int y = 0; y < p.height(); ++y)
        for (int x = 0; x < p.width(); ++x) set_pixel(out, x, y, change(before, x, y));
    return out;
}

Shot drawn_shot() {
    sim::SimOptions o;
    o.rig = sim::SimRig::ring_of_six;
    Shot shot = shot_for_rig(sim::make_truth(o).actual, "ring");
    shot.stereo.from = EyesFrom::distances;
    return shot;
}

Vec3 towards_yaw(double yaw_deg) {
    return forward_of({yaw_deg, 0, 0});
}

bool tells(const std::vector<EyeFinding>& findings, const std::string& words) {
    return std::any_of(findings.begin(), findings.end(), [&](const EyeFinding& f) {
        return f.what.find(words) != std::string::npos && !f.mend.empty();
    });
}

} // namespace

TEST_CASE("disparity is that of the things that are seen, and faults of one eye are told as what they are",
          "[slow]") {
    const Picture left = true_eye(sim::TruthEye::left), right = true_eye(sim::TruthEye::right);
    const Shot shot = drawn_shot();
    const EyeMoment good = compared_eyes(left, right);
    const EyeSummary s = summary_of(good, shot);
    REQUIRE(good.places.size() > 300);
    CHECK(s.told > 0.6);
    CHECK(s.vertical_px < 0.3);
    CHECK(s.beyond_infinity < 0.02);
    for (const double ev : s.ev) CHECK(std::abs(ev) < 0.02);
    CHECK(std::abs(s.sharper) < 0.1);
    // Against the room itself: eyes of 64 mm.
    sim::Hall hall(sim::Things::clutter, 4);
    hall.set_time(0);
    const EyeRays rays{-0.032, 0, 55, 80};
    std::vector<double> off;
    for (const EyePlace& p : good.places) {
        const Vec3 from = rays.origin_m(p.direction);
        const Vec3 at =
            from + double(hall.depth(from.cast<float>(), p.direction.cast<float>())) * p.direction;
        const double level = std::hypot(at.x(), at.z());
        const double share = rays.share(p.direction);
        off.push_back(std::abs(2 * degrees(std::asin(0.032 * share / level)) - double(p.horizontal_deg)));
    }
    std::sort(off.begin(), off.end());
    CHECK(off[off.size() / 2] < 0.03); // patches lie across edges, too; a pixel is 0.19 degrees
    CHECK(off[off.size() * 9 / 10] < 0.15);

    const auto found = [&](const Picture& a, const Picture& b) {
        std::vector<EyeMoment> moments{compared_eyes(a, b)};
        return eye_findings(shot, moments);
    };
    CHECK_FALSE(tells(found(left, right), "Vertical"));
    CHECK_FALSE(tells(found(left, right), "brightness"));
    CHECK(tells(found(right, left), "swapped"));
    const auto half_stop = [](float v) {
        return encoded_from_linear(linear_from_encoded(v) * float(std::exp2(-0.5)));
    };
    const Picture dark_right = changed(right, [&](const Picture& p, int x, int y) {
        const Rgba c = pixel_at(p, x, y);
        return Rgba{half_stop(c.r), half_stop(c.g), half_stop(c.b), c.a};
    });
    CHECK(tells(found(left, dark_right), "-0.5"));
    // A darker eye is neither displaced nor softer.
    const EyeSummary d = summary_of(compared_eyes(left, dark_right), shot);
    CHECK(d.vertical_px == Approx(s.vertical_px).margin(0.05));
    CHECK(d.told == Approx(s.told).margin(0.04));
    CHECK(std::abs(d.sharper - s.sharper) < 0.08);
    const auto softer = found(left, changed(right, [](const Picture& p, int x, int y) {
                                  Rgba sum{0, 0, 0, 0};
                                  for (int j = -1; j <= 1; ++j)
                                      for (int i = -1; i <= 1; ++i) {
                                          const Rgba c = pixel_at(p, (x + i + p.width()) % p.width(),
                                                                  std::clamp(y + j, 0, p.height() - 1));
                                          sum.r += c.r / 9, sum.g += c.g / 9, sum.b += c.b / 9,
                                              sum.a += c.a / 9;
                                      }
                                  return sum;
                              }));
    CHECK(tells(softer, "right eye is softer"));
    CHECK(tells(found(left, true_eye(sim::TruthEye::right, 2)), "Vertical disparity"));
    const Picture unseen = changed(right, [](const Picture&, int, int) { return Rgba{0, 0, 0, 0}; });
    CHECK(compared_eyes(left, unseen).places.empty());
}

TEST_CASE("a shot's eyes are fitted to the comfort budget, and what cannot be is said") {
    Shot shot = drawn_shot();
    EyeMoment m;
    for (int i = 0; i < 400; ++i) {
        EyePlace p;
        p.horizontal_deg = 0.4f + 3.6f * float(i) / 399;
        m.places.push_back(p);
    }
    std::vector<EyeMoment> moments{m};
    CHECK_THROWS_AS(fitted_to_comfort(shot, {}), Error);
    const ComfortFit fit = fitted_to_comfort(shot, moments);
    CHECK(fit.fits);
    CHECK(fit.ipd_m == Approx(0.064 * 1.9 / 3.53).epsilon(0.03)); // 3.6 degrees into 2, all but hundredths
    CHECK(fit.nearest_deg == Approx(0.95).margin(1e-6));          // a little inside
    CHECK(fit.farthest_deg == Approx(-0.95).margin(1e-6));
    CHECK(2 * degrees(std::asin(fit.ipd_m / 2 / fit.converge_m)) ==
          Approx(3.96 * fit.ipd_m / 0.064 - 0.95).margin(0.03));
    shot.stereo.comfort = {3, 3}; // there is room: nothing but convergence, and as little as does
    const ComfortFit wide = fitted_to_comfort(shot, moments);
    CHECK(wide.ipd_m == 0.064);
    CHECK(wide.nearest_deg == Approx(2.85).margin(0.01));
    shot.stereo.comfort = {1, 1};
    shot.rig = nominal_pair(256, 256, 1, 190);
    match_cameras_to_rig(shot);
    shot.stereo.from = EyesFrom::cameras;
    const ComfortFit fixed = fitted_to_comfort(shot, moments);
    CHECK_FALSE(fixed.fits);
    CHECK(fixed.nearest_deg == Approx(0.95).margin(1e-6)); // what is near is kept inside
    EyePlace subject;
    subject.horizontal_deg = 2;
    const double converge = converge_for(shot, Seconds(0), subject, 0.5);
    CHECK(2 * degrees(std::asin(eye_separation_m(shot.rig) / 2 / converge)) == Approx(1.5));
}

TEST_CASE("what a shot's settings and rig alone say about its eyes") {
    Shot shot = drawn_shot();
    for (ShotCamera& c : shot.cameras) c.reach_deg = 95;
    CHECK(eye_findings(shot).empty());
    shot.stereo.ipd_m = 0.3;
    CHECK(tells(eye_findings(shot), "wider than the rig"));
    shot.stereo.ipd_m = 0.064;
    shot.seams.flow.everywhere = false;
    CHECK(tells(eye_findings(shot), "near seams alone"));
    CHECK(find_distances_everywhere(shot));
    CHECK_FALSE(find_distances_everywhere(shot));
    shot.seams.flow.on = false;
    CHECK(tells(eye_findings(shot), "Flow is off"));
    sim::SimOptions o;
    Shot back_to_back = shot_for_rig(sim::make_truth(o).actual, "two");
    back_to_back.stereo.from = EyesFrom::distances;
    CHECK(tells(eye_findings(back_to_back), "seen by one lens"));
    back_to_back.stereo.from = EyesFrom::cameras;
    CHECK(tells(eye_findings(back_to_back), "without depth"));
    back_to_back.rig.cameras[0].eyes = Eyes::left;
    const auto lacking = eye_findings(back_to_back);
    REQUIRE(tells(lacking, "no camera for the right eye"));
    CHECK(lacking[0].stops);
    Shot pair = shot_for_rig(nominal_pair(256, 256, 1, 190), "pair");
    CHECK(eye_findings(pair).empty());
    std::swap(pair.rig.cameras[0].pose, pair.rig.cameras[1].pose);
    CHECK(tells(eye_findings(pair), "swapped"));
    pair.stereo.swap = true;
    CHECK(eye_findings(pair).empty());
    // What is near at the rim of a half sphere is cut off there, unless the rim fades.
    EyeMoment rim;
    for (int i = 0; i < 40; ++i) {
        EyePlace p;
        p.direction = towards_yaw(i % 2 ? 82 : 20);
        p.horizontal_deg = i % 4 == 1 ? 0.6f : 0.0f;
        rim.places.push_back(p);
    }
    std::vector<EyeMoment> moments{rim};
    CHECK(summary_of(rim, pair).cut_near == Approx(0.5));
    CHECK(tells(eye_findings(pair, moments), "at the rim"));
    pair.stereo.border_deg = 5;
    CHECK_FALSE(tells(eye_findings(pair, moments), "at the rim"));
    CHECK(eye_times(Seconds(0), Seconds(10), FrameRate(24), 1).size() == 10);
    CHECK(eye_times(Seconds(0), Seconds(3600), FrameRate(24), 0.01).size() <= std::size_t(kMostEyeTimes));
}

TEST_CASE("drawn eyes show things with the disparity of where they converge and how far they are") {
    Shot shot = drawn_shot();
    shot.stereo.ipd_m = 0.064;
    const auto ahead = [&](double converge_m, double away_m) {
        shot.stereo.converge_m = converge_m;
        return drawn_disparity_deg(shot, Seconds(0), towards_yaw(40), 1 / away_m);
    };
    for (const double away_m : {0.8, 2.0, 6.0}) {
        const double parallel =
            2 * degrees(std::asin(0.032 / away_m)); // both eyes touch the circle, symmetrically
        CHECK(ahead(0, away_m) == Approx(parallel).epsilon(0.01));
        CHECK(ahead(away_m, away_m) == Approx(0).margin(0.01));
        CHECK(ahead(1, away_m) == Approx(parallel - 2 * degrees(std::asin(0.032))).margin(0.03));
    }
    CHECK(drawn_disparity_deg(shot, Seconds(0), forward_of({10, 85, 0}), 0.5) == Approx(0).margin(1e-6));
}

TEST_CASE("what is torn in one eye alone is told, with the eye and the place") {
    View view;
    view.target = equirect_target(1920);
    const TargetMap map(view.target);
    const auto tears_at = [&](double yaw_deg, double pitch_deg, int length) { // a torn line that runs upright
        Tears t;
        t.width = 1920, t.height = 960;
        t.torn.assign(std::size_t(t.width * t.height), 0);
        const Vec2 at = *map.pixel(forward_of({yaw_deg, pitch_deg, 0}));
        for (int i = 0; i < length; ++i)
            t.torn[std::size_t(int(at.y()) + i) * 1920 + std::size_t(at.x())] = 255;
        return t;
    };
    const Tears none = tears_at(0, 0, 0), line = tears_at(40, 20.9, 15), beside = tears_at(43, 20.9, 15);
    const auto left = torn_alone(line, none, view), right = torn_alone(none, line, view);
    REQUIRE(left.size() == 1);
    REQUIRE(right.size() == 1);
    CHECK(left[0].eye == Eye::left);
    CHECK(right[0].eye == Eye::right);
    CHECK(left[0].length_px == Approx(30).epsilon(0.1)); // of a picture 3840 wide; less away from the horizon
    CHECK(degrees(std::acos(left[0].direction.dot(forward_of({40, 20, 0})))) < 3);
    CHECK(torn_alone(line, beside, view).empty()); // both eyes show it, a disparity apart
    CHECK(torn_alone(tears_at(40, 20.9, 5), none, view).empty());
}

TEST_CASE("places that are worst are told once each, and a match that stands alone is not") {
    Shot shot = drawn_shot();
    shot.stereo.comfort = {1, 1};
    EyeMoment a, b;
    b.time = Rational(1);
    const auto place = [](double yaw, double horizontal, double vertical = 0) {
        EyePlace p;
        p.direction = towards_yaw(yaw);
        p.horizontal_deg = float(horizontal), p.vertical_deg = float(vertical);
        return p;
    };
    a.places = {place(0, 1.5), place(4, 1.6), place(90, 7), place(180, -0.5, 0.4), place(-90, 0.2)};
    b.places = {place(0, 1.8), place(4, 1.7), place(180, -0.5, 0.3)};
    b.torn = {{towards_yaw(60), Eye::right, 30}};
    const auto worst = worst_places(shot, std::vector{a, b});
    REQUIRE(worst.size() == 3);
    CHECK(worst[0].what.find("1.80° before") != std::string::npos); // at its worst moment
    CHECK(*worst[0].time == Rational(1));
    CHECK(worst[1].what.find("torn in the right eye") != std::string::npos);
    CHECK(worst[2].what.find("lower") != std::string::npos);
    CHECK(*worst[2].time == Rational(0));
    for (const EyeFinding& f : worst) CHECK(f.direction);
    CHECK(worst_places(shot, std::vector{a, b}, 1).size() == 1);

    a.tried = {towards_yaw(0), towards_yaw(90), forward_of({0, 60, 0}), forward_of({0, -60, 0})};
    const auto regions = by_region(std::vector{a, b}, shot);
    CHECK(regions[std::size_t(EyeRegion::ahead)].places == 4);
    CHECK(regions[std::size_t(EyeRegion::ahead)].outside == 1);
    CHECK(regions[std::size_t(EyeRegion::right)].torn_px == 30);
    CHECK(regions[std::size_t(EyeRegion::behind)].vertical_arcmin == Approx(21));
    CHECK(regions[std::size_t(EyeRegion::left)].outside == 0);
    CHECK(regions[std::size_t(EyeRegion::above)].places == 0);
    CHECK(region_of(forward_of({0, 60, 0})) == EyeRegion::above);
    CHECK(region_of(forward_of({-170, -20, 0})) == EyeRegion::behind);
}
