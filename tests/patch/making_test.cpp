// Plates, proposals, completion, brushes and light, against what is known.
#include "base/angle.h"
#include "base/error.h"
#include "patch/brush.h"
#include "patch/fill.h"
#include "patch/light.h"
#include "patch/outline.h"
#include "patch/propose.h"
#include "picture/transfer.h"
#include "support/support.h"

#include <set>

using namespace porb;
using namespace porb::test;

namespace {

Picture painted(int side, const std::function<Rgba(int, int)>& colour) {
    Picture p(side, side);
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x) set_pixel(p, x, y, colour(x, y));
    return p;
}

/// A floor of tiles with joints, and some unevenness.
Rgba tiles_floor(int x, int y) {
    const bool joint = x % 32 < 3 || y % 32 < 3;
    const float grain = 0.02f * std::sin(float(x) * 0.9f) * std::cos(float(y) * 1.3f);
    const float v = joint ? 0.15f : ((x / 32 + y / 32) % 2 ? 0.5f : 0.65f) + grain;
    return {v, v * 0.9f, v * 0.8f, 1};
}

double worst_difference(const Picture& a, const Picture& b, const std::vector<float>& where) {
    double sum = 0;
    int n = 0;
    for (int y = 0; y < a.height(); ++y)
        for (int x = 0; x < a.width(); ++x)
            if (where[std::size_t(y * a.width() + x)] > 0.5f) {
                const double d = pixel_at(a, x, y).g - pixel_at(b, x, y).g;
                sum += d * d, ++n;
            }
    return std::sqrt(sum / n);
}

bool same(const Picture& a, const Picture& b) {
    for (int y = 0; y < a.height(); ++y)
        if (!std::equal(a.row(y), a.row(y) + 4 * a.width(), b.row(y))) return false;
    return true;
}

std::vector<StrokePoint> line_of(Vec2 from, const Vec2& to, int n = 12) {
    std::vector<StrokePoint> out;
    for (int i = 0; i <= n; ++i) out.push_back({from + (to - from) * (double(i) / n), 1});
    return out;
}

} // namespace

TEST_CASE("a hole in a tiled floor is filled with tiles that go on, the same for the same seed") {
    const int side = 192;
    Picture floor = painted(side, tiles_floor);
    const Picture whole = painted(side, tiles_floor);
    std::vector<float> hole(std::size_t(side) * side);
    for (int y = 70; y < 118; ++y)
        for (int x = 60; x < 130; ++x) hole[std::size_t(y * side + x)] = 1, set_pixel(floor, x, y, {});
    FillSettings settings;
    settings.turned = false;
    const Picture made = completed(floor, hole, {}, settings);
    CHECK(worst_difference(made, whole, hole) < 0.05); // without filling: 0.5; a grey patch: 0.15
    for (int y = 0; y < side; y += 11) CHECK(pixel_at(made, 3, y).g == pixel_at(whole, 3, y).g);
    CHECK(same(made, completed(floor, hole, {}, settings)));
    settings.seed = 2;
    CHECK_FALSE(same(made, completed(floor, hole, {}, settings)));
    settings.turned = true;
    CHECK(worst_difference(completed(floor, hole, {}, settings), whole, hole) < 0.12);

    // A joint goes on through a thin hole along it, if the floor has others, whichever way they run.
    Picture line = painted(256, [](int x, int y) {
        return std::min({std::abs(y - 128), std::abs(x - 30), std::abs(x - 222)}) < 3
                   ? Rgba{0.1f, 0.1f, 0.1f, 1}
                   : Rgba{0.6f, 0.5f, 0.4f, 1};
    });
    std::vector<float> gap(256 * 256);
    for (int y = 118; y < 138; ++y)
        for (int x = 90; x < 160; ++x) gap[std::size_t(y * 256 + x)] = 1, set_pixel(line, x, y, {});
    const Picture through = completed(line, gap, {}, {});
    for (int x = 90; x < 160; x += 7) {
        float darkest = 1; // it may lie a pixel or two elsewhere
        for (int y = 125; y < 132; ++y) darkest = std::min(darkest, pixel_at(through, x, y).g);
        CHECK(darkest < 0.2f);
    }

    // Only from where it may take.
    std::vector<float> source(hole.size());
    for (int y = 0; y < 64; ++y)
        for (int x = 0; x < side; ++x) source[std::size_t(y * side + x)] = 1;
    CHECK_NOTHROW(completed(floor, hole, source, settings));
    CHECK(error_of([&] {
              completed(floor, hole, std::vector<float>(hole.size()), settings);
          }).find("nothing around") != std::string::npos);
    Cancel cancel;
    cancel.raise();
    CHECK_THROWS_AS(completed(floor, hole, {}, settings, {}, cancel), Cancelled);
    CHECK(same(completed(whole, std::vector<float>(hole.size()), {}), whole));

    std::vector<float> scratch(hole.size());
    Picture scratched = painted(side, tiles_floor);
    for (int x = 20; x < 180; ++x)
        scratch[std::size_t(50 * side + x)] = 1, set_pixel(scratched, x, 50, {1, 0, 0, 1});
    CHECK(worst_difference(inpainted(scratched, scratch), whole, scratch) < 0.12);
}

