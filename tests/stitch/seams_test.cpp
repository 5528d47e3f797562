#include "base/angle.h"
#include "media/still.h"
#include "picture/compare.h"
#include "seams/follow.h"
#include "stitch/blend/blend_kernel.h"
#include "stitch/compose.h"
#include "stitch/distances/shape_fill.h"
#include "stitch/plan/coverage.h"
#include "stitch/plan/coverage_report.h"
#include "stitch/plan/plan_lens.h"
#include "stitch/plan/shapes.h"
#include "support/support.h"

using namespace porb;
using namespace porb::test;

namespace {

/// Two lenses of 200 degrees back to back, a hand's width apart, each with a source of its own.
Shot pair_shot(int size = 400) {
    Rig rig = nominal_rig(2, size, size, 1, 200);
    rig.cameras[0].pose.position_m = {0, 0, 0.05};
    rig.cameras[1].pose.position_m = {0, 0, -0.05};
    Shot shot = shot_for_rig(rig, "t");
    shot.seams.agree_distance_m = 40; // not so far that all would be mixed widely
    for (auto& c : shot.cameras) c.media = "m";
    return shot;
}

View map_view(int width, Filter filter = Filter::linear) {
    View v;
    v.target = equirect_target(width);
    v.filter = filter;
    return v;
}

/// Weight of a camera at a direction of a plan made for an equirectangular view.
double weight_at(const BlendPlan& plan, std::size_t camera, const Vec3& direction) {
    const double x = (std::atan2(direction.x(), direction.z()) / (2 * kPi) + 0.5) * plan.width,
                 y = (0.5 + std::asin(direction.y()) / kPi) * plan.height;
    const int px = std::clamp(int(x), 0, plan.width - 1), py = std::clamp(int(y), 0, plan.height - 1);
    const Segment& s = plan.segments[std::size_t(py * plan.segments_per_row + px / kSegment)];
    for (std::uint32_t k = 0; k < s.count; ++k) {
        const Contribution& c = plan.contributions[s.first + k];
        if (plan.cameras[c.camera].index == camera)
            return c.full ? 1 : double(plan.weights[c.weights + std::size_t(px % kSegment)]);
    }
    return 0;
}

Vec3 towards(double yaw_deg, double pitch_deg) {
    return rotation_of({yaw_deg, pitch_deg, 0}) * Vec3(0, 0, 1);
}

/// A square about a direction's place on a camera, half a side as a share of the circle's radius.
Shape square_about(const Camera& camera, const Vec3& direction, double half, bool restores = false) {
    const LensMap map(camera.lens);
    const Vec2 at = (map.project_anywhere(rotation_of(camera.pose.turn).transpose() * direction) -
                     camera.lens.circle.center_px) /
                    camera.lens.circle.radius_px;
    Shape s;
    s.name = "square";
    s.restores = restores;
    ShapeKey key;
    for (const Vec2& corner : {Vec2(-1, -1), Vec2(1, -1), Vec2(1, 1), Vec2(-1, 1)})
        key.corners.push_back({at + half * corner, {0, 0}, {0, 0}});
    s.keys = {key};
    return s;
}

} // namespace

TEST_CASE("places follow distances as the lens itself does, and never leave what it sees") {
    Shot shot = pair_shot();
    shot.seams.agree_distance_m = GENERATE(0.0, 4.0);
    shot.seams.flow.on = true;
    const PlanKey key = plan_key(shot, map_view(1300));
    const BlendPlan plan = make_plan(key);
    const auto lenses = plan_lenses(key);
    const TargetMap target(key.view.target);
    double worst = 0;
    int moved = 0;
    for (int y = 40; y < plan.height - 40; y += 7)
        for (int s = 0; s < plan.segments_per_row; ++s) {
            const Segment& segment = plan.segments[std::size_t(y * plan.segments_per_row + s)];
            for (std::uint32_t k = 0; k < segment.count; ++k) {
                const Contribution& c = plan.contributions[segment.first + k];
                if (c.parallax == Contribution::kNone) continue;
                ++moved;
                const Parallax& p = plan.parallaxes[c.parallax];
                CHECK(p.high > 0);
                for (std::size_t n = 0; n < 3; ++n) {
                    const double x = std::min(s * kSegment + 0.5 + 7.5 * double(n), plan.width - 0.5);
                    if (x < s * kSegment + 0.5 + 7.5 * double(n)) continue;
                    const Vec3 d = *target.direction({x, y + 0.5});
                    for (const double inverse : {0.0, 0.5, 1.4}) {
                        const double rho =
                            std::clamp(inverse - plan.agree_inverse_m, double(p.low), double(p.high));
                        const Landing at =
                            land(lenses[c.camera], lenses[c.camera].ray(d, plan.agree_inverse_m + rho));
                        const Vec2 px(double(c.u[n]) + (double(p.u1[n]) + double(p.u2[n]) * rho) * rho,
                                      double(c.v[n]) + (double(p.v1[n]) + double(p.v2[n]) * rho) * rho);
                        if (at.margin_deg > 0) worst = std::max(worst, (px - at.px).norm());
                    }
                }
            }
        }
    CHECK(moved > 200);
    CHECK(worst < 0.1);
}

