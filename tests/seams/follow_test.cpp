// What looks at sources over time: shapes that follow what lies in them, and frames cleaned of noise.
#include "base/angle.h"
#include "media/still.h"
#include "picture/compare.h"
#include "seams/follow_shape.h"
#include "stitch/source/denoise.h"
#include "support/support.h"

#include <random>

using namespace porb;
using namespace porb::test;

namespace {

constexpr int kSize = 320;
const FrameRate kRate(10);

/// A pattern without end, smooth from one of its cells to the next and never the same twice.
double pattern(const Vec2& at) {
    const auto cell = [](double x, double y) {
        const double v = std::sin(x * 127.1 + y * 311.7) * 43758.5453;
        return v - std::floor(v);
    };
    const double x = std::floor(at.x()), y = std::floor(at.y()), fx = at.x() - x, fy = at.y() - y;
    return (1 - fy) * ((1 - fx) * cell(x, y) + fx * cell(x + 1, y)) +
           fy * ((1 - fx) * cell(x, y + 1) + fx * cell(x + 1, y + 1));
}

MediaRef sequence(const TempFolder& folder) {
    MediaRef ref;
    ref.path = folder / "f.%04d.png";
    ref.kind = MediaKind::sequence;
    ref.sequence_rate = kRate;
    return ref;
}
void write_frame(const TempFolder& folder, int n, const Picture& picture) {
    char name[16];
    std::snprintf(name, sizeof name, "f.%04d.png", n);
    write_still(picture, folder / name, {16, 95, {}});
}

/// How a thing lies on the picture: it moves, turns and comes nearer.
struct Movement {
    Vec2 from{110, 140}, per_second{34, 12};
    double turn_deg = 14, growth = 0.12; ///< a second

    Vec2 on_picture(const Vec2& on_thing, double t) const {
        const double a = radians(turn_deg * t), s = 1 + growth * t;
        return from + per_second * t +
               s * Vec2(std::cos(a) * on_thing.x() - std::sin(a) * on_thing.y(),
                        std::sin(a) * on_thing.x() + std::cos(a) * on_thing.y());
    }
    Vec2 on_thing(const Vec2& on_picture, double t) const {
        const double a = radians(-turn_deg * t), s = 1 / (1 + growth * t);
        const Vec2 p = on_picture - from - per_second * t;
        return s * Vec2(std::cos(a) * p.x() - std::sin(a) * p.y(), std::sin(a) * p.x() + std::cos(a) * p.y());
    }
};

/// A round thing of 60 px before a wall that stands still; from `gone` on it is not there.
void write_take(const TempFolder& folder, const Movement& movement, int frames, int gone) {
    for (int n = 0; n < frames; ++n) {
        Picture p(kSize, kSize);
        for (int y = 0; y < kSize; ++y)
            for (int x = 0; x < kSize; ++x) {
                const Vec2 at = movement.on_thing({x + 0.5, y + 0.5}, n / 10.0);
                const bool there = n < gone && at.norm() < 60;
                const auto v = float(there ? 0.2 + 0.6 * pattern(at / 5) : 0.45);
                set_pixel(p, x, y, {v, v, v, 1});
            }
        write_frame(folder, n, p);
    }
}

struct ShapeTake {
    Project project;
    Shot shot;
    Shape shape;
};
/// One camera that shows it, and a square of 60 px on the thing as it lies at `start`.
ShapeTake shape_take(const TempFolder& folder, const Movement& movement, double start, int frames) {
    ShapeTake out;
    Rig rig;
    rig.name = "one";
    Camera camera;
    camera.id = "A";
    camera.lens = fisheye(kSize, 180);
    rig.cameras.push_back(camera);
    out.shot = shot_for_rig(rig, "t");
    out.shot.timing.rate = kRate;
    out.shot.timing.out = Rational(frames, 10);
    out.shot.cameras[0].media = add_media(out.project, sequence(folder));
    out.shape.name = "square";
    ShapeKey key{Rational(int(std::lround(start * 10)), 10), {}};
    const Lens& lens = rig.cameras[0].lens;
    for (const Vec2& corner : {Vec2(-30, -30), Vec2(30, -30), Vec2(30, 30), Vec2(-30, 30)})
        key.corners.push_back(
            {(movement.on_picture(corner, start) - lens.circle.center_px) / lens.circle.radius_px,
             {0, 0},
             {0, 0}});
    out.shape.keys = {key};
    return out;
}
FollowedShape follow(const ShapeTake& take, const Seconds& end) {
    return follow_shape(take.project, take.shot, take.shot.cameras[0], take.shape, take.shape.keys[0].time,
                        end, std::make_shared<MediaLibrary>(), {}, Cancel());
}

} // namespace