TEST_CASE("healing keeps what is pasted and takes the light of where it is pasted") {
    const int side = 128;
    // A texture in other light, and in shade that grows across.
    const Picture inside = painted(side, [](int x, int y) {
        const float v = 0.7f + 0.05f * std::sin(float(x)) * std::cos(float(y));
        return Rgba{v, v, v, 1};
    });
    const Picture around = painted(side, [](int x, int y) {
        const float v = 0.2f + 0.002f * float(x) + 0.05f * std::sin(float(x)) * std::cos(float(y));
        return Rgba{v, v, v, 1};
    });
    std::vector<float> hole(std::size_t(side) * side);
    for (int y = 30; y < 98; ++y)
        for (int x = 30; x < 98; ++x) hole[std::size_t(y * side + x)] = 1;
    const Picture made = healed(inside, around, hole);
    CHECK(worst_difference(made, around, hole) < 0.02);
    CHECK(pixel_at(made, 5, 5).g == pixel_at(around, 5, 5).g);
}

TEST_CASE("strokes: each kind does what it says, where it is, and nowhere else") {
    const int side = 400;
    const TileImage under = tiles_of(painted(side, [](int x, int y) {
        return Rgba{float(x) / 400, float(y) / 400, 0.3f, 1};
    }));
    const TileImage empty(side, side, 4);
    Brush brush;
    brush.size_px = 40;
    brush.softness = 0.5;
    const auto points = line_of({250, 100}, {300, 100});
    // Clone: what lies as far from the source as the brush from where it began.
    const TileImage cloned = stroked(empty, under, brush, {100, 300}, points);
    CHECK(cloned.at(275, 100, 3) == Approx(1));
    CHECK(cloned.at(275, 100, 0) == Approx(125.5 / 400).margin(0.003));
    CHECK(cloned.at(275, 100, 1) == Approx(300.5 / 400).margin(0.003));
    CHECK(cloned.at(275, 125, 3) == 0);
    const float edge = cloned.at(275, 117, 3);
    CHECK((edge > 0.01f && edge < 0.9f));
    int touched = 0;
    for (int ty = 0; ty < cloned.down(); ++ty)
        for (int tx = 0; tx < cloned.across(); ++tx) touched += cloned.tile(tx, ty) != nullptr;
    CHECK(touched == 2);
    // Turned by a right angle, mirrored, twice as large.
    Brush other = brush;
    other.source_turn_deg = 90;
    const TileImage turned = stroked(empty, under, other, {100, 200}, points);
    CHECK(turned.at(290, 100, 0) == Approx(100.0 / 400).margin(0.004));
    CHECK(turned.at(290, 100, 1) == Approx(240.0 / 400).margin(0.004));
    other = brush, other.source_mirrored = true;
    CHECK(stroked(empty, under, other, {200, 300}, points).at(290, 100, 0) ==
          Approx(159.5 / 400).margin(0.004));
    other = brush, other.source_scale = 2;
    CHECK(stroked(empty, under, other, {100, 300}, points).at(290, 100, 0) ==
          Approx(180.5 / 400).margin(0.006));
    // Opacity is that of the stroke, however often it goes over a place.
    other = brush, other.opacity = 0.5;
    auto twice = points;
    for (const StrokePoint& p : line_of({300, 100}, {250, 100})) twice.push_back(p);
    CHECK(stroked(empty, under, other, {100, 300}, twice).at(275, 100, 3) == Approx(0.5).margin(0.01));
    // Fresh samples: another place each time, the same for the same seed, within reach.
    other = brush, other.fresh = true, other.fresh_reach_px = 60;
    const auto longer = line_of({60, 60}, {340, 60}, 60);
    const TileImage fresh = stroked(empty, under, other, {200, 250}, longer);
    CHECK(fresh == stroked(empty, under, other, {200, 250}, longer));
    std::set<int> greens;
    for (int x = 60; x < 340; x += 5) {
        greens.insert(int(std::lround(fresh.at(x, 60, 1) * 400)));
        CHECK(std::abs(fresh.at(x, 60, 1) * 400 - 250) < 85);
    }
    CHECK(greens.size() > 8);
    other.seed = 2;
    CHECK_FALSE(fresh == stroked(empty, under, other, {200, 250}, longer));

    Brush paint;
    paint.kind = BrushKind::paint, paint.colour = {1, 0, 0}, paint.size_px = 30;
    const TileImage red = stroked(empty, under, paint, {}, points);
    CHECK(red.at(275, 100, 0) == Approx(1));
    // A pen's pressure makes it smaller or weaker.
    auto light = points;
    for (StrokePoint& p : light) p.pressure = 0.3;
    CHECK(stroked(empty, under, paint, {}, light).at(275, 108, 3) == 0);
    paint.pressure_sizes = false;
    CHECK(stroked(empty, under, paint, {}, light).at(275, 100, 3) == Approx(0.3).margin(0.02));
    // Erase: back to the plate; without one, to nothing.
    Brush erase;
    erase.kind = BrushKind::erase, erase.size_px = 60, erase.softness = 0;
    CHECK(stroked(red, under, erase, {}, points).at(275, 100, 0) == Approx(275.5 / 400).margin(0.003));
    CHECK(stroked(red, {}, erase, {}, points).at(275, 100, 3) == 0);
    // Soften lessens an edge, smudge pulls it along.
    const TileImage step = tiles_of(painted(side, [](int x, int) {
        return x < 200 ? Rgba{0, 0, 0, 1} : Rgba{1, 1, 1, 1};
    }));
    Brush soften;
    soften.kind = BrushKind::soften, soften.size_px = 80;
    const TileImage softer = stroked(step, {}, soften, {}, line_of({200, 150}, {200, 250}, 30));
    CHECK(softer.at(200, 200, 0) - softer.at(199, 200, 0) < 0.3f);
    Brush smudge;
    smudge.kind = BrushKind::smudge, smudge.size_px = 40;
    const TileImage pulled = stroked(step, {}, smudge, {}, line_of({180, 200}, {230, 200}, 30));
    CHECK(pulled.at(208, 200, 0) < 0.7f);
    CHECK(pulled.at(208, 300, 0) == 1);
    // Masks.
    Brush hide;
    hide.kind = BrushKind::hide, hide.size_px = 40;
    TileImage mask = stroked(whole_mask(side), {}, hide, {}, points);
    CHECK(mask.at(275, 100, 0) == 0);
    CHECK(mask.at(275, 200, 0) == 1);
    hide.kind = BrushKind::reveal;
    CHECK(stroked(mask, {}, hide, {}, points).at(275, 100, 0) == Approx(1));
    const TileImage more = revealed(TileImage(side, side, 1), mask);
    CHECK(more.at(275, 200, 0) == 1);
    CHECK(more.at(275, 100, 0) == 0);
    // A selection limits them.
    const std::vector<Vec2> left{{0, 0}, {275, 0}, {275, 400}, {0, 400}};
    const TileImage limited = stroked(empty, under, brush, {100, 300}, points, left);
    CHECK(limited.at(265, 100, 3) == Approx(1));
    CHECK(limited.at(285, 100, 3) == 0);
    const std::vector<float> mask_of_it = outline_mask(left, {0, 0, side, side});
    CHECK(mask_of_it[std::size_t(100 * side + 270)] == 1);
    CHECK(mask_of_it[std::size_t(100 * side + 280)] == 0);
    const std::vector<float> part_of_it = outline_mask(left, {260, 90, 20, 20}); // the same, for a box alone
    CHECK(std::equal(&part_of_it[200], &part_of_it[220], &mask_of_it[std::size_t(100 * side + 260)]));
    CHECK(outline_mask({}, {0, 0, side, side}).empty());
    const auto lines = mask_outlines(mask);
    REQUIRE(lines.size() == 2); // its rim, and the hole that was hidden
    for (const auto& line : lines) CHECK(line.size() >= 4);
    CHECK(mask_outlines({}).empty());
    // Past the edge of what is known nothing is taken, and past the layer's nothing is written.
    CHECK(stroked(empty, {}, brush, {100, 300}, points).is_clear());
    CHECK_NOTHROW(stroked(empty, under, brush, {100, 300}, line_of({-80, -80}, {480, 420}, 40)));
}