TEST_CASE("with distances and light, the kernel does what the slow obvious way does") {
    const bool fine = GENERATE(false, true);
    Shot shot = pair_shot(200);
    if (fine) { // some see what others do not supply
        shot = shot_for_rig(nominal_rig(4, 200, 200, 1, 190), "t");
        for (auto& c : shot.cameras) c.media = "m", c.feather_deg = 4;
    }
    shot.seams.flow.on = true;
    shot.seams.flow.zone_deg = 21; // transitions of eight degrees
    shot.seams.flow.fine_edges = fine;
    shot.seams.blend.kind =
        GENERATE(Blending::multiband, Blending::feathered); // and wide transitions where alike
    shot.levelling.orientation = {20, 35, 10};
    const Filter filter = GENERATE(Filter::linear, Filter::cubic);
    const BlendPlan plan = make_plan(plan_key(shot, map_view(GENERATE(256, 1300), filter)));
    REQUIRE_FALSE(plan.directions.empty());
    std::vector<SourcePicture> sources;
    std::vector<SphereGrid> lights;
    CHECK((plan.feather_power > 1) == (shot.seams.blend.kind == Blending::feathered));
    SphereGrid distances(90, 2);
    for (int y = 0; y < 90; ++y)
        for (int x = 0; x < 90; ++x) {
            const Vec3 d = distances.direction(x, y);
            distances.cell(x, y)[0] = float(0.6 + 0.5 * std::sin(3 * d.x()) * std::cos(2 * d.z()));
            distances.cell(x, y)[1] = float(std::clamp(0.5 + std::sin(9 * d.y()), 0.0, 1.0));
            if (fine && d.x() > 0.2) distances.cell(x, y)[0] += 0.3f; // something that stands near
        }
    distances.close_edges();
    for (const auto& c : plan.cameras) {
        Picture p = gradient(200, 200);
        for (int l = 0; l < c.level; ++l) p = halved(p);
        sources.push_back(p);
        SphereGrid light(20, 4);
        for (int y = 0; y < 20; ++y)
            for (int x = 0; x < 20; ++x) {
                const Vec3 d = light.direction(x, y);
                for (int i = 0; i < 3; ++i) light.cell(x, y)[i] = float(0.1 * d[i] + 0.02 * double(c.index));
            }
        light.close_edges();
        lights.push_back(light);
    }
    FrameParts frame{sources, {}, &distances, lights, filter};
    Silhouettes silhouettes;
    std::uint32_t reserves = 0;
    std::vector<std::uint64_t> hidden; // stripes that one of the two does not see, or neither
    if (fine) {
        hidden.resize(std::size_t(distances.side + 2) * std::size_t(distances.side + 2));
        for (std::size_t i = 0; i < hidden.size(); ++i) hidden[i] = i / 5 % 9 < 4 ? i / 45 % 4 : 0;
        frame.hidden = hidden;
        silhouettes = silhouettes_of(distances, hidden, {}, 2);
        CHECK(silhouettes.cells.size() > 200);
        frame.silhouettes = &silhouettes;
        for (const Segment& s : plan.segments) reserves += s.reserves;
        CHECK((reserves > 0) == (plan.width > 1000)); // where positions follow a parabola
        for (const Segment& s : plan.segments)
            for (std::uint32_t k = s.count; k < s.count + s.reserves; ++k)
                if (plan.contributions[s.first + k].parallax == Contribution::kNone) FAIL("cannot follow");
        // A camera steps in where its own weight has ended, never where it has some everywhere.
        int ended = 0, needless = 0;
        for (const Segment& s : plan.segments)
            for (std::uint32_t k = s.count; k < s.count + s.reserves; ++k)
                for (std::uint32_t own = 0; own < s.count; ++own) {
                    const Contribution& c = plan.contributions[s.first + own];
                    if (c.camera != plan.contributions[s.first + k].camera) continue;
                    const float* const w = plan.weights.data() + c.weights;
                    const bool ends = !c.full && *std::min_element(w, w + kSegment) < kSupplies;
                    ++(ends ? ended : needless);
                }
        CHECK((ended > 0) == (plan.width > 1000));
        CHECK(needless == 0);
    }
    if (fine) { // with half of those stripes: what is not asked for elsewhere changes nothing
        std::vector<std::uint64_t> half = hidden;
        std::fill(half.begin() + std::ptrdiff_t(half.size() / 2), half.end(), 0);
        const Silhouettes sides = silhouettes_of(distances, half, {}, 2);
        const OutlineBlocks outlines = outline_blocks(distances.side, half, sides);
        CHECK(std::count(outlines.beside.begin(), outlines.beside.end(), 0) >
              int(outlines.beside.size()) / 4);
        FrameParts asked = frame;
        asked.hidden = half, asked.silhouettes = &sides;
        Picture everywhere(plan.width, plan.height), there(plan.width, plan.height);
        blend_rows(plan, asked, 0, plan.height, everywhere);
        asked.outlines = &outlines;
        blend_rows(plan, asked, 0, plan.height, there);
        const auto same = [&] {
            return std::equal(everywhere.row(0), everywhere.row(0) + 4 * plan.width * plan.height,
                              there.row(0));
        };
        CHECK(same());
        OutlineBlocks nowhere = outlines;
        std::fill(nowhere.beside.begin(), nowhere.beside.end(), 0);
        asked.outlines = &nowhere;
        blend_rows(plan, asked, 0, plan.height, there);
        CHECK_FALSE(same());
    }
    Picture fast(plan.width, plan.height), slow(plan.width, plan.height);
    blend_rows(plan, frame, 0, plan.height, fast);
    double worst = 0, plain = 0, sum = 0;
    int count = 0;
    for (int y = 0; y < plan.height; y += 5) {
        blend_rows_reference(plan, frame, {}, y, y + 1, slow);
        for (int x = 0; x < plan.width; ++x) {
            const Rgba a = pixel_at(fast, x, y), b = pixel_at(slow, x, y);
            const double off = std::max({double(std::abs(a.r - b.r)), double(std::abs(a.g - b.g)),
                                         double(std::abs(a.b - b.b)), double(std::abs(a.a - b.a))});
            worst = std::max(worst, off);
            sum += off, ++count;
        }
    }
    // Of steps as sharp as those stripes', between the eight places at which a segment looks.
    CHECK(worst < (fine ? 0.12 : 0.006));
    CHECK(sum / count < (fine ? 0.002 : 0.001));
    Picture without(plan.width, plan.height);
    blend_rows(plan, {sources, {}, nullptr, {}, filter}, 0, plan.height, without);
    for (int x = 0; x < plan.width; ++x)
        plain = std::max(plain, double(std::abs(pixel_at(without, x, plan.height / 2).r -
                                                pixel_at(fast, x, plan.height / 2).r)));
    CHECK(plain > 0.03); // and both count
}

