// Where near things end: what cameras see beside them, and from whom it is drawn.
#include "base/angle.h"
#include "base/error.h"
#include "media/still.h"
#include "picture/compare.h"
#include "stitch/depth_map.h"
#include "stitch/distances/carve.h"
#include "stitch/distances/pair_borders.h"
#include "stitch/plan/coverage.h"
#include "support/support.h"

#include <opencv2/imgproc.hpp>

#include <utility>

using namespace porb;
using namespace porb::test;

namespace {

/// A ball before a wall that goes all the way round the viewer.
struct Scene {
    Vec3 ball{0.25, -0.1, 1.2};
    double radius = 0.3, wall_m = 4;
    /// Metres to the first of the two.
    double depth(const Vec3& from, const Vec3& direction) const {
        const auto meets = [&](const Vec3& centre, double r, bool inside) {
            const Vec3 to = centre - from;
            const double along = to.dot(direction), off2 = to.squaredNorm() - along * along;
            if (off2 > r * r || (!inside && along < 0)) return 1e9;
            return along + (inside ? 1 : -1) * std::sqrt(r * r - off2);
        };
        return std::min(meets(ball, radius, false), meets({0, 0, 0}, wall_m, true));
    }
    /// As seen from the centre, 1/m.
    SphereGrid field() const {
        SphereGrid grid(576, 2);
        for (int y = 0; y < grid.side; ++y)
            for (int x = 0; x < grid.side; ++x)
                grid.cell(x, y)[0] = float(1 / depth({0, 0, 0}, grid.direction(x, y)));
        grid.close_edges();
        return grid;
    }
};

} // namespace

TEST_CASE("a near thing hides from each camera what a ray to it meets") {
    const Scene scene;
    const SphereGrid grid = scene.field();
    const Viewpoint viewpoints[] = {{3, {0.1, 0.02, 0}}, {5, {-0.05, 0, 0.08}}, {63, {0, 0, 0}}};
    const auto hidden = hidden_cameras(grid, viewpoints, {}, 1);
    for (const Viewpoint& v : viewpoints) {
        cv::Mat truth(grid.side, grid.side, CV_8U), told(truth.size(), CV_8U), wall(truth.size(), CV_8U),
            inside, outside, beside, rim;
        for (int y = 0; y < grid.side; ++y)
            for (int x = 0; x < grid.side; ++x) {
                const Vec3 d = grid.direction(x, y), ray = scene.depth({0, 0, 0}, d) * d - v.pupil_m;
                const bool blocked = scene.depth(v.pupil_m, ray.normalized()) < ray.norm() - 0.05;
                const auto bits =
                    hidden[std::size_t(y + 1) * std::size_t(grid.side + 2) + std::size_t(x + 1)];
                truth.at<std::uint8_t>(y, x) = blocked ? 255 : 0;
                wall.at<std::uint8_t>(y, x) = scene.depth({0, 0, 0}, d) > 3.9 ? 255 : 0;
                told.at<std::uint8_t>(y, x) = bits >> v.camera & 1 ? 255 : 0;
            }
        cv::erode(truth, inside, cv::Mat()); // along its rim a cell more or less, and one that is soft
        cv::dilate(truth, outside, cv::Mat(), cv::Point(-1, -1), 2);
        cv::dilate(~wall | truth, beside, cv::Mat(), cv::Point(-1, -1), 2); // shadows end in less than a cell
        cv::dilate(truth, rim, cv::getStructuringElement(cv::MORPH_CROSS, cv::Size(3, 3)));
        rim &= ~truth & wall;
        INFO("camera " << v.camera << ": " << cv::countNonZero(truth) << " cells");
        CHECK(cv::countNonZero(inside & ~told) == 0);
        CHECK(cv::countNonZero(told & ~outside) <= 0.04 * cv::countNonZero(truth));
        CHECK(cv::countNonZero(told & ~beside) == 0);
        CHECK(cv::countNonZero(rim & told) >= 0.75 * cv::countNonZero(rim)); // where the outline is soft
        CHECK((cv::countNonZero(inside) > 300) == (v.camera != 63));         // the centre itself sees it all
    }
    // What is not known neither hides nor is hidden.
    const std::vector<char> nothing(std::size_t(grid.side) * std::size_t(grid.side), 0);
    CHECK(hidden_cameras(grid, viewpoints, nothing, 1).empty());
}