TEST_CASE("a healed stroke has the source's texture in the light of its place") {
    const int side = 300;
    const TileImage floor = tiles_of(painted(side, [](int x, int y) {
        const float light = x < 150 ? 0.3f : 0.6f,
                    texture = 0.04f * std::sin(float(x) * 0.7f) * std::sin(float(y) * 0.7f);
        const float v = light + texture;
        return std::hypot(x - 220, y - 150) < 8 ? Rgba{0, 0, 0, 1} : Rgba{v, v, v, 1};
    }));
    Brush heal;
    heal.kind = BrushKind::heal, heal.size_px = 44, heal.softness = 0.4;
    const std::vector<StrokePoint> one{{Vec2(220, 150), 1}, {Vec2(222, 150), 1}};
    const TileImage made = stroked(TileImage(side, side, 4), floor, heal, {75, 150}, one);
    CHECK(made.at(220, 150, 3) == Approx(1).margin(0.01));
    double mean = 0;
    for (int y = 145; y < 156; ++y)
        for (int x = 215; x < 226; ++x) mean += made.at(x, y, 1) / 121;
    CHECK(mean == Approx(0.6).margin(0.03)); // the source alone: 0.3
}

TEST_CASE("a softer edge is laid where plate and footage differ least, round what must be covered") {
    const int side = 256;
    const Picture plate = painted(side, [](int, int) { return Rgba{0.5f, 0.5f, 0.5f, 1}; });
    // A stand, and its shadow to the right of it.
    const Picture footage = painted(side, [](int x, int y) {
        const bool shadow = x > 128 && x < 170 && std::abs(y - 128) < 14;
        const float v = std::hypot(x - 128, y - 128) < 16 ? 0.1f : shadow ? 0.35f : 0.5f;
        return Rgba{v, v, v, 1};
    });
    std::vector<float> inside(std::size_t(side) * side);
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x)
            inside[std::size_t(y * side + x)] = std::hypot(x - 128, y - 128) < 17 ? 1.0f : 0.0f;
    const TileImage mask = least_edge(plate, footage, inside);
    for (const auto& [x, y] :
         {std::pair(128, 128), std::pair(140, 128), std::pair(160, 128), std::pair(165, 135)})
        CHECK(mask.at(x, y, 0) == 1);
    CHECK(mask.at(128, 200, 0) == 0);
    CHECK(mask.at(60, 128, 0) == 0);
    CHECK(error_of([&] { least_edge(plate, footage, std::vector<float>(inside.size())); }).find("empty") !=
          std::string::npos);
}