TEST_CASE("what is hidden comes from nobody who is not to supply it: past a reach, or cut out") {
    BlendPlan plan;
    plan.width = kSegment, plan.height = 1, plan.segments_per_row = 1, plan.pixel_angle = 0.01;
    plan.cameras = {{0, 0}, {1, 0}};
    plan.segments = {{0, 2, 0}};
    plan.directions.resize(1);
    for (auto& d : plan.directions[0]) d = {0, 0, 1};
    plan.parallaxes.push_back({});
    for (std::uint16_t c = 0; c < 2; ++c) {
        Contribution part;
        part.camera = c, part.weights = std::uint32_t(c) * kSegment, part.parallax = 0;
        for (std::size_t n = 0; n < 3; ++n) part.u[n] = float(3 + n), part.v[n] = 4;
        plan.contributions.push_back(part);
    }
    const float other = GENERATE(0.0f, 0.2f); // what the second supplies
    for (const float w : {1 - other, other}) plan.weights.insert(plan.weights.end(), kSegment, w);
    Picture red(8, 8), green(8, 8);
    for (int y = 0; y < 8; ++y)
        for (int x = 0; x < 8; ++x) {
            set_pixel(red, x, y, {1, 0, 0, 1});
            set_pixel(green, x, y, {0, 1, 0, 1});
        }
    const std::vector<SourcePicture> sources{red, green};
    const SphereGrid distances(32, 2, 0.5f);
    const std::vector<std::uint64_t> hidden(std::size_t(34) * 34, 1); // from the first
    FrameParts frame{sources, {}, &distances, {}, Filter::cubic, hidden};
    Picture out(kSegment, 1);
    blend_rows(plan, frame, 0, 1, out);
    const Rgba p = pixel_at(out, 7, 0);
    INFO(other << " supplied by the second");
    CHECK(double(p.r) == Approx(other > 0 ? 0 : 1).margin(0.01));
    CHECK(double(p.g) == Approx(other > 0 ? 1 : 0).margin(0.01));
}