TEST_CASE("what nobody sees beside a near thing is drawn as that thing, as far as it is unseen") {
    const Scene scene;
    const SphereGrid seen = scene.field();
    // The first two look past the same side of the ball. The third would see what they do not, if it looked
    // there.
    const bool third_looks = GENERATE(false, true);
    const Viewpoint viewpoints[] = {
        {0, {-0.06, 0, 0}},
        {1, {-0.05, 0.03, 0}},
        {2, {0.08, 0, 0}, Vec3(0, 0, third_looks ? 1 : -1), std::cos(radians(95.0))}};
    SphereGrid grid = seen;
    auto hidden = hidden_cameras(grid, viewpoints, {}, 1);
    const auto before = hidden;
    cover_unseen(grid, hidden, viewpoints);
    int covered = 0, unseen = 0, still_hidden = 0, others = 0;
    for (int y = 0; y < grid.side; ++y)
        for (int x = 0; x < grid.side; ++x) {
            const std::size_t at = std::size_t(y + 1) * std::size_t(grid.side + 2) + std::size_t(x + 1);
            const std::uint64_t all = third_looks ? 0b111 : 0b011;
            if ((before[at] & all) == all) {
                ++unseen;
                covered += grid.cell(x, y)[0] > 0.7f;
                still_hidden += (hidden[at] & all) == all;
            } else {
                others += grid.cell(x, y)[0] != seen.cell(x, y)[0] || hidden[at] != before[at];
            }
        }
    CHECK(others == 0);
    CHECK((unseen > 300) == !third_looks);
    CHECK(covered >= 0.95 * unseen); // at the ball's tips a shadow may stand beside the wall alone
    CHECK(still_hidden <= 0.05 * unseen);
}

TEST_CASE("where one pair hands over to the next distances are evened out, and steps stay") {
    constexpr int side = 24, finer = 2;
    std::vector<std::int16_t> pair_of(side * side, 0);
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x)
            pair_of[std::size_t(y * side + x)] = x < side / 2 ? 0 : x < 20 ? 1 : -1;
    const std::vector<int> borders = pair_borders(pair_of, side);
    CHECK(borders.size() == 6 * side); // where a pair ends and none begins there is nothing to even out
    // A little apart left and right of the border, and a near thing across it.
    SphereGrid grid(side * finer, 1);
    const auto is_near = [](int y) { return y >= 20 && y < 28; };
    for (int y = 0; y < grid.side; ++y)
        for (int x = 0; x < grid.side; ++x)
            grid.cell(x, y)[0] = (is_near(y) ? 1.0f : 0.2f) + (x < grid.side / 2 ? 0.0f : 0.04f);
    smooth_fine_borders(grid, borders, finer);
    float steepest = 0;
    for (int y = 0; y < grid.side; ++y)
        for (int x = 1; x < grid.side; ++x)
            steepest = std::max(steepest, std::abs(grid.cell(x, y)[0] - grid.cell(x - 1, y)[0]));
    CHECK(steepest < 0.012f);
    for (const int y : {19, 20, 27, 28})
        CHECK(double(grid.cell(grid.side / 2, y)[0]) == Approx(is_near(y) ? 1.02 : 0.22).margin(0.01));
    CHECK(grid.cell(3, 10)[0] == 0.2f); // away from borders nothing changes
}