TEST_CASE("light is followed along the edge by gain and offset, with outliers and noise", "[slow]") {
    TempFolder folder;
    sim::SimOptions o;
    o.circle_size = 200;
    StillTake take = hall_still(folder, o);
    Shot& shot = take.project.shots[0];
    shot.seams.flow.on = false;
    Composer composer(std::make_shared<MediaLibrary>());
    Patch p;
    p.name = "disc";
    p.keys = {{Seconds(0), 0, -70, 0, 40, 1, {}}};
    p.disc = true;
    p.resolution = 256;
    const Picture plate = moment_plate(composer, take.project, shot, p, Seconds(0));
    CHECK(plate.width() == 256);
    // The patch is of other light: the footage is 1.6 times it in red, 0.7 in blue. And part of its edge is
    // covered by something that is not in the footage.
    p.pixels = tiles_of(painted(256, [&](int x, int y) {
        const Rgba c = pixel_at(plate, x, y);
        const auto lit = [](float v, float gain) {
            return encoded_from_linear(linear_from_encoded(v) / gain);
        };
        if (x > 200 && y > 100 && y < 150) return Rgba{1, 1, 1, 1};
        return Rgba{lit(c.r, 1.6f), c.g, lit(c.b, 0.7f), 1};
    }));
    shot.patches = {p};
    const Seconds once[] = {Seconds(0)};
    const auto before = edge_steps(composer, take.project, shot, 0, once);
    shot.patches[0].light = followed_light(composer, take.project, shot, 0, once);
    shot.patches[0].follows_light = true;
    const PatchLightKey light = light_at(shot.patches[0], Seconds(0));
    CHECK(light.gain.x() == Approx(1.6).epsilon(0.05));
    CHECK(light.gain.y() == Approx(1).epsilon(0.05));
    CHECK(light.gain.z() == Approx(0.7).epsilon(0.05));
    CHECK(light.offset.norm() < 0.01);
    const auto after = edge_steps(composer, take.project, shot, 0, once);
    CHECK(std::abs(after[0].mean[2]) < 0.4 * std::abs(before[0].mean[2]));
    // Without an edge there is nothing to follow.
    shot.patches[0].pixels = TileImage(256, 256, 4);
    CHECK(error_of([&] { followed_light(composer, take.project, shot, 0, once); }).find("no edge") !=
          std::string::npos);
    CHECK(light_times(Seconds(0), Seconds(2), FrameRate(30), 0.25).size() == 9);
    CHECK(light_times(Seconds(0), Seconds(3600), FrameRate(30), 0.25).size() == kMostLightTimes);
    CHECK(plate_times(Seconds(0), Rational(1, 30), FrameRate(30), 5).size() == 1);
}