TEST_CASE("of three lenses the two best placed are mixed, and the third comes in over its feather") {
    Rig rig = nominal_rig(6, 400, 400, 1, 190);
    Shot shot = shot_for_rig(rig, "t");
    for (auto& c : shot.cameras) c.media = "m", c.feather_deg = 4;
    shot.seams.flow.on = true;
    shot.seams.agree_distance_m = GENERATE(0, 5); // mixed widely, and not
    const PlanKey key = plan_key(shot, map_view(1024));
    const Coverage coverage(key);
    int apart = 0, together = 0;
    for (int yaw = 0; yaw < 360; yaw += 7)
        for (int pitch = 20; pitch < 90; pitch += 3) {
            const Vec3 d = towards(yaw, pitch);
            const auto lead = coverage.lead_deg(d);
            const auto supply = coverage.supply(d);
            std::vector<std::size_t> order = {0, 1, 2, 3, 4, 5};
            std::sort(order.begin(), order.end(), [&](auto a, auto b) { return lead[a] > lead[b]; });
            float sum = 0;
            for (const float s : supply) sum += s;
            CHECK(sum == Approx(1).margin(1e-4));
            const double behind = lead[order[1]] - lead[order[2]];
            if (behind >= 4) {
                CHECK(supply[order[2]] == 0);
                ++apart;
            }
            if (lead[order[0]] - lead[order[2]] < 2) {
                CHECK(supply[order[2]] > 0);
                ++together;
            }
        }
    CHECK(apart > 100);
    CHECK(together > 20);
}

TEST_CASE("a cut-out hands its place to the neighbour, and a restore brings it back") {
    Shot shot = pair_shot();
    const Vec3 d = towards(84, 0); // the front lens supplies it; the back one sees it too
    const auto supply = [&](const Shot& s, std::size_t camera, const Vec3& direction) {
        return weight_at(make_plan(plan_key(s, map_view(1024))), camera, direction);
    };
    REQUIRE(supply(shot, 0, d) == 1);
    shot.cameras[0].shapes = {square_about(shot.rig.cameras[0], d, 0.05)};
    CHECK(supply(shot, 0, d) == 0);
    CHECK(supply(shot, 1, d) == 1);
    CHECK(supply(shot, 0, towards(70, 0)) == 1); // elsewhere nothing changes
    CHECK(supply(shot, 0, towards(84, 20)) == supply(pair_shot(), 0, towards(84, 20)));
    CHECK(supply(shot, 0, towards(76, 0)) == 1); // just beside its feather
    Shot restored = shot;
    restored.cameras[0].shapes.push_back(square_about(shot.rig.cameras[0], d, 0.08, true));
    CHECK(supply(restored, 0, d) == 1);
    restored.cameras[0].shapes[0].on = restored.cameras[0].shapes[1].on = false;
    CHECK(plan_key(restored, map_view(64)) ==
          plan_key(pair_shot(), map_view(64))); // what is off costs nothing

    // Where no neighbour looks a cut-out leaves a hole, and nothing but a hole.
    Shot hole = pair_shot();
    hole.cameras[0].shapes = {square_about(shot.rig.cameras[0], towards(0, 0), 0.05)};
    CHECK(supply(hole, 0, towards(0, 0)) == 0);
    CHECK(supply(hole, 1, towards(0, 0)) == 0);
    CHECK(Coverage(plan_key(hole, map_view(64))).lenses_at(towards(0, 0)) == 0);
    CHECK(Coverage(plan_key(hole, map_view(64))).lenses_at(towards(20, 0)) == 1);

    // A restore past the reach shows what the circle sees, and no more.
    Shot narrow = pair_shot();
    for (auto& c : narrow.cameras) c.reach_deg = 60;
    CHECK(supply(narrow, 0, d) == 0);
    narrow.cameras[0].shapes = {square_about(shot.rig.cameras[0], d, 0.1, true)};
    CHECK(supply(narrow, 0, d) == 1);
    CHECK(supply(narrow, 0, towards(108, 0)) == 0);
}

TEST_CASE("behind a cut-out in two lenses a third shows what lies about it at its own distance") {
    const TempFolder folder;
    StillTake take = ring_still(folder, 300);
    Shot& shot = take.project.shots[0];
    shot.seams.agree_distance_m = 12;
    const Vec3 d = towards(30, -48); // the floor between A and B, 2 m away
    for (std::size_t c : {0, 1}) shot.cameras[c].shapes = {square_about(shot.rig.cameras[c], d, 0.06)};
    sim::Hall hall;
    const Picture truth =
        sim::true_panorama(hall, take.options, 0, SphereMapping::equirect, 720, sim::TruthEye::mono);
    Composer composer(std::make_shared<MediaLibrary>());
    const auto off = [&] { // from the truth, where neither of the two is shown
        const Picture made = composer.compose(take.project, shot, Seconds(0), map_view(720));
        const BlendPlan plan = make_plan(plan_key(shot, map_view(720)));
        double sum = 0;
        int n = 0;
        for (int y = 240; y < 320; ++y)
            for (int x = 380; x < 460; ++x) {
                const Vec3 at = *TargetMap(equirect_target(720)).direction({x + 0.5, y + 0.5});
                if (at.dot(d) < std::cos(radians(8)) || weight_at(plan, 0, at) + weight_at(plan, 1, at) > 0)
                    continue;
                const Rgba a = pixel_at(made, x, y), b = pixel_at(truth, x, y);
                CHECK(a.a == Approx(1).margin(0.01));
                sum +=
                    std::abs(double(a.r - b.r)) + std::abs(double(a.g - b.g)) + std::abs(double(a.b - b.b));
                ++n;
            }
        REQUIRE(n > 60);
        return sum / n;
    };
    const double with = off();
    CHECK(composer.distances(take.project, shot, Seconds(0)).at(d) ==
          Approx(1 / double(hall.depth(sim::Vec3f(0, 0, 0), d.cast<float>()))).margin(0.08));
    shot.seams.flow.on = false;
    const double without = off();
    INFO(with << " following what lies about it, " << without << " at the agree distance");
    CHECK(with < 0.6 * without);
}

