// Distances told by hand and by shelters.
#include "base/angle.h"
#include "base/error.h"
#include "picture/compare.h"
#include "stitch/compose.h"
#include "stitch/colour_match/edge_median.h"
#include "support/support.h"

#include <opencv2/imgproc.hpp>

using namespace porb;
using namespace porb::test;

namespace {

/// A field in which a near thing of some degrees stands before a wall, and what counts everywhere.
struct Scene {
    SphereGrid field{288, 2, 0}, counts{288, 1, 1};
    Vec3 thing = forward_of({20, 5, 0});
    float near = 0.8f, wall = 0.25f;
    Scene() {
        for (int y = 0; y < field.side; ++y)
            for (int x = 0; x < field.side; ++x) {
                field.cell(x, y)[0] = field.direction(x, y).dot(thing) > std::cos(radians(8)) ? near : wall;
                field.cell(x, y)[1] = 1;
            }
        field.close_edges();
    }
};

DistanceArea oval(double yaw_deg, double pitch_deg, double width_deg, double height_deg) {
    DistanceArea out;
    out.feather_deg = 1;
    out.oval = {Seconds(0), yaw_deg, pitch_deg, width_deg, height_deg};
    return out;
}

Vec3 away_from(const Vec3& d, double deg) {
    return d * std::cos(radians(deg)) + d.unitOrthogonal() * std::sin(radians(deg));
}

} // namespace

TEST_CASE("a plane through three places tells how far away any other is") {
    const Vec3 normal = Vec3(0.2, 1, 0.1).normalized(); // the floor, leaning, 1.5 m below
    const auto metres = [&](const Vec3& d) { return 1.5 / normal.dot(d); };
    const std::array<Vec3, 3> d = {forward_of({0, -40, 0}), forward_of({50, -30, 0}),
                                   forward_of({-60, -70, 0})};
    const Vec3 plane = plane_through(d, {metres(d[0]), metres(d[1]), metres(d[2])});
    const AreaDistance told{DistanceRule::plane, 2, plane, {}};
    for (const Turn& t : {Turn{10, -50, 0}, Turn{-120, -80, 0}, Turn{90, -20, 0}})
        CHECK(*told_inverse_m(told, forward_of(t)) == Approx(1 / metres(forward_of(t))));
    CHECK(*told_inverse_m(told, forward_of({0, 60, 0})) == 0); // it never comes there
    CHECK(*told_inverse_m({DistanceRule::metres, 0, plane, {}}, d[0]) == 0);
    CHECK(!told_inverse_m({DistanceRule::surroundings, 2, plane, {}}, d[0]));
    CHECK(error_of([&] {
              plane_through({d[0], d[0], d[1]}, {1, 2, 3});
          }).find("one line") != std::string::npos);
    CHECK(error_of([&] { plane_through(d, {1, 0, 3}); }).find("place 2") != std::string::npos);
    CHECK_THROWS_AS(plane_through(d, {1, 2, std::nan("")}), Error);
}

TEST_CASE("an area is as far away as it is told, and what it does not cover stays") {
    Scene scene;
    DistanceArea area = oval(20, 5, 40, 40);
    area.distance = {DistanceRule::metres, 2.5, {0, 0, 1}, {}};
    for (int y = 0; y < scene.counts.side; ++y) // half counts in one half of the sphere
        for (int x = 0; x < scene.counts.side; ++x)
            if (scene.counts.direction(x, y).y() > scene.thing.y()) scene.counts.cell(x, y)[0] = 0.5f;
    SphereGrid drawn = scene.field;
    apply_areas(drawn, scene.counts, {&area, 1}, {}, 0.1);
    const double up = away_from(scene.thing, 10).y() < scene.thing.y() ? 1 : -1;
    const Vec3 above = (scene.thing - Vec3(0, 0.1 * up * up, 0)).normalized(),
               below = (scene.thing + Vec3(0, 0.1, 0)).normalized();
    CHECK(drawn.at(above) == Approx(0.4).margin(1e-4));
    CHECK(drawn.at(below) == Approx(0.1 + 0.5 * 0.3).margin(1e-4)); // the rest is the agree distance's
    CHECK(drawn.at(above, 1) == Approx(0).margin(1e-5));            // what was compared lay elsewhere
    CHECK(drawn.at(away_from(scene.thing, 24)) == Approx(double(scene.wall)));
    CHECK(drawn.at(away_from(scene.thing, 24), 1) == Approx(1));
    area.presence = 0.25; // coming in
    drawn = scene.field;
    apply_areas(drawn, SphereGrid(288, 1, 1), {&area, 1}, {}, 0.1);
    CHECK(drawn.at(scene.thing) == Approx(0.75 * double(scene.near) + 0.25 * 0.4).margin(1e-4));
}

TEST_CASE("in a shelter nothing steps: it is as far away as what lies about it") {
    Scene scene;
    const DistanceArea area = oval(20, 5, 36, 30);
    apply_areas(scene.field, scene.counts, {&area, 1}, {}, 0.1);
    double most = 0;
    for (double deg = 0; deg < 15; deg += 0.5)
        most = std::max(most, std::abs(scene.field.at(away_from(scene.thing, deg)) - double(scene.wall)));
    CHECK(most < 0.01); // the thing at its middle is gone, and so is its step
    // A floor that leans goes on across it.
    SphereGrid floor(288, 2, 0);
    for (int y = 0; y < floor.side; ++y)
        for (int x = 0; x < floor.side; ++x) {
            const Vec3 d = floor.direction(x, y);
            floor.cell(x, y)[0] = d.dot(scene.thing) > std::cos(radians(5)) ? 2.0f : float(0.3 + 0.2 * d.y());
        }
    floor.close_edges();
    apply_areas(floor, scene.counts, {&area, 1}, {}, 0.1);
    for (const double deg : {0.0, 5.0, 10.0})
        CHECK(floor.at(away_from(scene.thing, deg)) ==
              Approx(0.3 + 0.2 * away_from(scene.thing, deg).y()).margin(0.012));
}

