// Patches in the composed picture: where they lie, for the centre and for each eye, and what they cost.
#include "base/angle.h"
#include "media/still.h"
#include "picture/transfer.h"
#include "project/orientation.h"
#include "stitch/compose.h"
#include "stitch/patches/sampler.h"
#include "stitch/patches/soften.h"
#include "support/support.h"

#include <fstream>
#include <random>

using namespace porb;
using namespace porb::test;

namespace {

/// A square whose colours tell where on it one is: red to the right, green downwards.
TileImage chart(int side) {
    Picture p(side, side);
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x)
            set_pixel(p, x, y, {(float(x) + 0.5f) / float(side), (float(y) + 0.5f) / float(side), 0.5f, 1});
    return tiles_of(p);
}

Patch chart_patch(double yaw, double pitch, double roll, double width, int side = 512) {
    Patch p;
    p.name = "chart";
    p.keys = {{Seconds(0), yaw, pitch, roll, width, 1, {}}};
    p.resolution = side;
    p.pixels = chart(side);
    p.feather_deg = 0;
    return p;
}

struct Made {
    TempFolder folder;
    StillTake take;
    Composer composer{std::make_shared<MediaLibrary>()};
    explicit Made(int size = 128) : take(hall_still(folder, options(size))) { shot().seams.flow.on = false; }
    static sim::SimOptions options(int size) {
        sim::SimOptions o;
        o.circle_size = size;
        return o;
    }
    Shot& shot() { return take.project.shots[0]; }
    Picture look(const Target& target, Eye eye = Eye::mono, bool patches = true) {
        View view;
        view.target = target;
        view.eye = eye;
        view.patches = patches;
        return composer.compose(take.project, shot(), Seconds(0), view);
    }
};

bool same(const Picture& a, const Picture& b) {
    for (int y = 0; y < a.height(); ++y)
        if (!std::equal(a.row(y), a.row(y) + 4 * a.width(), b.row(y))) return false;
    return a.width() == b.width() && a.height() == b.height();
}

} // namespace

TEST_CASE("a patch lies where its direction, width and roll say, in every view") {
    Made made;
    for (const Turn& t : {Turn{30, -50, 20}, Turn{0, -90, 0}, Turn{-170, 10, -75}, Turn{180, 0, 0}}) {
        made.shot().patches = {chart_patch(t.yaw_deg, t.pitch_deg, t.roll_deg, 50)};
        const PatchPlacement place =
            placement_of(made.shot(), made.shot().patches[0], place_at(made.shot().patches[0], Seconds(0)),
                         Seconds(0), Eye::mono);
        const Mat3 frame = rotation_of(t);
        const double half = std::tan(radians(25));
        for (const Target& target :
             {equirect_target(1024), window_target(600, 400, {t.yaw_deg + 5, t.pitch_deg + 4, 0}, 80)}) {
            const Picture picture = made.look(target);
            const TargetMap map(target);
            int looked = 0;
            for (const Vec2& at : {Vec2(0, 0), Vec2(-0.9, -0.9), Vec2(0.8, -0.5), Vec2(0.3, 0.9)}) {
                const Vec3 direction = (frame * Vec3(at.x() * half, at.y() * half, 1)).normalized();
                CHECK((direction_of(place, at) - direction).norm() < 1e-12);
                CHECK((*square_place(place, direction) - at).norm() < 1e-12);
                const auto pixel = map.pixel(direction);
                if (!pixel) continue;
                const int x = std::min(int(pixel->x()), target.width - 1),
                          y = std::min(int(pixel->y()), target.height - 1);
                const Vec2 shown = *square_place(place, *map.direction({x + 0.5, y + 0.5}));
                const Rgba c = pixel_at(picture, x, y);
                INFO("yaw " << t.yaw_deg << " pitch " << t.pitch_deg << " at " << at.transpose());
                CHECK(c.r == Approx((shown.x() + 1) / 2).margin(0.003));
                CHECK(c.g == Approx((shown.y() + 1) / 2).margin(0.003));
                ++looked;
            }
            CHECK(looked >= 3);
        }
        // Outside it nothing is changed, and without patches nothing at all.
        const Picture with = made.look(equirect_target(512)),
                      without = made.look(equirect_target(512), Eye::mono, false);
        made.shot().patches.clear();
        CHECK(same(without, made.look(equirect_target(512))));
        const TargetMap map(equirect_target(512));
        int outside = 0;
        for (int y = 0; y < 256; y += 3)
            for (int x = 0; x < 512; x += 3) {
                const auto at = square_place(place, *map.direction({x + 0.5, y + 0.5}));
                if (at && at->cwiseAbs().maxCoeff() < 1) continue;
                ++outside;
                REQUIRE(std::equal(with.row(y) + 4 * x, with.row(y) + 4 * x + 4, without.row(y) + 4 * x));
            }
        CHECK(outside > 1000);
    }
}