TEST_CASE("a field goes on into shapes from all around them, and nowhere else") {
    constexpr int kSide = 96;
    SphereGrid field(kSide, 2, 7);
    std::vector<float> clear(kSide * kSide, 1.0f);
    const Vec3 middle = towards(20, 30), aside = towards(-100, -10);
    const auto slope = [&](const Vec3& d) { return float(1 + d.dot(Vec3(0.3, 0.5, -0.2))); };
    for (int i = 0; i < kSide * kSide; ++i) {
        const Vec3 d = field.direction(i % kSide, i / kSide);
        const double away_deg = degrees(std::acos(std::clamp(d.dot(middle), -1.0, 1.0)));
        clear[std::size_t(i)] = float(std::clamp((away_deg - 6) / 2, 0.0, 1.0));
        field.cell(i % kSide, i / kSide)[0] = away_deg < 8 ? -5.0f : slope(d); // nothing known
    }
    const SphereGrid before = field;
    ShapeFill(kSide, clear).apply(field);
    int filled = 0;
    for (int i = 0; i < kSide * kSide; ++i) {
        const float* cell = field.cell(i % kSide, i / kSide);
        CHECK(cell[1] == 7); // the other channel is none of its business
        const float c = clear[std::size_t(i)];
        if (c == 1) CHECK(cell[0] == before.cell(i % kSide, i / kSide)[0]);
        if (c > 0) continue;
        ++filled;
        CHECK(double(cell[0]) == Approx(double(slope(field.direction(i % kSide, i / kSide)))).margin(0.01));
    }
    CHECK(filled > 15);
    // Where all is shapes there is nothing to go by.
    SphereGrid lost(kSide, 1, 3);
    ShapeFill(kSide, std::vector<float>(kSide * kSide, 0.0f)).apply(lost);
    CHECK(lost.at(aside) == 3);
}

TEST_CASE("what a cut-out leaves open is measured, placed, and whoever could fill it is named") {
    Shot shot = pair_shot();
    CHECK(cut_hole(shot, Seconds(0)).square_deg == 0);

    // In the overlap the neighbour supplies it: no hole.
    shot.cameras[0].shapes = {square_about(shot.rig.cameras[0], towards(84, 0), 0.03)};
    CHECK(cut_hole(shot, Seconds(0)).square_deg == 0);
    // Unless it takes the same place away; then each is asked to widen only if its circle shows it.
    shot.cameras[1].shapes = {square_about(shot.rig.cameras[1], towards(84, 0), 0.05)};
    CHECK(cut_hole(shot, Seconds(0)).square_deg > 0);

    // In the middle of a lens nobody else looks there: as large as it was drawn, where it was drawn.
    shot = pair_shot();
    const Vec3 where = towards(20, 10);
    shot.cameras[0].shapes = {square_about(shot.rig.cameras[0], where, 0.1)};
    const CutHole alone = cut_hole(shot, Seconds(0));
    // A radius of 100 degrees: 20 degrees square, feathered inside its edge.
    CHECK(alone.square_deg > 250);
    CHECK(alone.square_deg < 420);
    CHECK(degrees(std::acos(alone.middle.dot(where))) < 2);
    CHECK(alone.could_fill.empty());

    // A neighbour whose circle shows it beyond its reach is named, and widening it does fill it.
    shot = pair_shot();
    shot.cameras[1].reach_deg = 80;
    shot.cameras[0].reach_deg = 98;
    shot.cameras[0].shapes = {square_about(shot.rig.cameras[0], towards(86, 0), 0.03)};
    const CutHole narrow = cut_hole(shot, Seconds(0));
    CHECK(narrow.square_deg > 5);
    CHECK(narrow.could_fill == std::vector<std::string>{"B"});
    shot.cameras[1].reach_deg = 99;
    CHECK(cut_hole(shot, Seconds(0)).square_deg == 0);

    // A hole that nobody cut is another's matter, and one that comes with a key comes at its time.
    shot = pair_shot();
    for (auto& c : shot.cameras) c.reach_deg = 70;
    CHECK(cut_hole(shot, Seconds(0)).square_deg == 0);
    shot = pair_shot();
    Shape moving = square_about(shot.rig.cameras[0], towards(84, 0), 0.03);
    moving.keys.push_back(square_about(shot.rig.cameras[0], where, 0.1).keys[0]);
    moving.keys[1].time = Seconds(2);
    shot.cameras[0].shapes = {moving};
    CHECK(cut_hole(shot, Seconds(0)).square_deg == 0);
    CHECK(cut_hole(shot, Seconds(2)).square_deg == Approx(alone.square_deg).margin(2));
}