TEST_CASE("away from outlines neither sides nor shadows lie") {
    const Scene scene;
    const SphereGrid grid = scene.field();
    const Viewpoint viewpoints[] = {{3, {0.1, 0.02, 0}}, {5, {-0.05, 0, 0.08}}};
    const auto hidden = hidden_cameras(grid, viewpoints, {}, 1);
    const Silhouettes silhouettes = silhouettes_of(grid, hidden, {}, 1);
    const bool sides = GENERATE(true, false); // each alone is found, too
    const OutlineBlocks outlines = outline_blocks(
        grid.side, sides ? std::span<const std::uint64_t>() : hidden, sides ? silhouettes : Silhouettes());
    const int wide = grid.side + 2;
    int missed = 0, found = 0;
    for (int v = 0; v <= grid.side; ++v)
        for (int u = 0; u <= grid.side; ++u) {
            const int cell = v * wide + u,
                      block = (v >> 2) * OutlineBlocks::blocks_along(grid.side) + (u >> 2);
            bool any = sides && silhouettes.touches(cell, grid.side);
            for (const int c : {cell, cell + 1, cell + wide, cell + wide + 1})
                any = any || (!sides && hidden[std::size_t(c)] != 0);
            if (any) ++found, missed += !outlines.beside[std::size_t(block)];
        }
    CHECK(found > 500);
    CHECK(missed == 0);
    CHECK(std::count(outlines.beside.begin(), outlines.beside.end(), 1) < int(outlines.beside.size()) / 20);
}

TEST_CASE("weight of who does not see goes to who does, and the sum stays") {
    const auto shared_out = [](std::vector<float> weights, const std::vector<float>& visible,
                               std::size_t count) {
        share_out_hidden(weights, visible, count);
        return weights;
    };
    const auto sum = [](const std::vector<float>& w) { return std::accumulate(w.begin(), w.end(), 0.0f); };
    const std::vector<float> alone =
        shared_out({0.8f, 0, 0}, {0, 1, 1}, 1); // a fading lens, and two in reserve
    CHECK(sum(alone) == Approx(0.8f));
    CHECK(alone[0] < 0.005f);
    CHECK(alone[1] > 0.75f); // the first of them
    const std::vector<float> both = shared_out({0.3f, 0.7f, 0}, {1, 0, 1}, 2);
    CHECK(both[1] < 0.001f);
    CHECK(both[0] > 0.9f); // whoever had weight goes first
    CHECK(sum(both) == Approx(1));
    CHECK(shared_out({0.3f, 0.7f}, {0, 0}, 2) == std::vector<float>{0.3f, 0.7f}); // nobody sees: as it was
    CHECK(shared_out({0.3f, 0.7f}, {1, 1}, 2) == std::vector<float>{0.3f, 0.7f});
    float before = 1; // and nothing jumps on the way
    for (float v = 1; v >= 0; v -= 0.01f) {
        const float w = shared_out({1, 0}, {v, 1}, 1)[0];
        CHECK(w <= before + 1e-6f);
        CHECK(before - w < 0.04f);
        before = w;
    }
}

