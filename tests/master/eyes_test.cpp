// A left eye that stays left, from the rig to the file: each eye's source has a colour of its own.
#include "master/inspect.h"
#include "master/render.h"
#include "media/still.h"
#include "support/support.h"

using namespace porb;
using namespace porb::test;

namespace {

Picture of_colour(int size, float red, float blue) {
    Picture p(size, size);
    for (int y = 0; y < size; ++y)
        for (int x = 0; x < size; ++x) {
            Half* to = p.row(y) + 4 * x;
            to[0] = half_from_float(red), to[1] = half_from_float(0.1f), to[2] = half_from_float(blue);
            to[3] = half_from_float(1);
        }
    return p;
}
enum class Seen { red, blue, neither };
/// What a part of a picture shows in its middle.
Seen colour_at(const Picture& p, double x, double y) {
    const Half* at = p.row(int(y * p.height())) + 4 * int(x * p.width());
    const float red = float_from_half(at[0]), blue = float_from_half(at[2]);
    return red > blue + 0.3f ? Seen::red : blue > red + 0.3f ? Seen::blue : Seen::neither;
}

} // namespace

TEST_CASE("left is left and right is right: by eyes given and proposed, in stills, both layouts and tags") {
    const TempFolder folder;
    constexpr int kSize = 256;
    write_still(of_colour(kSize, 0.8f, 0.1f), folder / "left.png", {});
    write_still(of_colour(kSize, 0.1f, 0.8f), folder / "right.png", {});
    Rig rig = nominal_pair(kSize, kSize, 1, 190);
    const bool proposed = GENERATE(false, true), turned = GENERATE(false, true);
    if (turned)
        std::swap(rig.cameras[0].pose, rig.cameras[1].pose),
            std::swap(rig.cameras[0].eyes, rig.cameras[1].eyes);
    if (proposed) {
        for (auto& c : rig.cameras) c.eyes = Eyes::both;
        REQUIRE(propose_eyes(rig));
    }
    Project project;
    Shot shot = shot_for_rig(rig, "pair");
    for (std::size_t i = 0; i < 2; ++i) { // whichever stands on the left shows red
        const char* name = rig.cameras[i].pose.position_m.x() < 0 ? "left.png" : "right.png";
        shot.cameras[i].media = add_media(project, {folder / name, MediaKind::still, FrameRate(30)});
    }
    project.shots = {shot};
    Composer composer(render_library(shot, std::make_shared<CacheBound>()));
    StillRequest still;
    still.width = 128;
    still.mapping = SphereMapping::half_equirect;
    still.eye = Eye::left;
    CHECK(colour_at(render_still(composer, project, shot, still), 0.5, 0.5) == Seen::red);
    still.eye = Eye::right;
    CHECK(colour_at(render_still(composer, project, shot, still), 0.5, 0.5) == Seen::blue);
    for (const auto layout : {StereoLayout::top_bottom, StereoLayout::left_right}) {
        Deliverable d;
        d.id = "d", d.shot = shot.id, d.width = 128, d.stereo = layout,
        d.mapping = SphereMapping::half_equirect;
        d.path = folder / "m.mp4", d.sound = false, d.crf = 10;
        render(composer, project, d, nullptr, {});
        const Picture frame = *MediaLibrary().picture({d.path, MediaKind::video, FrameRate(30)}, Seconds(0));
        const bool stacked = layout == StereoLayout::top_bottom;
        CHECK(colour_at(frame, stacked ? 0.5 : 0.25, stacked ? 0.25 : 0.5) == Seen::red);
        CHECK(colour_at(frame, stacked ? 0.5 : 0.75, stacked ? 0.75 : 0.5) == Seen::blue);
        CHECK(inspect(d.path).stereo == name_of(layout));
        still.stereo = layout;
        const Picture both = render_still(composer, project, shot, still);
        CHECK(colour_at(both, stacked ? 0.5 : 0.25, stacked ? 0.25 : 0.5) == Seen::red);
    }
}

TEST_CASE("eyes are proposed only for two lenses side by side that look the same way") {
    Rig rig = nominal_pair(256, 256, 1, 190);
    CHECK_FALSE(propose_eyes(rig)); // somebody said already
    for (auto& c : rig.cameras) c.eyes = Eyes::both;
    for (const auto& change :
         std::vector<std::function<void(Rig&)>>{[](Rig& r) { r.cameras[1].pose.turn.yaw_deg = 180; },
                                                [](Rig& r) { r.cameras[1].pose.position_m.x() = 0.5; },
                                                [](Rig& r) {
                                                    r.cameras[1].pose.position_m = {-0.03, 0.06, 0};
                                                },
                                                [](Rig& r) { r.cameras.push_back(r.cameras[0]); }}) {
        Rig other = rig;
        change(other);
        CHECK_FALSE(propose_eyes(other));
    }
    std::swap(rig.cameras[0].pose, rig.cameras[1].pose);
    CHECK(propose_eyes(rig));
    CHECK(rig.cameras[1].eyes == Eyes::left);
}