TEST_CASE("opacity, order, mask, disc, feather and grade are applied as they say") {
    Made made;
    Patch low = chart_patch(0, -90, 0, 60), high = chart_patch(0, -90, 0, 20);
    high.pixels = tiles_of([] {
        Picture p(512, 512);
        for (int y = 0; y < 512; ++y)
            for (int x = 0; x < 512; ++x) set_pixel(p, x, y, {1, 1, 1, 1});
        return p;
    }());
    const Target down = window_target(201, 201, {0, -90, 0}, 70);
    made.shot().patches = {low, high};
    CHECK(pixel_at(made.look(down), 100, 100).b == Approx(1));
    made.shot().patches = {high, low};
    CHECK(pixel_at(made.look(down), 100, 100).b == Approx(0.5).margin(0.002));
    low.keys[0].opacity = 0.25;
    made.shot().patches = {high, low};
    CHECK(pixel_at(made.look(down), 100, 100).b == Approx(0.875).margin(0.002));
    // The grade comes after.
    made.shot().look.grade.gain = {0.5, 0.5, 0.5};
    made.shot().patches = {high};
    const float graded = pixel_at(made.look(down), 100, 100).b;
    CHECK(graded < 0.9f);
    made.shot().look.grade = {};

    // A mask that hides the right half, soft over its feather; the rim, too.
    Patch masked = high;
    masked.keys[0].width_deg = 60;
    masked.mask = TileImage(512, 512, 1);
    {
        TileImage::Edit edit(masked.mask);
        for (int y = 0; y < 512; ++y)
            for (int x = 0; x < 256; ++x) *edit.pixel(x, y) = half_from_float(1);
    }
    made.shot().patches = {masked};
    const Picture hard = made.look(down), plain = made.look(down, Eye::mono, false);
    CHECK(pixel_at(hard, 70, 100).b == Approx(1).margin(0.002));
    CHECK(pixel_at(hard, 130, 100).b == Approx(pixel_at(plain, 130, 100).b));
    made.shot().patches[0].feather_deg = 8;
    const Picture soft = made.look(down);
    int between = 0;
    float before = 1;
    for (int x = 60; x < 140; ++x) {
        const float a =
            (pixel_at(soft, x, 100).b - pixel_at(plain, x, 100).b) / (1 - pixel_at(plain, x, 100).b);
        between += a > 0.02f && a < 0.98f;
        CHECK(a <= before + 0.01f);
        before = a;
    }
    CHECK(between > 12); // 8 degrees are about 26 pixels here
    CHECK(between < 45);
    made.shot().patches[0].mask = {};
    made.shot().patches[0].disc = true;
    made.shot().patches[0].feather_deg = 0;
    const Picture round = made.look(down);
    CHECK(pixel_at(round, 100, 100).b == Approx(1));
    CHECK(pixel_at(round, 32, 32).b == Approx(pixel_at(plain, 32, 32).b));
}

TEST_CASE("a patch of the rig turns with it, one of the world does not") {
    Made made;
    made.shot().patches = {chart_patch(40, -30, 0, 30)};
    made.shot().levelling.orientation = {25, 5, -10};
    const Vec3 fixed = forward_of({40, -30, 0});
    const auto middle = [&](PatchHold hold) {
        made.shot().patches[0].hold = hold;
        const Patch& p = made.shot().patches[0];
        return direction_of(placement_of(made.shot(), p, place_at(p, Seconds(0)), Seconds(0), Eye::mono),
                            {0, 0});
    };
    CHECK((middle(PatchHold::world) - fixed).norm() < 1e-9);
    CHECK((middle(PatchHold::rig) - orientation_at(made.shot(), Seconds(0)) * fixed).norm() < 1e-9);
}

