#include "solve/pictures/edges.h"

#include "base/angle.h"
#include "optics/ray_error.h"
#include "solve/bundle/solve_points.h"
#include "solve/made_up.h"
#include "solve/pictures/grey.h"

using namespace porb;
using namespace porb::test;

namespace {

Rig one_camera(int size) {
    Rig rig = nominal_rig(1, size, size, 1, 190);
    rig.cameras[0].pose.turn = {20, -12, 7}; // no wall is square to the lens
    return rig;
}

std::vector<LineMark> edges_in(const Rig& rig, const std::function<float(const Vec3&)>& paint) {
    Moment moment;
    moment.seen = {std::make_shared<const GreyPyramid>(painted(rig.cameras[0], paint))};
    return find_straight_edges(rig, moment, 5, Cancel());
}

/// The mean bend of edges under a lens.
double mean_bend(const std::vector<LineMark>& edges, const Lens& lens) {
    double sum = 0;
    for (const auto& e : edges) sum += bend_px(lens, e.places_px);
    return sum / double(std::max<std::size_t>(1, edges.size()));
}

/// Places along great circles as a camera sees them, with noise.
std::vector<LineMark> made_up_edges(const Camera& camera, int count, double noise_px, std::mt19937& random) {
    std::normal_distribution<double> bell;
    std::uniform_real_distribution<double> flat(0, 1);
    const LensMap map(camera.lens);
    std::vector<LineMark> out;
    while (int(out.size()) < count) {
        const Vec3 normal = Vec3(bell(random), bell(random), 0.5 * bell(random)).normalized();
        const Vec3 along = normal.cross(Vec3(0, 0, 1)).cross(normal).normalized(), side = normal.cross(along);
        LineMark mark;
        mark.kind = LineKind::straight;
        mark.camera = camera.id;
        mark.found = true;
        const double from = flat(random) - 0.8, length = 0.6 + 0.6 * flat(random);
        for (int i = 0; i < 16; ++i) {
            const double a = from + length * i / 15;
            const Vec2 p = map.project_anywhere(std::cos(a) * along + std::sin(a) * side);
            if (map.clearance(p) > 4)
                mark.places_px.push_back(p + noise_px * Vec2(bell(random), bell(random)));
        }
        if (mark.places_px.size() == 16) out.push_back(mark);
    }
    return out;
}

} // namespace

TEST_CASE("straight edges of a room are followed to a fraction of a pixel, and show a wrong lens") {
    const Rig rig = one_camera(420);
    const auto edges = edges_in(rig, panelled_room);
    REQUIRE(edges.size() >= 12);
    CHECK(edges.front().id == 5);
    const LensMap map(rig.cameras[0].lens);
    for (const auto& e : edges) {
        CHECK(e.found);
        CHECK(e.kind == LineKind::straight);
        CHECK(e.places_px.size() >= 10);
        CHECK(bend_px(rig.cameras[0].lens, e.places_px) < 0.35);
        const Vec3 a = *map.unproject(e.places_px.front()), b = *map.unproject(e.places_px.back());
        CHECK(degrees(std::acos(a.dot(b))) > 15);
    }
    const double bend = mean_bend(edges, rig.cameras[0].lens);
    CHECK(bend < 0.12);
    Lens wrong = rig.cameras[0].lens;
    wrong.radial[0] = 0.03;
    CHECK(mean_bend(edges, wrong) > 3 * bend);
    wrong = rig.cameras[0].lens;
    wrong.focal_px *= 1.05;
    CHECK(mean_bend(edges, wrong) > 2 * bend);
}

TEST_CASE("rings and thin bars are not taken for straight edges") {
    const Rig rig = one_camera(420);
    const auto rings =
        edges_in(rig, [](const Vec3& d) { // circles of 15, 30, 45 degrees about a place off the axis
            const double from =
                degrees(std::acos(std::clamp(d.dot(Vec3(0.3, 0.2, 0.93).normalized()), -1.0, 1.0)));
            return from < 60 && int(from / 15) % 2 ? 0.7f : 0.2f; // (one of 90 degrees would be straight)
        });
    CHECK(rings.empty());
    const auto bars = edges_in(rig, [](const Vec3& d) { // bars a third of a degree wide: less than a pixel
        const double a = degrees(std::atan2(d.x(), d.z()));
        return std::abs(a - 10 * std::round(a / 10)) < 0.17 ? 0.9f : 0.2f;
    });
    CHECK(bars.empty());
}