TEST_CASE(
    "a leg of the stand goes with a cut-out in each of the two lenses that show it, and leaves no hole") {
    Rig rig = nominal_rig(6, 480, 480, 1, 190);
    for (std::size_t i = 0; i < 6; ++i) {
        const double yaw = radians(60.0 * double(i));
        rig.cameras[i].pose.position_m = 0.075 * Vec3(std::sin(yaw), 0, std::cos(yaw));
    }
    Shot shot = shot_for_rig(rig, "stand");
    for (auto& c : shot.cameras) c.media = "m";
    shot.seams.agree_distance_m = 3;
    // It runs down and out between the first two, whose line passes over it.
    const std::vector<Vec3> leg = {towards(30, -72), towards(30, -76), towards(30, -80)};
    const View view = map_view(720);
    const auto suppliers = [&](const Vec3& d) {
        const BlendPlan plan = make_plan(plan_key(shot, view));
        std::vector<double> out;
        for (std::size_t c = 0; c < 6; ++c) out.push_back(weight_at(plan, c, d));
        return out;
    };
    for (const Vec3& d : leg) {
        const auto before = suppliers(d);
        REQUIRE(before[0] + before[1] == Approx(1).margin(1e-3));
    }
    for (const std::size_t c : {0u, 1u}) {
        Shape cut = square_about(rig.cameras[c], leg[1], 0.09);
        cut.name = "leg";
        cut.feather_deg = 1;
        shot.cameras[c].shapes = {cut};
    }
    CHECK(cut_hole(shot, Seconds(0)).square_deg == 0);
    for (const Vec3& d : leg) {
        const auto after = suppliers(d);
        CHECK(after[0] + after[1] < 0.02);
        double sum = 0;
        for (const double w : after) sum += w;
        CHECK(sum == Approx(1).margin(1e-3));
        CHECK(after[2] + after[5] > 0.98); // from their neighbours at either side
    }
    // All six cut there: now it is a hole, and nobody's wider reach helps.
    for (std::size_t c = 2; c < 6; ++c) shot.cameras[c].shapes = {square_about(rig.cameras[c], leg[1], 0.09)};
    const CutHole hole = cut_hole(shot, Seconds(0));
    CHECK(hole.square_deg > 10);
    CHECK(degrees(std::acos(std::min(1.0, hole.middle.dot(leg[1])))) < 4);
    CHECK(hole.could_fill.empty());
}

TEST_CASE("a shape's edge is as soft as it says, whatever the lens's feather") {
    Shot shot = pair_shot();
    shot.cameras[0].feather_deg = 6;
    const double feather = GENERATE(1.0, 4.0, 12.0);
    Shape s = square_about(shot.rig.cameras[0], towards(0, 0), 0.3); // to 30 degrees
    s.feather_deg = feather;
    shot.cameras[0].shapes = {s};
    const BlendPlan plan = make_plan(plan_key(shot, map_view(3600)));
    double begin = 90, end = 0;
    for (double yaw = 20; yaw < 50; yaw += 0.1) {
        const double w = weight_at(plan, 0, towards(yaw, 0));
        if (w > 0.01) begin = std::min(begin, yaw);
        if (w < 0.99) end = std::max(end, yaw);
    }
    CHECK(begin == Approx(30).margin(0.4 + 0.06 * feather));
    CHECK(end - begin ==
          Approx(feather).margin(0.4 + 0.15 * feather)); // all of it outside: what is inside is gone
}

TEST_CASE("shapes bend along their handles and move between their keys") {
    Shape s;
    for (const double t : {0.0, 2.0}) {
        ShapeKey key;
        key.time = Seconds(std::int64_t(t));
        for (const Vec2& c : {Vec2(0, 0), Vec2(0.2, 0), Vec2(0.2, 0.2)})
            key.corners.push_back({c + Vec2(t / 10, 0), {0, 0}, {0, 0}});
        s.keys.push_back(key);
    }
    CHECK(corners_at(s, Seconds(-1))[0].at.x() == 0);
    CHECK(corners_at(s, Seconds(1))[0].at.x() == Approx(0.1));
    CHECK(corners_at(s, Seconds(9))[0].at.x() == Approx(0.2));
    CHECK(outline_of(s.keys[0].corners).size() == 3); // straight sides stay single
    s.keys[0].corners[0].after = {0.05, -0.1};
    const auto bent = outline_of(s.keys[0].corners);
    CHECK(bent.size() == 14);
    CHECK(std::min_element(bent.begin(), bent.end(), [](auto& a, auto& b) { return a.y() < b.y(); })->y() <
          -0.03);
    // Distances from an edge, by hand.
    const std::vector<Vec2> square = {{0, 0}, {1, 0}, {1, 1}, {0, 1}};
    CHECK(inside_polygon(square, {0.5, 0.9}) == Approx(0.1));
    CHECK(inside_polygon(square, {0.5, 1.5}) == Approx(-0.5));
    CHECK(inside_polygon(square, {2, 2}) == Approx(-std::sqrt(2.0)));
}