TEST_CASE("a shape follows what lies in it, moving, turning and growing, forwards and back") {
    const TempFolder folder;
    const Movement movement;
    constexpr int kFrames = 21;
    write_take(folder, movement, kFrames, kFrames);
    const double start = GENERATE(0.0, 0.9);
    const ShapeTake take = shape_take(folder, movement, start, kFrames);
    const FollowedShape f = follow(take, Rational(kFrames, 10));
    CHECK_FALSE(f.lost);
    CHECK(f.keys.front().time == Seconds(0));
    CHECK(f.keys.back().time == Rational(kFrames - 1, 10));
    CHECK(f.keys.size() < 10); // few enough to be changed by hand
    Shape followed = take.shape;
    followed.keys = f.keys;
    const auto& circle = take.shot.rig.cameras[0].lens.circle;
    double worst = 0;
    for (int n = 0; n < kFrames; ++n) {
        const auto corners = corners_at(followed, Rational(n, 10));
        int i = 0;
        for (const Vec2& corner : {Vec2(-30, -30), Vec2(30, -30), Vec2(30, 30), Vec2(-30, 30)}) {
            const Vec2 px = circle.center_px + corners[std::size_t(i++)].at * circle.radius_px;
            worst = std::max(worst, (px - movement.on_picture(corner, n / 10.0)).norm());
        }
    }
    INFO("worst corner " << worst << " px off");
    CHECK(worst < 1.5); // thinning alone may take 1.3
}

TEST_CASE("a shape ends where what it followed is gone, and does not begin where nothing is") {
    const TempFolder folder;
    const Movement movement;
    write_take(folder, movement, 16, 11);
    ShapeTake take = shape_take(folder, movement, 0.5, 16);
    const FollowedShape f = follow(take, Rational(16, 10));
    CHECK(f.lost);
    CHECK(f.keys.front().time == Seconds(0));
    CHECK(f.keys.back().time == Rational(10, 10));

    for (ShapeCorner& c : take.shape.keys[0].corners) c.at += Vec2(0.5, 0.5); // a bare wall
    CHECK(error_of([&] { (void)follow(take, Rational(16, 10)); }).find("nothing that could be followed") !=
          std::string::npos);
    take.shape.keys[0].time = Rational(30, 10); // after the source's end
    CHECK(error_of([&] { (void)follow(take, Rational(40, 10)); }).find("no picture at this moment") !=
          std::string::npos);
    take.shot.cameras[0].media.clear();
    CHECK(error_of([&] { (void)follow(take, Rational(16, 10)); }).find("no source") != std::string::npos);
}

TEST_CASE("sources come clean from the library at every size, are kept, and end where they end") {
    const TempFolder folder;
    Picture truth(192, 160);
    for (int y = 0; y < 160; ++y)
        for (int x = 0; x < 192; ++x) {
            const auto v = float(0.25 + 0.5 * pattern({x / 9.0, y / 9.0}));
            set_pixel(truth, x, y, {v, 0.9f * v, 0.8f * v, 1});
        }
    std::mt19937 random(3);
    std::normal_distribution<float> noise(0, 0.03f);
    for (int n = 0; n < 5; ++n) {
        Picture p(192, 160);
        for (int y = 0; y < 160; ++y)
            for (int x = 0; x < 192; ++x) {
                const Rgba c = pixel_at(truth, x, y);
                set_pixel(p, x, y, {c.r + noise(random), c.g + noise(random), c.b + noise(random), 1});
            }
        write_frame(folder, n, p);
    }
    const MediaRef ref = sequence(folder);
    MediaLibrary library;
    Cleaner cleaner(library.bound());
    const Seconds frame(1, 10);
    const Denoise settings{true, 1, 0};
    const auto at = [&](int n, int level) {
        return cleaner.picture(library, ref, Rational(n, 10), frame, level, settings);
    };
    const auto raw_db = [&](int n) { return psnr_db(*library.picture(ref, Rational(n, 10)), truth); };
    const auto third = at(3, 0);
    REQUIRE(third);
    CHECK(psnr_db(*third, truth) > raw_db(3) + 2.5);    // three frames: 4.8 dB at most
    CHECK(psnr_db(*at(1, 0), truth) > raw_db(1) + 1.5); // two
    CHECK(psnr_db(*at(0, 0), truth) ==
          Approx(raw_db(0)).margin(0.01)); // none before it, nothing in the frame asked for
    CHECK(at(3, 0)->row(0) == third->row(0));
    CHECK(psnr_db(*at(3, 1), halved(*third)) > 90);
    CHECK(at(3, 1)->row(0) == at(3, 1)->row(0));
    CHECK_FALSE(at(5, 0));

    Denoise other = settings; // other settings are other pictures
    other.over_time = 0;
    CHECK(psnr_db(*cleaner.picture(library, ref, Rational(3, 10), frame, 0, other), truth) ==
          Approx(raw_db(3)).margin(0.01));
    const auto room_for_one = std::make_shared<CacheBound>(third->bytes());
    Cleaner small(room_for_one); // the frames as shot do not fit beside the clean one
    const auto once = small.picture(library, ref, Rational(3, 10), frame, 0, settings);
    CHECK(small.picture(library, ref, Rational(3, 10), frame, 0, settings)->row(0) == once->row(0));
    (void)small.picture(library, ref, Rational(4, 10), frame, 0, settings);
    CHECK(small.picture(library, ref, Rational(3, 10), frame, 0, settings)->row(0) != once->row(0));
    CHECK(room_for_one->used() <= third->bytes());
}