TEST_CASE("the same ground in another picture is found by its features, and told when it is not") {
    // Blobs of many sizes: features anywhere.
    const auto ground = [](double x, double y) {
        double v = 0.5;
        for (int i = 0; i < 60; ++i) {
            const double cx = (i * 7919 % 997) / 997.0 * 400, cy = (i * 104729 % 991) / 991.0 * 400,
                         r = 4 + i % 9 * 2;
            v += (i % 2 ? 0.3 : -0.3) * std::exp(-((x - cx) * (x - cx) + (y - cy) * (y - cy)) / (r * r));
        }
        return float(v);
    };
    const auto grey = [](float v) { return Rgba{v, v, v, 1}; };
    const double a = radians(14), k = 1.1;
    const auto from = [&](int x, int y) { // where a pixel of the second picture lies in the first
        const Vec2 d(x + 0.5 - 200, y + 0.5 - 200);
        return Vec2(k * (std::cos(a) * d.x() - std::sin(a) * d.y()) + 215,
                    k * (std::sin(a) * d.x() + std::cos(a) * d.y()) + 190);
    };
    const Picture other = painted(400, [&](int x, int y) { return grey(ground(x + 0.5, y + 0.5)); });
    const Picture here = painted(400, [&](int x, int y) {
        const Vec2 p = from(x, y);
        return grey(ground(p.x(), p.y()));
    });
    const RegisteredPlate found = registered(other, here);
    CHECK(found.matches > 25);
    CHECK(found.residual_px < 0.8);
    double worst = 0;
    for (const auto& [x, y] :
         {std::pair(80, 90), std::pair(300, 120), std::pair(200, 200), std::pair(140, 310)}) {
        const Vec2 p = from(x, y);
        const Vec3 q = found.other_to_this * Vec3(p.x(), p.y(), 1);
        worst = std::max(worst, (Vec2(q.x() / q.z(), q.y() / q.z()) - Vec2(x + 0.5, y + 0.5)).norm());
    }
    CHECK(worst < 0.5);
    CHECK(pixel_at(found.plate, 200, 200).g == Approx(pixel_at(here, 200, 200).g).margin(0.03));
    const Picture plain = painted(400, [&](int, int) { return grey(0.5f); });
    CHECK(error_of([&] { registered(plain, here); }).find("features in common") != std::string::npos);
}