TEST_CASE("a shelter comes whole from one camera, and eases in and out without a step") {
    Shot shot = pair_shot();
    shot.seams.flow.on = false; // transitions as wide as the feather
    Shelter s;
    s.name = "keeper";
    s.from = Seconds(2), s.to = Seconds(4), s.ease_s = 1;
    s.keys = {{Seconds(2), 88, 0, 14, 30}}; // across the seam at 90 degrees, more of it in front
    shot.seams.shelters = {s};
    const auto plan_at = [&](double t, std::size_t width = 1024) {
        const PlanKey key = plan_key(shot, map_view(int(width)), Seconds::from_double(t));
        PlanKey without = key;
        without.shelters.clear();
        return with_changes(make_plan(without), key);
    };
    for (const double yaw : {83.0, 88.0, 93.0}) {
        CHECK(weight_at(plan_at(3), 0, towards(yaw, 0)) == Approx(1).margin(0.02));
    }
    CHECK(weight_at(plan_at(3), 0, towards(90, 12)) > 0.95);
    CHECK(weight_at(plan_at(3), 1, towards(93, 25)) == 1); // above it the line is where it was
    CHECK(weight_at(plan_at(0.5), 1, towards(93, 0)) == Approx(weight_at(plan_at(9), 1, towards(93, 0))));
    CHECK(weight_at(plan_at(0.5), 1, towards(93, 0)) > 0.9);
    // Planning only what lies in it gives the very plan that planning everything gives.
    const BlendPlan part = plan_at(3), all = make_plan(plan_key(shot, map_view(1024), Seconds(3)));
    for (double yaw = -180; yaw < 180; yaw += 3)
        for (double pitch = -80; pitch <= 80; pitch += 5)
            for (const std::size_t camera : {0u, 1u})
                CHECK(weight_at(part, camera, towards(yaw, pitch)) ==
                      weight_at(all, camera, towards(yaw, pitch)));
    // Over the second of easing the line moves through the oval: no place jumps by much from frame to frame.
    double largest = 0, before[3] = {0, 0, 0};
    for (int frame = 0; frame <= 30; ++frame) {
        const BlendPlan plan = plan_at(0.9 + frame / 25.0, 512);
        int i = 0;
        for (const double yaw : {90.5, 92.0, 94.0}) {
            const double w = weight_at(plan, 0, towards(yaw, 0));
            if (frame > 0) largest = std::max(largest, std::abs(w - before[i]));
            before[i++] = w;
        }
    }
    CHECK(before[0] > 0.95);
    CHECK(largest < 0.35);
    CHECK(largest > 0.01);
}

TEST_CASE("a shelter's camera is the one that sees it whole, and what is impossible is said") {
    Shot shot = pair_shot();
    Shelter s;
    s.keys = {{Seconds(0), 80, 0, 30, 40}};
    CHECK(shelter_camera(shot, s).camera == "A");
    CHECK(shelter_camera(shot, s).seen == 1);
    s.keys[0].yaw_deg = -150;
    CHECK(shelter_camera(shot, s).camera == "B");
    s.keys = {{Seconds(0), 80, 0, 30, 40}, {Seconds(2), 110, 0, 30, 40}}; // walks out of A's sight
    CHECK(shelter_camera(shot, s).camera == "B");
    s.keys = {{Seconds(0), 90, 0, 120, 60}}; // wider than what they share
    CHECK(shelter_camera(shot, s).seen < 0.9);
    CHECK(shelter_camera(shot, s).seen > 0.3);
    s.camera = "B";
    CHECK(shelter_camera(shot, s).camera == "B");
    for (auto& c : shot.cameras) c.used = c.camera != "B";
    CHECK(shelter_camera(shot, s).camera.empty());
}