TEST_CASE("distances step on both sides of a near thing, whichever camera sees what lies beside it") {
    const Scene scene;
    const Vec3 a(-0.08, 0, 0.05), b(0.08, 0.01, 0.05);
    std::vector<Vec3> directions;
    for (int yaw = -20; yaw <= 40; yaw += 2)
        for (int pitch = -25; pitch <= 30; pitch += 2)
            directions.push_back(forward_of({double(yaw), double(pitch), 0}));
    const Strip strip = strip_about(a, b, directions, 1 / 0.7, radians(1), radians(0.25), radians(0.43));
    const auto parallax = [&](const Vec3& from) {
        cv::Mat out(strip.height, strip.width, CV_32F);
        for (int y = 0; y < out.rows; ++y)
            for (int x = 0; x < out.cols; ++x) {
                const Vec3 d = strip.direction(x + 0.5, y + 0.5), there = from + scene.depth(from, d) * d;
                out.at<float>(y, x) = float(strip.place((there - b).normalized()).x() -
                                            strip.place((there - a).normalized()).x());
            }
        return out;
    };
    const cv::Mat of_b = parallax(b), truth = parallax(a);
    const cv::Mat of_a = parallax_by_a(of_b), all(of_b.size(), CV_8U, cv::Scalar(255));
    cv::Mat off = cv::abs(of_a - truth) > 1;
    CHECK(cv::countNonZero(off) < 0.02 * double(off.total()));
    const CarveMaps maps = carve_maps(of_a, of_b, all, all);
    std::vector<CarveNode> nodes;
    std::vector<CarveSearch> searches;
    std::vector<float> one_by_one;
    int wrong = 0, count = 0;
    for (double yaw = -18; yaw <= 38; yaw += 0.3)
        for (double pitch = -22; pitch <= 28; pitch += 0.3) {
            const Vec3 d = forward_of({yaw, pitch, 0});
            nodes.push_back(carve_node(strip, 0, d, 1.5 / 0.7));
            const float found = carved(maps, nodes.back(), 1.4f, 0);
            one_by_one.push_back(found);
            searches.push_back({count++, 1.4f, 0});
            wrong += std::abs(double(found) - 1 / scene.depth({0, 0, 0}, d)) > 0.05;
        }
    CHECK(wrong < 0.015 * count);
    searches.pop_back(); // not one of whole vectors
    if (searches.size() % 8 == 0) searches.pop_back();
    std::vector<float> side_by_side(searches.size());
    carve(maps, nodes, searches, side_by_side);
    int differ = 0; // rounding tells which of two surfaces a place at an outline is
    for (std::size_t i = 0; i < searches.size(); ++i)
        differ += std::abs(side_by_side[i] - one_by_one[i]) > 1e-4f;
    CHECK(differ < 0.001 * count);
    // Where neither looks, nothing is told to be near.
    const cv::Mat none = cv::Mat::zeros(of_b.size(), CV_8U);
    CHECK(carved(carve_maps(of_a, of_b, none, none), carve_node(strip, 0, directions[0], 2), 1.4f, 0) == 0);
}

TEST_CASE("beside an outline both sides are known, and pass into each other as in a lens's pixel") {
    const Scene scene;
    SphereGrid grid = scene.field();
    std::vector<std::uint64_t> hidden(std::size_t(578) * 578);
    for (int y = 0; y < grid.side; ++y)
        for (int x = 0; x < grid.side; ++x)
            hidden[std::size_t(y + 1) * 578 + std::size_t(x + 1)] = grid.cell(x, y)[0] > 0.5f ? 1 : 2;
    repeat_across_folds(576, 1, hidden);
    const double soft = GENERATE(1.0, 4.0);
    const Silhouettes silhouettes = silhouettes_of(grid, hidden, {}, soft);
    REQUIRE_FALSE(silhouettes.empty());
    for (const auto& c : silhouettes.cells) {
        CHECK(c.near.inverse_m > 0.65f); // the ball's rim is 1.17 m away
        CHECK(c.far.inverse_m == Approx(0.25).margin(1e-6));
        CHECK(c.near.hidden == 1);
        CHECK(c.far.hidden == 2);
    }
    // Along a way from the ball's middle outwards: from all of it to nothing of it, evenly, half at the
    // outline.
    const Vec3 middle = scene.ball.normalized(), aside = middle.cross(Vec3(0, 1, 0)).normalized();
    const double rim = std::asin(scene.radius / scene.ball.norm()), cell = kPi / 2 / 576;
    double before = 1, least = 1, most = 0;
    for (double a = rim - 8 * cell; a < rim + 8 * cell; a += cell / 8) {
        const Vec3 d = std::cos(a) * middle + std::sin(a) * aside;
        const Vec2 at = octahedral_place(d) * grid.side + Vec2(0.5, 0.5);
        const int u = int(at.x()), v = int(at.y());
        if (!silhouettes.touches(v * 578 + u, grid.side)) continue;
        const SidesThere there =
            sides_between(silhouettes, grid, v * 578 + u, float(at.x() - u), float(at.y() - v));
        const double share = double(there.share);
        CHECK(share < before + 0.08); // a round outline on square cells
        CHECK(std::abs(share - before) < 0.3);
        if (std::abs(a - rim) < cell / 8) CHECK(share == Approx(0.5).margin(0.35));
        before = share, least = std::min(least, share), most = std::max(most, share);
    }
    CHECK(least < 0.01);
    CHECK(most > 0.99);
    // What leans, however much, is one thing.
    for (int y = 0; y < grid.side; ++y)
        for (int x = 0; x < grid.side; ++x) grid.cell(x, y)[0] = float(0.5 + 0.4 * grid.direction(x, y).x());
    grid.close_edges();
    CHECK(silhouettes_of(grid, {}, {}, soft).empty());
}