TEST_CASE("for each eye a patch on the floor lies where the floor does") {
    Made made;
    Shot& shot = made.shot();
    shot.stereo.from = EyesFrom::distances;
    shot.stereo.ipd_m = 0.064;
    shot.stereo.converge_m = 2;
    const double height = 1.6;
    Patch p = chart_patch(10, -70, 0, 70);
    p.distance_m = height;
    double most = 0;
    for (const Eye eye : {Eye::left, Eye::right}) {
        const EyeRays rays = eye_rays_of(shot, eye, Seconds(0));
        for (const auto& [surface, inverse] :
             {std::pair(PatchSurface::level,
                        std::function<double(const Vec3&)>([&](const Vec3& d) { return d.y() / height; })),
              std::pair(PatchSurface::sphere,
                        std::function<double(const Vec3&)>([&](const Vec3&) { return 1 / height; }))}) {
            p.surface = surface;
            const PatchPlacement seen = placement_of(shot, p, p.keys[0], Seconds(0), eye),
                                 centre = placement_of(shot, p, p.keys[0], Seconds(0), Eye::mono);
            for (const Vec2& at : {Vec2(0, 0), Vec2(-0.7, 0.4), Vec2(0.9, -0.9), Vec2(0.2, 0.95)}) {
                // A point of the floor, and where the eye's picture shows it.
                const Vec3 direction = direction_of(centre, at), point = direction / inverse(direction);
                Vec3 looks = direction;
                for (int i = 0; i < 40; ++i) looks = (point - rays.origin_m(looks)).normalized();
                const auto place = square_place(seen, rays.shown(looks));
                REQUIRE(place);
                most = std::max(most, (*place - at).norm() * 35 / (360.0 / 3840)); // about pixels at 3840
            }
        }
    }
    CHECK(most < 0.01); // to reach: 0.3 px of vertical disparity
    // Far away it is the same to both, but for convergence.
    p.surface = PatchSurface::far;
    const PatchPlacement far = placement_of(shot, p, p.keys[0], Seconds(0), Eye::left);
    const EyeRays rays = eye_rays_of(shot, Eye::left, Seconds(0));
    CHECK((*square_place(far, rays.shown(direction_of(far, {0.3, 0.2}))) - Vec2(0.3, 0.2)).norm() < 1e-9);
    // And the picture shows it there.
    p.surface = PatchSurface::level;
    shot.patches = {p};
    View view;
    view.target = equirect_target(1024);
    view.eye = Eye::right;
    const Picture right = made.composer.patches_alone(made.take.project, shot, Seconds(0), view);
    const PatchPlacement seen = placement_of(shot, p, p.keys[0], Seconds(0), Eye::right);
    const TargetMap map(view.target);
    int looked = 0;
    for (int y = 300; y < 500; y += 17)
        for (int x = 0; x < 1024; x += 31) {
            const auto at = square_place(seen, *map.direction({x + 0.5, y + 0.5}));
            const Rgba c = pixel_at(right, x, y);
            if (!at || at->cwiseAbs().maxCoeff() > 0.97) continue;
            CHECK(c.r == Approx((at->x() + 1) / 2).margin(0.004));
            ++looked;
        }
    CHECK(looked > 40);
}

TEST_CASE("what is drawn anew after a stroke is what is drawn at once") {
    std::mt19937 random(3);
    WarpKey key;
    key.view.target = window_target(500, 400, {0, -85, 10}, 80);
    Shot shot = shot_for_rig(tiny_rig(), "x");
    Patch patch = chart_patch(0, -90, 0, 60, 1024);
    patch.mask = whole_mask(1024);
    patch.feather_deg = key.feather_deg = 1.5;
    key.placement = placement_of(shot, patch, patch.keys[0], Seconds(0), Eye::mono);
    PatchContent content{patch.pixels, patch.mask, 1.5, false};
    PatchWarp warp = warp_patch(key, content);
    for (int stroke = 0; stroke < 6; ++stroke) {
        const int x = 100 + int(random() % 800), y = 100 + int(random() % 800);
        {
            TileImage::Edit edit(content.pixels), mask(content.mask);
            for (int j = -30; j < 30; ++j)
                for (int i = -30; i < 30; ++i) {
                    edit.pixel(x + i, y + j)[2] = half_from_float(1);
                    if (stroke % 2) *mask.pixel(x + i, y + j) = 0;
                }
        }
        const PatchWarp anew = warp_patch(key, content), on = warp_patch(key, content, &warp);
        REQUIRE(same(anew.straight, on.straight));
        REQUIRE_FALSE(same(on.straight, warp.straight));
        warp = on;
    }
    // Cleared again: nothing is left of it.
    content.pixels = TileImage(1024, 1024, 4);
    CHECK(warp_patch(key, content, &warp).straight.empty());
}

