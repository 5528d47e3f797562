#include "base/angle.h"
#include "media/still.h"
#include "project/orientation.h"
#include "solve/level.h"
#include "steady/track.h"
#include "support/support.h"

#include <random>

using namespace porb;
using namespace porb::test;

namespace {

/// Root mean square of what is left of a shot's turning after its orientation, degrees, about its own mean.
double left_over_deg(const Shot& shot, const std::vector<Mat3>& truth, double rate) {
    std::vector<Mat3> out;
    Mat3 sum = Mat3::Zero();
    for (std::size_t n = 0; n < truth.size(); ++n) {
        out.push_back(orientation_at(shot, Rational::from_double(double(n) / rate)) * truth[n].transpose());
        sum += out.back();
    }
    const Mat3 mean = nearest_rotation(sum);
    double squares = 0;
    for (const auto& m : out) squares += std::pow(degrees(rotation_vector(mean.transpose() * m).norm()), 2);
    return std::sqrt(squares / double(out.size()));
}

std::vector<Vec3> directions(int n, unsigned seed) {
    std::mt19937 random(seed);
    std::normal_distribution<double> bell;
    std::vector<Vec3> out;
    for (int i = 0; i < n; ++i) out.push_back(Vec3(bell(random), bell(random), bell(random)).normalized());
    return out;
}

} // namespace

TEST_CASE("a turn is fitted through things that move, and through parallax when the rig moves") {
    const Mat3 turn = rotation_of({3, -2, 1});
    auto to = directions(200, 3);
    std::vector<Vec3> from;
    for (std::size_t i = 0; i < to.size(); ++i)
        from.push_back(turn.transpose() * (i % 4 == 0 ? rotation_of({8, 0, 0}) * to[i] : to[i]));
    TurnFit fit = fit_turn(from, to);
    CHECK(degrees(rotation_vector(fit.turn.transpose() * turn).norm()) < 0.01);
    CHECK_FALSE(fit.moved);
    from.clear();
    std::mt19937 random(9);
    std::uniform_real_distribution<double> flat(1, 6);
    const Vec3 move(0.3, 0.02, 0.1);
    for (const auto& d : to) from.push_back(turn.transpose() * (flat(random) * d - move).normalized());
    fit = fit_turn(from, to);
    CHECK(fit.moved);
    CHECK(degrees(rotation_vector(fit.turn.transpose() * turn).norm()) < 0.05);
}

TEST_CASE("orientation keys turn smoothly and rest at both ends") {
    Shot shot;
    shot.levelling.orientation_keys = {
        {Seconds(1), {0, 0, 0}}, {Seconds(2), {90, 10, 0}}, {Seconds(3), {170, 0, 5}}};
    CHECK(orientation_moves(shot));
    for (const auto& k : shot.levelling.orientation_keys)
        CHECK((orientation_at(shot, k.time) - rotation_of(k.turn)).norm() < 1e-9);
    CHECK((orientation_at(shot, Seconds(0)) - rotation_of({0, 0, 0})).norm() < 1e-12);
    Vec3 before = Vec3::Zero();
    for (int i = 0; i < 80; ++i) { // its rate never jumps
        const double t = 0.95 + i * 0.028, h = 1e-3;
        const Vec3 rate =
            rotation_vector(keyed_orientation(shot, t - h).transpose() * keyed_orientation(shot, t + h)) /
            (2 * h);
        if (i) CHECK((rate - before).norm() < 0.35);
        before = rate;
    }
    const Mat3 wanted = rotation_of({45, -5, 2});
    set_orientation(shot, Rational(3, 2), wanted);
    CHECK(shot.levelling.orientation_keys.size() == 4);
    CHECK((orientation_at(shot, Rational(3, 2)) - wanted).norm() < 1e-9);
}

TEST_CASE("steadying locks, follows slow turns, keeps the horizon, and can be halved") {
    constexpr double kRate = 30;
    Shot shot;
    shot.levelling.orientation = {0, 4, -3};
    const Mat3 level = rotation_of(shot.levelling.orientation);
    std::vector<Mat3> truth;
    std::vector<Vec3> path;
    for (int n = 0; n < 150; ++n) { // turns slowly, trembles, and leans
        const double t = n / kRate;
        const Mat3 still =
            level.transpose() *
            rotation_of({12 * t + std::sin(19 * t), std::sin(23 * t), 1.5 * std::sin(17 * t)}) * level;
        truth.push_back(still);
        path.push_back(rotation_vector(truth[0].transpose() * still));
    }
    Steady s;
    s.step_s = 1 / kRate;
    s.path = path;
    shot.levelling.steady = s;
    std::vector<Mat3> world;
    for (const auto& m : truth) world.push_back(level * m);
    CHECK(left_over_deg(shot, world, kRate) < 1e-6);
    shot.levelling.steady->strength = 0.5;
    CHECK(left_over_deg(shot, world, kRate) > 5);
    shot.levelling.steady->strength = 1;
    shot.levelling.steady->follow_s = 1;
    // It goes along with the slow turn, its horizon stays, and the trembling is gone.
    double shake = 0, lean = 0;
    for (int n = 40; n < 110; ++n) {
        const Mat3 view = orientation_at(shot, Rational(n, 30)) * truth[std::size_t(n)].transpose();
        const Mat3 next = orientation_at(shot, Rational(n + 1, 30)) * truth[std::size_t(n) + 1].transpose();
        const Vec3 step = rotation_vector(view.transpose() * next) * kRate;
        shake = std::max(shake, std::abs(degrees(step.norm()) - 12));
        lean = std::max(lean, degrees(std::acos(std::clamp((view * level.transpose())(1, 1), -1.0, 1.0))));
    }
    CHECK(shake < 2);
    CHECK(lean < 1e-4);
    shot.levelling.steady->on = false;
    CHECK(steadying(shot, 1).isIdentity(1e-12));
}