TEST_CASE("an outline on a lens is drawn where that camera sees what is so far away") {
    Shot shot = shot_for_rig(tiny_rig(), "x");
    shot.rig.cameras[0].pose.position_m = {0.1, 0, 0};
    const Camera& camera = shot.rig.cameras[0];
    // What it sees two metres away in the middle of a square of a tenth of its circle.
    Shape shape;
    shape.distance = AreaDistance{DistanceRule::metres, 2, {0, 0, 1}, {}};
    shape.feather_deg = 0.5;
    const auto corner = [](double x, double y) { return ShapeCorner{{x, y}, {0, 0}, {0, 0}}; };
    shape.keys = {{Seconds(0), {corner(-0.1, -0.1), corner(0.1, -0.1), corner(0.1, 0.1), corner(-0.1, 0.1)}}};
    shot.cameras[0].shapes = {shape};
    const auto areas = distance_areas(shot, Seconds(0));
    REQUIRE(areas.size() == 1);
    const PlanKey key = in_rig_axes(plan_key(shot, View(), Seconds(0), Sources::all));
    CHECK(key.cameras[0].shapes.empty()); // it cuts nothing out
    const SphereGrid field(288, 2, 0);
    std::vector<float> share(288 * 288, 0.0f);
    for (const AreaCell& c : area_cells(areas[0], key, field)) {
        CHECK(c.inverse_m == 0.5f);
        share[std::size_t(c.cell)] = c.share;
    }
    // Ten degrees to either side of the lens's axis; from the rig's centre what is there stands elsewhere.
    const double half = degrees(LensMap(camera.lens).theta_max()) / 10;
    const Mat3 turn = rotation_of(camera.pose.turn);
    for (const double deg : {-half - 1.5, -half + 1, 0.0, half - 1, half + 1.5}) {
        const Vec3 ray = turn * Vec3(std::sin(radians(deg)), 0, std::cos(radians(deg)));
        // Two metres from the centre along the camera's ray.
        const double along =
            -ray.dot(camera.pose.position_m) + std::sqrt(std::pow(ray.dot(camera.pose.position_m), 2) + 4 -
                                                         camera.pose.position_m.squaredNorm());
        const Vec3 there = (camera.pose.position_m + along * ray).normalized();
        INFO(deg << " of " << half << " deg, parallax " << degrees(std::acos(there.dot(ray))));
        CHECK(degrees(std::acos(std::min(1.0, there.dot(ray)))) > 2);
        CHECK(share[std::size_t(octahedral_cell(there, 288))] ==
              Approx(std::abs(deg) < half ? 1 : 0).margin(0.05));
    }
    shape.on = false;
    shot.cameras[0].shapes = {shape};
    CHECK(distance_areas(shot, Seconds(0)).empty());
}

TEST_CASE("in a picture, a told distance lays what two cameras see on each other") {
    const TempFolder folder;
    StillTake take = ring_still(folder, 240);
    Shot& shot = take.project.shots[0];
    Composer composer(std::make_shared<MediaLibrary>());
    const Vec3 seam = forward_of({30, -25, 0});
    Shelter wrong;
    wrong.name = "x";
    wrong.distance = {DistanceRule::metres, 1.1, {0, 0, 1}, {}};
    wrong.keys = {{Seconds(0), 30, -25, 12, 12}};
    const double found = composer.distances(take.project, shot, Seconds(0)).at(seam);
    CHECK(found < 0.7);
    for (const bool fine : {false, true}) {
        shot.seams.flow.fine_edges = fine;
        shot.seams.shelters = {wrong};
        CHECK(composer.distances(take.project, shot, Seconds(0)).at(seam) == Approx(1 / 1.1).margin(1e-3));
        shot.seams.shelters.front().on = false;
        CHECK(composer.distances(take.project, shot, Seconds(0)).at(seam) == Approx(found).margin(0.05));
    }
}

TEST_CASE("steps of parallax take the picture's outline, and what is even stays") {
    cv::Mat guide(60, 80, CV_8U, cv::Scalar(60)), found(60, 80, CV_32F, cv::Scalar(1)),
        sure(60, 80, CV_32F, cv::Scalar(1));
    const cv::Point middle(40, 30);
    cv::circle(guide, middle, 12, cv::Scalar(160), cv::FILLED);
    cv::circle(found, middle, 15, cv::Scalar(6), cv::FILLED); // matched as a blob three columns too wide
    for (int y = 0; y < 60; ++y) // where the picture says something else, what was matched is not the same
        for (int x = 0; x < 80; ++x)
            if (found.at<float>(y, x) > 3 && guide.at<std::uint8_t>(y, x) < 100) sure.at<float>(y, x) = 0.1f;
    cv::Mat truth = guide > 100;
    const auto wrong = [&] { return cv::countNonZero((found > 3) != truth); };
    const int before = wrong();
    const cv::Mat all(guide.size(), CV_8U, cv::Scalar(255)), untouched = found.clone();
    median_along_edges(guide, ~all, found, sure);
    CHECK(cv::countNonZero(found != untouched) == 0);
    median_along_edges(guide, all, found, sure);
    INFO(before << " places before, " << wrong() << " after");
    CHECK(before > 200);
    CHECK(wrong() < 20);
    cv::Mat even(60, 80, CV_32F);
    cv::randu(even, 2.0f, 2.3f);
    const cv::Mat kept = even.clone();
    median_along_edges(guide, all, even, sure);
    CHECK(cv::countNonZero(even != kept) == 0);
}