TEST_CASE("a stand is found, and what is behind it is seen by neighbours", "[slow]") {
    TempFolder folder;
    StillTake take = ring_still(folder, 600);
    const Shot& shot = take.project.shots[0];
    Composer composer(std::make_shared<MediaLibrary>());
    Patch patch = ground_patch(composer, take.project, shot, Seconds(0), 1920);
    CHECK(patch.distance_m == Approx(1.6).epsilon(0.02)); // the floor's true height
    const Seconds once[] = {Seconds(0)};
    const Proposal found = proposed(composer, take.project, shot, patch, once);
    CHECK(found.share > 0.01);
    CHECK(found.share < 0.08);
    CHECK(surface_inverse_m(shot, patch, Seconds(0), {0, 1, 0}) == Approx(1 / patch.distance_m));
    // What is masked covers where the footage differs from the truth without a stand; what it is covered
    // with lies nearer to that truth.
    sim::SimOptions bare = take.options;
    bare.stand = false;
    sim::Hall hall(bare.things, bare.things_seed);
    const Picture sphere =
        sim::true_panorama(hall, bare, 1, SphereMapping::equirect, 2048, sim::TruthEye::mono);
    const PatchPlacement place = placement_of(shot, patch, patch.keys[0], Seconds(0), Eye::mono);
    const TargetMap map(equirect_target(2048));
    const Picture now = moment_plate(composer, take.project, shot, patch, Seconds(0));
    const Picture made = completed(found.plate, found.hole, {});
    double was = 0, is = 0;
    int stood = 0, covered = 0;
    for (int y = 0; y < patch.resolution; y += 2)
        for (int x = 0; x < patch.resolution; x += 2) {
            const Vec2 at(2 * (x + 0.5) / patch.resolution - 1, 2 * (y + 0.5) / patch.resolution - 1);
            if (at.norm() > 0.5) continue;
            const Vec2 px = *map.pixel(direction_of(place, at));
            const auto off = [&](const Picture& p) {
                // The smallest difference nearby: an edge that lies a pixel elsewhere is no stand.
                float least = 9;
                for (int dy = -2; dy <= 2; ++dy)
                    for (int dx = -2; dx <= 2; ++dx)
                        least = std::min(least, std::abs(pixel_at(p, x, y).g -
                                                         pixel_at(sphere, (int(px.x()) + dx + 2048) % 2048,
                                                                  std::clamp(int(px.y()) + dy, 0, 1023))
                                                             .g));
                return least;
            };
            if (off(now) < 0.08f) continue;
            ++stood;
            covered += found.mask.at(x, y, 0) > 0.5f;
            was += off(now), is += off(made);
        }
    REQUIRE(stood > 200);
    CHECK(covered > 0.9 * stood);
    CHECK(is < 0.2 * was);
    // Straight ahead nothing stands on a floor.
    patch.keys[0].pitch_deg = 0;
    CHECK_FALSE(found_height_m(composer, take.project, shot, patch, Seconds(0)));
}