TEST_CASE("a record's turning is taken as it is, and its offset and axes are found from the footage's") {
    sim::SimOptions o;
    o.faults.shake = true;
    o.seed = 5;
    const auto truth = sim::make_truth(o);
    const Mat3 mount = rotation_of({70, -20, 130});
    const double late = 0.347;
    MotionRecord gyro, orientation;
    const auto turn = [&](double t) { return rotation_of(sim::rig_turn(o, truth, t)); };
    for (int i = 0; i < 1400; ++i) {
        const double t = i / 200.0, shot_t = t - late, h = 1e-4;
        const Vec3 rate =
            mount.transpose() * rotation_vector(turn(shot_t - h).transpose() * turn(shot_t + h)) / (2 * h);
        gyro.gyro.push_back({t, {rate.x(), rate.y(), rate.z()}});
        const Vec3 v = rotation_vector(turn(shot_t) * mount);
        orientation.orientation.push_back({t, {v.x(), v.y(), v.z()}});
    }
    TurnPath footage;
    footage.step_s = 1 / 30.0;
    for (int n = 0; n < 120; ++n)
        footage.path.push_back(rotation_vector(turn(0).transpose() * turn(n / 30.0)));
    const RecordFit fit = fit_record(footage, gyro);
    CHECK(fit.offset_s == Approx(late).margin(0.003));
    CHECK(degrees(rotation_vector(fit.to_rig.transpose() * mount).norm()) < 1);
    for (const MotionRecord* r : {&gyro, &orientation}) {
        const TurnPath path = turning_from_record(*r, late, mount, 0, 4);
        double worst = 0;
        for (std::size_t i = 0; i < path.path.size(); i += 20)
            worst =
                std::max(worst, degrees(rotation_vector(rotation_from_vector(path.path[i]).transpose() *
                                                        (turn(0).transpose() * turn(double(i) * path.step_s)))
                                            .norm()));
        CHECK(worst < 0.05);
    }
    CHECK(error_of([&] {
              turning_from_record(MotionRecord{}, 0, mount, 0, 1);
          }).find("neither orientation nor rates") != std::string::npos);
    TurnPath still = footage;
    for (auto& v : still.path) v = Vec3::Zero();
    CHECK(error_of([&] { fit_record(still, gyro); }).find("hardly turns") != std::string::npos);
}

TEST_CASE("gravity sets upright through jolts") {
    Shot shot;
    shot.rig = tiny_rig();
    shot.calibration.motion = MotionSource{"r.csv", Seconds(0), "A"};
    const Mat3 lean = rotation_of({0, 9, -8});
    MotionRecord r;
    std::mt19937 random(2);
    std::normal_distribution<double> bell;
    for (int i = 0; i < 600; ++i) {
        Vec3 a =
            rotation_of(shot.rig.cameras[0].pose.turn).transpose() * lean.transpose() * Vec3(0, -9.81, 0);
        a += 0.1 * Vec3(bell(random), bell(random), bell(random));
        if (i % 25 == 0) a += Vec3(12, 3, 0);
        r.acceleration.push_back({i / 200.0, {a.x(), a.y(), a.z()}});
    }
    const Upright u = upright_from_record(shot, r, 0, 3);
    CHECK(degrees(std::acos(std::clamp(u.up.dot(lean.transpose() * Vec3(0, -1, 0)), -1.0, 1.0))) < 0.1);
}

TEST_CASE("simulated shake is followed to a twentieth of a degree, a moving rig and moving things included",
          "[slow]") {
    for (const bool drive : {false, true}) {
        const TempFolder folder;
        sim::SimOptions o;
        o.circle_size = 420;
        o.rate = FrameRate(20);
        o.faults.shake = true;
        o.faults.drive = drive;
        o.seed = drive ? 8 : 7;
        const auto truth = sim::make_truth(o);
        sim::Hall hall;
        constexpr int kFrames = 14;
        std::vector<Mat3> turns;
        for (int n = 0; n < kFrames; ++n) {
            char name[32];
            std::snprintf(name, sizeof name, "f.%04d.png", n);
            write_still(sim::render_source(hall, o, truth, {0, 1}, n), folder / name, {8, 95, std::nullopt});
            turns.push_back(rotation_of(sim::rig_turn(o, truth, n / 20.0)));
        }
        Project project;
        Shot shot = shot_for_rig(truth.actual, "shaken");
        MediaRef ref;
        ref.path = folder / "f.%04d.png";
        ref.kind = MediaKind::sequence;
        ref.sequence_rate = o.rate;
        for (auto& c : shot.cameras) c.media = add_media(project, ref);
        shot.timing.rate = o.rate;
        MediaLibrary library;
        const double before = left_over_deg(shot, turns, 20);
        steady_shot(project, shot, SteadySource::footage, false, library, nullptr, Cancel());
        const double after = left_over_deg(shot, turns, 20);
        INFO((drive ? "driving" : "standing") << " before " << before << " after " << after);
        CHECK(before > 0.5);
        CHECK(after < (drive ? 0.12 : 0.05));
    }
}