TEST_CASE(
    "multiband passes from one brightness to another without a line, round the back and at the poles too") {
    const TempFolder folder;
    Project project;
    Shot shot = pair_shot(360);
    shot.rig.cameras[0].pose.turn = {40, 30, 0}; // seams cross longitude 180 and both poles' surroundings
    shot.rig.cameras[1].pose.turn = {-140, -30, 0};
    for (std::size_t c = 0; c < 2; ++c) {
        const float level = c ? 0.56f : 0.5f;
        Picture p(360, 360);
        for (int y = 0; y < 360; ++y)
            for (int x = 0; x < 360; ++x) set_pixel(p, x, y, {level, level, level, 1});
        const auto file = folder / ("s" + std::to_string(c) + ".png");
        write_still(p, file, {16, 95, {}});
        shot.cameras[c].media = add_media(project, media_ref_for(file));
    }
    Composer composer(std::make_shared<MediaLibrary>());
    const auto steepest =
        [&](Blending kind) { // largest step between neighbours, per degree, away from the poles' rows
            shot.seams.blend.kind = kind;
            const Picture p = composer.compose(project, shot, Seconds(0), map_view(720, Filter::cubic));
            CHECK(hole_share(p) == 0);
            double most = 0;
            for (int y = 0; y < p.height(); ++y)
                for (int x = 0; x < p.width(); ++x) {
                    const double here = double(pixel_at(p, x, y).r);
                    CHECK(here > 0.49);
                    CHECK(here < 0.57);
                    most = std::max(most, std::abs(double(pixel_at(p, (x + 1) % p.width(), y).r) - here));
                    if (y + 1 < p.height())
                        most = std::max(most, std::abs(double(pixel_at(p, x, y + 1).r) - here));
                }
            const Rgba front = pixel_at(p, 440, 120), back = pixel_at(p, 80, 240);
            CHECK(double(back.r) > double(front.r) + 0.03); // far from the seam each keeps most of its own
            return most / 0.5;
        };
    const double hard = steepest(Blending::hard), feathered = steepest(Blending::feathered),
                 multiband = steepest(Blending::multiband);
    INFO(hard << " " << feathered << " " << multiband);
    CHECK(multiband < 0.5 * feathered);
    CHECK(feathered < 0.8 * hard);
    CHECK(multiband < 0.01);
}

TEST_CASE("what lies in a shelter is followed from lens to lens, and losing it is said") {
    const TempFolder folder;
    // A chequered thing goes round at 30 degrees a second before a plain wall, seen by two lenses.
    Shot shot = pair_shot(300);
    shot.timing.rate = FrameRate(10);
    for (auto& c : shot.rig.cameras) c.pose.position_m = {0, 0, 0}; // far away
    Project project;
    const auto yaw_at = [](double t) { return 60 + 30 * t; };
    const auto pitch_at = [](double t) { return 5 * std::sin(2 * t); };
    constexpr int kFrames = 21;
    for (std::size_t c = 0; c < 2; ++c) {
        const LensMap map(shot.rig.cameras[c].lens);
        const Mat3 to_rig = rotation_of(shot.rig.cameras[c].pose.turn);
        for (int n = 0; n < kFrames; ++n) {
            const double t = n / 10.0;
            const Mat3 to_thing = rotation_of({yaw_at(t), pitch_at(t), 0}).transpose();
            Picture p(300, 300);
            for (int y = 0; y < 300; ++y)
                for (int x = 0; x < 300; ++x) {
                    float v = 0.4f + 0.03f * float((x * 7 + y * 13 + n * 5) % 11) / 11;
                    if (const auto ray = map.unproject({x + 0.5, y + 0.5})) {
                        const Vec3 d = to_thing * (to_rig * *ray);
                        const double u = degrees(std::atan2(d.x(), d.z())), w = degrees(std::asin(d.y()));
                        const bool there = std::abs(u) < 6 && std::abs(w) < 11 && !(n > 17 && c == 1);
                        if (there) v = (int(std::floor(u / 4)) + int(std::floor(w / 5))) % 2 ? 0.15f : 0.8f;
                    }
                    set_pixel(p, x, y, {v, v, v, 1});
                }
            char name[32];
            std::snprintf(name, sizeof name, "c%zu.%04d.png", c, n);
            write_still(p, folder / name, {8, 95, {}});
        }
        MediaRef ref;
        ref.path = folder / ("c" + std::to_string(c) + ".%04d.png");
        ref.kind = MediaKind::sequence;
        ref.sequence_rate = FrameRate(10);
        shot.cameras[c].media = add_media(project, ref);
    }
    Shelter s;
    s.keys = {{Rational(4, 5), yaw_at(0.8), pitch_at(0.8), 14, 26}};
    const Followed f = follow_shelter(project, shot, s, Rational(4, 5), Rational(kFrames, 10),
                                      std::make_shared<MediaLibrary>(), {}, Cancel());
    CHECK(f.lost); // from frame 18 on it is gone
    REQUIRE(f.to);
    CHECK(f.to->to_double() == Approx(1.7).margin(0.11));
    CHECK_FALSE(f.from);
    CHECK(f.keys.front().time == Seconds(0));
    CHECK(f.keys.size() < 12);
    Shelter followed;
    followed.keys = f.keys;
    for (double t = 0; t <= 1.7; t += 0.1) {
        const ShelterKey at = oval_at(followed, Seconds::from_double(t));
        CHECK(std::abs(std::remainder(at.yaw_deg - yaw_at(t), 360.0)) < 1.2);
        CHECK(std::abs(at.pitch_deg - pitch_at(t)) < 1.2);
    }
    s.keys[0].yaw_deg = -60; // nothing but wall
    CHECK(error_of([&] {
              follow_shelter(project, shot, s, Rational(4, 5), Rational(2), std::make_shared<MediaLibrary>(),
                             {}, Cancel());
          }).find("nothing that could be recognised") != std::string::npos);
}