TEST_CASE("a rod keeps its width for both cameras and from between them") {
    const Vec3 a(-0.08, 0, 0), b(0.08, 0, 0);
    std::vector<Vec3> directions;
    for (int yaw = -20; yaw <= 20; yaw += 2)
        for (int pitch = -10; pitch <= 10; pitch += 2)
            directions.push_back(forward_of({double(yaw), double(pitch), 0}));
    const Strip strip = strip_about(a, b, directions, 1 / 0.7, radians(1), radians(0.25), radians(0.43));
    // Upright before ground infinitely far, some 0.9 m away.
    const int first = strip.width / 2, wide = 5, near = 40;
    cv::Mat of_b(strip.height, strip.width, CV_32F, cv::Scalar(0));
    of_b.colRange(first, first + wide).setTo(near);
    const cv::Mat of_a = parallax_by_a(of_b), all(of_b.size(), CV_8U, cv::Scalar(255));
    cv::Mat expected(of_b.size(), CV_32F, cv::Scalar(0));
    expected.colRange(first - near, first - near + wide).setTo(near);
    CHECK(cv::countNonZero(of_a != expected) == 0);
    const CarveMaps maps = carve_maps(of_a, of_b, all, all);
    int shown = 0;
    constexpr double step_deg = 0.01;
    for (double yaw = -12; yaw < 12; yaw += step_deg)
        shown += carved(maps, carve_node(strip, 0, forward_of({yaw, 0, 0}), 1.5 / 0.7), 1.4f, 0) > 0.5f;
    // As wide as either camera sees it, but for what the centre stands further back or to a side.
    const double seen_deg = 0.25 * wide;
    CHECK(shown * step_deg > 0.85 * seen_deg);
    CHECK(shown * step_deg < 1.15 * seen_deg);
}

TEST_CASE("distances are written as a picture, turned as the sphere is") {
    const TempFolder folder;
    sim::SimOptions o;
    o.rig = sim::SimRig::ring_of_six;
    o.circle_size = 160;
    StillTake take = hall_still(folder, o);
    Shot& shot = take.project.shots[0];
    shot.seams.agree_distance_m = 4;
    shot.levelling.orientation = {50, 0, 0};
    Composer composer(std::make_shared<MediaLibrary>());
    View view;
    view.target = equirect_target(256);
    shot.seams.flow.on = false;
    for (const float m : depth_map(composer, take.project, shot, Seconds(0), view).metres)
        REQUIRE(m == Approx(4));
    shot.seams.agree_distance_m = 0;
    CHECK(depth_map(composer, take.project, shot, Seconds(0), view).metres[99] == kFarthestDepth_m);
    shot.seams.agree_distance_m = 4;
    shot.seams.flow.on = true;
    shot.seams.flow.fine_edges = true;
    shot.seams.flow.everywhere = false; // so that trust follows the zone
    const Cancel stopped;
    stopped.raise();
    CHECK_THROWS_AS(depth_map(composer, take.project, shot, Seconds(0), view, stopped), Cancelled);
    const DepthMap depth = depth_map(composer, take.project, shot, Seconds(0), view);
    // Trust is kept by what it follows from.
    const SphereGrid trust = composer.confidence(take.project, shot, Seconds(0));
    CHECK(composer.confidence(take.project, shot, Seconds(0)).values == trust.values);
    const double zone_deg = std::exchange(shot.seams.flow.zone_deg, 8.0);
    CHECK(composer.confidence(take.project, shot, Seconds(0)).values != trust.values);
    shot.seams.flow.zone_deg = zone_deg;
    const SphereGrid found = composer.distances(take.project, shot, Seconds(0));
    const Vec3 seam = forward_of({30, 10, 0}); // of the rig, which looks 50 degrees further to the right
    const Vec2 px = *TargetMap(view.target).pixel(rotation_of(shot.levelling.orientation) * seam);
    const auto at = std::size_t(px.y()) * 256 + std::size_t(px.x());
    const Vec3 centre =
        rotation_of(shot.levelling.orientation).transpose() *
        *TargetMap(view.target).direction({std::floor(px.x()) + 0.5, std::floor(px.y()) + 0.5});
    CHECK((centre - seam).norm() < 0.03);
    CHECK(double(depth.metres[at]) == Approx(std::min(1e4, 1 / found.at(centre))).epsilon(1e-4));
    CHECK(double(depth.metres[at]) > 4.5); // the wall, not the agree distance
    write_depth(depth, folder / "z.png");
    const Picture read = read_still(folder / "z.png");
    CHECK(double(pixel_at(read, int(px.x()), int(px.y())).g) ==
          Approx(0.25 / double(depth.metres[at])).margin(1e-3));
    write_depth(depth, folder / "z.exr");
    CHECK(std::filesystem::file_size(folder / "z.exr") > 1000);
    CHECK_THROWS_AS(write_depth(depth, folder / "z.jpg"), Error);
}