TEST_CASE("light and passing shadows are laid on a patch in linear light") {
    Made made;
    Patch p = chart_patch(0, -90, 0, 60);
    made.shot().patches = {p};
    const Target down = window_target(201, 201, {0, -90, 0}, 50);
    const Picture before = made.look(down);
    p.follows_light = true;
    p.light = {{Seconds(0), {2, 0.5, 1}, {0, 0, 0.01}, {}}};
    made.shot().patches = {p};
    const Picture lit = made.look(down);
    for (const int x : {30, 100, 170}) {
        const Rgba a = pixel_at(before, x, 90), b = pixel_at(lit, x, 90);
        CHECK(linear_from_encoded(b.r) == Approx(2 * linear_from_encoded(a.r)).epsilon(0.01));
        CHECK(linear_from_encoded(b.g) == Approx(0.5 * linear_from_encoded(a.g)).epsilon(0.01));
        CHECK(linear_from_encoded(b.b) == Approx(linear_from_encoded(a.b) + 0.01).epsilon(0.01));
    }
    // A reference twice as light as the place is now: half of the light is gone from it.
    p.follows_light = false;
    p.shadows = 1;
    View small;
    small.target = window_target(256, 256, {0, -90, 0}, 60);
    Picture place = made.composer.compose_ungraded(
        made.take.project,
        [&] {
            Shot s = made.shot();
            s.patches.clear();
            return s;
        }(),
        Seconds(0), small);
    while (place.width() > kReferenceSide) place = halved(place);
    Picture lighter(kReferenceSide, kReferenceSide);
    for (int y = 0; y < kReferenceSide; ++y)
        for (int x = 0; x < kReferenceSide; ++x) {
            const Rgba c = pixel_at(place, x, y);
            const auto twice = [](float v) { return encoded_from_linear(2 * linear_from_encoded(v)); };
            set_pixel(lighter, x, y, {twice(c.r), twice(c.g), twice(c.b), 1});
        }
    p.reference = tiles_of(lighter);
    made.shot().patches = {p};
    const Picture shaded = made.look(down);
    for (const int x : {60, 100, 140})
        CHECK(linear_from_encoded(pixel_at(shaded, x, 100).r) ==
              Approx(0.5 * linear_from_encoded(pixel_at(before, x, 100).r)).epsilon(0.12));
}

TEST_CASE("surroundings are carried over a place smoothly, or mirrored into it") {
    Picture ramp(64, 64), spoilt(64, 64);
    for (int y = 0; y < 64; ++y)
        for (int x = 0; x < 64; ++x)
            for (Picture* p : {&ramp, &spoilt}) set_pixel(*p, x, y, {float(x) / 63, 0.5f, float(y) / 63, 1});
    std::vector<float> hidden(64 * 64);
    for (int y = 20; y < 44; ++y)
        for (int x = 20; x < 44; ++x)
            hidden[std::size_t(y * 64 + x)] = 1, set_pixel(spoilt, x, y, {9, 9, 9, 1});
    const Picture smooth = smoothed_over(spoilt, hidden);
    float worst = 0;
    for (int y = 0; y < 64; ++y)
        for (int x = 0; x < 64; ++x)
            worst = std::max(worst, std::abs(pixel_at(smooth, x, y).r - pixel_at(ramp, x, y).r));
    CHECK(worst < 0.1f);
    CHECK(pixel_at(smooth, 5, 5).r == pixel_at(ramp, 5, 5).r);
    std::fill(hidden.begin(), hidden.end(), 1.0f);
    CHECK(same(smoothed_over(spoilt, hidden), spoilt)); // nothing to go by

    const Picture mirrored = mirrored_inwards(ramp, 0.5);
    CHECK(pixel_at(mirrored, 5, 32).r == Approx(pixel_at(ramp, 5, 32).r));
    CHECK(pixel_at(mirrored, 20, 32).r ==
          Approx(pixel_at(ramp, 11, 32).r).margin(0.02)); // 4.5 px inside: 4.5 outside

    Made made;
    Patch soft;
    soft.kind = PatchKind::soften;
    soft.keys = {{Seconds(0), 0, -90, 0, 30, 1, {}}};
    soft.disc = true;
    made.shot().patches = {soft};
    const Target down = window_target(201, 201, {0, -90, 0}, 50);
    const Picture covered = made.look(down), plain = made.look(down, Eye::mono, false);
    const auto detail = [](const Picture& p) {
        double sum = 0;
        for (int y = 70; y < 130; ++y)
            for (int x = 70; x < 130; ++x) sum += std::abs(pixel_at(p, x + 1, y).g - pixel_at(p, x, y).g);
        return sum;
    };
    CHECK(detail(covered) < 0.3 * detail(plain));
    CHECK(pixel_at(covered, 5, 5).g == pixel_at(plain, 5, 5).g);
}