TEST_CASE("edges tell the focal length that a pair looking one way cannot", "[slow]") {
    double sum_with = 0, sum_without = 0;
    for (const unsigned seed : {81u, 82u, 83u, 84u}) {
        const MadeUp m = made_up(sim::SimRig::pair_180, true, 260, 0.1, seed, 0, false);
        Shot shot = shot_of(m);
        std::mt19937 random(seed);
        const auto off = [&](const Rig& rig) { return ray_error(m.truth.actual, rig).mean_deg; };
        const double without = off(solve_points({&shot}, shot.rig, shot.rig, true, Cancel()).rig);
        for (const auto& c : m.truth.actual.cameras)
            for (auto& e : made_up_edges(c, 24, 0.08, random)) shot.calibration.lines.push_back(std::move(e));
        // One that is not straight at all in the world: it must be noticed and left out.
        LineMark arch = shot.calibration.lines.back();
        const Vec2 chord = arch.places_px.back() - arch.places_px.front(),
                   across = Vec2(-chord.y(), chord.x()).normalized();
        for (std::size_t i = 0; i < arch.places_px.size(); ++i)
            arch.places_px[i] += 6 * std::pow((double(i) - 7.5) / 7.5, 2) * across;
        shot.calibration.lines.push_back(arch);
        const auto solved = solve_points({&shot}, shot.rig, shot.rig, true, Cancel());
        INFO("seed " << seed << ": " << without << " without edges, " << off(solved.rig) << " with");
        CHECK(off(solved.rig) < 0.09);
        sum_with += off(solved.rig), sum_without += without;
        CHECK(solved.report.edges.used == 48);
        CHECK(solved.report.edges.left_out == 1);
        CHECK(solved.report.edges.rms_px < 0.3);
        CHECK(solved.lines[0].size() == 48);
    }
    CHECK(sum_with < 0.4 * sum_without);
}

TEST_CASE("a pair in a room that looks aside of where its baseline says is solved, and stays where it was") {
    for (const unsigned seed : {91u, 92u, 93u}) {
        const MadeUp m = made_up(sim::SimRig::pair_180, false, 1500, 0.04, seed, 0, false);
        Shot shot = shot_of(m);
        std::mt19937 random(seed);
        for (const auto& c : m.truth.actual.cameras)
            for (auto& e : made_up_edges(c, 24, 0.08, random)) shot.calibration.lines.push_back(std::move(e));
        const Rig solved = solve_points({&shot}, shot.rig, shot.rig, true, Cancel()).rig;
        Vec3 mean = Vec3::Zero();
        for (std::size_t c = 0; c < 2; ++c) {
            const Vec2 off = solved.cameras[c].lens.center_px - m.truth.actual.cameras[c].lens.center_px;
            INFO("seed " << seed << ", camera " << c << ": centre off by " << off.transpose() << " px");
            CHECK(off.norm() < 0.5);
            mean += 0.5 * rotation_vector(rotation_of(solved.cameras[c].pose.turn) *
                                          rotation_of(shot.rig.cameras[c].pose.turn).transpose());
        }
        CHECK(degrees(mean.norm()) < 1e-2);
        const double off = ray_error(m.truth.actual, solved).mean_deg;
        INFO("seed " << seed << ": rays off by " << off << " degrees");
        CHECK(off < 0.06);
    }
}

TEST_CASE("lines drawn by hand stay, bent or not, and uneven lenses keep straight things straight") {
    MadeUp m = made_up(sim::SimRig::two_fisheyes, true, 200, 0.1, 84);
    for (Rig* rig : {&m.truth.actual, &m.truth.nominal})
        rig->cameras[0].lens.non_radial.tangential = {0.004, -0.003};
    Shot shot = shot_of(m);
    shot.rig = m.truth.actual; // already right: lines that are straight under it must not move it
    std::mt19937 random(9);
    shot.calibration.lines = made_up_edges(shot.rig.cameras[0], 14, 0.02, random);
    for (const auto& l : shot.calibration.lines) CHECK(bend_px(shot.rig.cameras[0].lens, l.places_px) < 0.05);
    shot.calibration.lines[3].found = false;
    for (auto& p : shot.calibration.lines[3].places_px)
        p.x() += 0.02 * std::pow(p.y() - shot.calibration.lines[3].places_px[0].y(), 2);
    shot.calibration.points = ControlPoints{};
    for (auto& c : shot.cameras) c.pose_locked = true;
    const auto solved = solve_points({&shot}, shot.rig, shot.rig, true, Cancel());
    CHECK(std::count_if(solved.lines[0].begin(), solved.lines[0].end(),
                        [](const LineMark& l) { return !l.found; }) == 1);
    CHECK(ray_error(m.truth.actual, solved.rig).mean_deg < 0.05);
}