TEST_CASE("with fine edges, outlines of near things come closer to the truth", "[slow]") {
    const TempFolder folder;
    sim::SimOptions o;
    o.rig = sim::SimRig::ring_of_six;
    o.circle_size = 480;
    o.things = sim::Things::clutter;
    o.faults.lens = o.faults.pose = o.faults.noise = true;
    StillTake take = hall_still(folder, o);
    Shot& shot = take.project.shots[0];
    shot.seams.agree_distance_m = 4;
    shot.seams.flow.on = true;
    sim::Hall hall(sim::Things::clutter);
    constexpr int kWidth = 864;
    View view;
    view.target = equirect_target(kWidth);
    const Picture truth =
        sim::true_panorama(hall, o, 0, SphereMapping::equirect, kWidth, sim::TruthEye::mono);
    const Coverage coverage(plan_key(shot, view));
    const TargetMap map(view.target);
    cv::Mat inverse(kWidth / 2, kWidth, CV_32F), near_seams = cv::Mat::zeros(inverse.size(), CV_8U);
    for (int y = 36; y < inverse.rows - 36; ++y)
        for (int x = 0; x < kWidth; ++x) {
            const Vec3 d = *map.direction({x + 0.5, y + 0.5});
            inverse.at<float>(y, x) = 1 / hall.depth(sim::Vec3f(0, 0, 0), d.cast<float>());
            auto lead = coverage.lead_deg(d);
            std::sort(lead.rbegin(), lead.rend());
            near_seams.at<std::uint8_t>(y, x) = lead[1] > 2 && lead[0] - lead[1] < 9 ? 255 : 0;
        }
    cv::Mat behind, beside; // within four pixels of what stands a fifth nearer than what is behind it
    cv::erode(inverse, behind, cv::Mat());
    beside = inverse > 1.25 * behind;
    cv::dilate(beside, beside, cv::getStructuringElement(cv::MORPH_ELLIPSE, cv::Size(9, 9)));
    beside &= near_seams;
    REQUIRE(cv::countNonZero(beside) > 5000);
    Composer composer(std::make_shared<MediaLibrary>());
    const auto error = [&] {
        const Picture made = composer.compose(take.project, shot, Seconds(0), view);
        double sum = 0;
        for (int y = 0; y < beside.rows; ++y)
            for (int x = 0; x < kWidth; ++x)
                if (beside.at<std::uint8_t>(y, x))
                    sum += std::pow(double(pixel_at(made, x, y).g - pixel_at(truth, x, y).g), 2);
        return std::sqrt(sum / cv::countNonZero(beside));
    };
    const double plain = error();
    shot.seams.flow.fine_edges = true;
    const double fine = error();
    INFO(plain << " plain, " << fine << " fine");
    CHECK(fine < 0.93 * plain);
}