TEST_CASE("a picture patch shows its file, by alpha, from its beginning on, and says when it cannot") {
    Made made;
    Picture logo(200, 100);
    for (int y = 0; y < 100; ++y)
        for (int x = 0; x < 200; ++x) {
            const float a = x < 100 ? 1.0f : 0.5f;
            set_pixel(logo, x, y, {a, 0, 0, a});
        }
    write_still(logo, made.folder / "logo.png", {16, 95, {}, {}, false, nullptr, {}});
    Patch p;
    p.kind = PatchKind::picture;
    p.keys = {{Seconds(0), 0, -90, 0, 40, 1, {}}};
    p.feather_deg = 0;
    p.media = add_media(made.take.project, media_ref_for(made.folder / "logo.png"));
    made.shot().patches = {p};
    const Target down = window_target(201, 201, {0, -90, 0}, 40);
    const Picture picture = made.look(down), plain = made.look(down, Eye::mono, false);
    CHECK(pixel_at(picture, 50, 100).r == Approx(1).margin(0.01));
    CHECK(pixel_at(picture, 150, 100).g == Approx(0.5 * pixel_at(plain, 150, 100).g).margin(0.01));
    CHECK(pixel_at(picture, 50, 20).g == pixel_at(plain, 50, 20).g); // twice as wide as high
    // An SVG likewise.
    std::ofstream(made.folder / "mark.svg")
        << "<svg xmlns='http://www.w3.org/2000/svg' width='64' height='64'><rect width='64' height='32' "
           "fill='#00ff00'/></svg>";
    made.shot().patches[0].media = add_media(made.take.project, media_ref_for(made.folder / "mark.svg"));
    const Picture mark = made.look(down);
    CHECK(pixel_at(mark, 100, 50).g == Approx(1).margin(0.01));
    CHECK(pixel_at(mark, 100, 150).g == Approx(pixel_at(plain, 100, 150).g).margin(0.01));
    std::filesystem::remove(made.folder / "logo.png");
    made.shot().patches[0].media = add_media(made.take.project, media_ref_for(made.folder / "logo.png"));
    Composer fresh(std::make_shared<MediaLibrary>());
    CHECK(error_of([&] {
              View view;
              view.target = down;
              fresh.compose(made.take.project, made.shot(), Seconds(0), view);
          }).find("logo.png") != std::string::npos);
}

TEST_CASE("while a patch is painted what lies below it is made once") {
    Made made(256);
    Patch p = chart_patch(0, -90, 0, 60, 1024);
    made.shot().patches = {p};
    const Target down = window_target(640, 400, {0, -90, 0}, 80);
    const Picture first = made.look(down), second = made.look(down), third = made.look(down);
    CHECK(same(first, second));
    CHECK(same(first, third)); // the same picture by either way
    made.shot().look.grade.gain = {0.7, 0.7, 0.7};
    const Picture graded = made.look(down);
    made.shot().cameras[0].colour.exposure_ev = 1; // a new base
    CHECK_FALSE(same(made.look(down), graded));
}
