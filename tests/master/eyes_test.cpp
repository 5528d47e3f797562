// A left eye that stays left, from the rig to the file: each eye's source has a colour of its own.
#include "base/error.h"
#include "master/inspect.h"
#include "master/render.h"
#include "media/still.h"
#include "picture/compare.h"
#include "picture/transfer.h"
#include "stitch/depth_map.h"
#include "support/support.h"

#include <ImfChannelList.h>
#include <ImfFrameBuffer.h>
#include <ImfInputFile.h>
#include <ImfMultiPartInputFile.h>
#include <ImfStandardAttributes.h>

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
    Composer composer(render_library(project, shot, std::make_shared<CacheBound>(), {128, 1}));
    StillRequest still;
    still.width = 128;
    still.mapping = SphereMapping::half_equirect;
    still.eye = Eye::left;
    CHECK(colour_at(render_still(composer, project, shot, still), 0.5, 0.5) == Seen::red);
    still.eye = Eye::right;
    CHECK(colour_at(render_still(composer, project, shot, still), 0.5, 0.5) == Seen::blue);
    for (const auto layout : {StereoLayout::top_bottom, StereoLayout::left_right}) {
        Deliverable d;
        d.id = "d", d.shot = shot.id, d.width = 128,
        d.stereo = layout == StereoLayout::top_bottom ? EyeLayout::top_bottom : EyeLayout::left_right,
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

TEST_CASE("half spheres fade at their rim, in both eyes alike, and whole ones do not") {
    const TempFolder folder;
    write_still(of_colour(256, 0.6f, 0.6f), folder / "grey.png", {});
    Project project;
    Shot shot = shot_for_rig(nominal_pair(256, 256, 1, 190), "pair");
    for (auto& c : shot.cameras) c.media = add_media(project, media_ref_for(folder / "grey.png"));
    shot.stereo.border_deg = 20;
    project.shots = {shot};
    Composer composer(std::make_shared<MediaLibrary>());
    View view;
    view.target = half_sphere_target(180);
    const auto alpha = [&](int x, int y) {
        float out[2];
        for (const Eye eye : {Eye::left, Eye::right}) {
            view.eye = eye;
            out[eye == Eye::right] = pixel_at(composer.compose(project, shot, Seconds(0), view), x, y).a;
        }
        CHECK(out[0] == out[1]);
        return out[0];
    };
    CHECK(alpha(90, 90) == 1);
    CHECK(alpha(24, 90) == 1);
    CHECK(alpha(10, 90) == Approx(0.5).margin(0.06)); // half-way
    CHECK(alpha(0, 90) < 0.01f);
    CHECK(alpha(90, 179) < 0.01f);
    // Of a part of it, too.
    view.region = {8, 88, 4, 4};
    view.eye = Eye::left;
    CHECK(pixel_at(composer.compose(project, shot, Seconds(0), view), 2, 2).a == Approx(0.5).margin(0.06));
    view.region = {};
    view.target = equirect_target(180);
    CHECK(pixel_at(composer.compose(project, shot, Seconds(0), view), 47, 45).a > 0.9f);
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

TEST_CASE("eyes apart, as views of one EXR, and colours above distances") {
    const TempFolder folder;
    StillTake take = ring_still(folder, 160);
    Shot& shot = take.project.shots[0];
    shot.seams.agree_distance_m = 4;
    shot.stereo.from = EyesFrom::distances;
    Composer composer(std::make_shared<MediaLibrary>());
    StillRequest still;
    still.width = 128;
    const auto eye_still = [&](Eye eye) {
        still.eye = eye;
        return render_still(composer, take.project, shot, still);
    };
    const Picture left = eye_still(Eye::left), right = eye_still(Eye::right);
    Deliverable d;
    d.id = "d", d.shot = shot.id, d.width = 128, d.sound = false, d.crf = 4;
    const auto made = [&](EyeLayout layout, Container container, const char* name) {
        d.stereo = layout, d.container = container, d.path = folder / name;
        render(composer, take.project, d, nullptr, {});
    };
    const auto first_frame = [&](const char* name) {
        return *MediaLibrary().picture({folder / name, MediaKind::video, FrameRate(30)}, Seconds(0));
    };

    made(EyeLayout::apart, Container::mp4, "m.mp4");
    CHECK_FALSE(std::filesystem::exists(folder / "m.mp4"));
    CHECK(psnr_db(first_frame("m_left.mp4"), left) > 32);
    CHECK(psnr_db(first_frame("m_right.mp4"), right) > 32);
    CHECK(inspect(folder / "m_left.mp4").stereo == "mono"); // each is a sphere of its own
    MediaLibrary library;
    const auto replaced = preflight(take.project, d, library).warnings;
    CHECK(std::any_of(replaced.begin(), replaced.end(), [](const std::string& w) {
        return w.find("m_right.mp4 exists") != std::string::npos;
    }));
    CHECK(eye_path("/a/out.%05d.png", "left") == "/a/out_left.%05d.png");
    CHECK(eye_path("/a/out%05d.png", "left") == "/a/out_left%05d.png");
    CHECK(eye_path("/a/b.c.mov", "right") == "/a/b.c_right.mov");

    for (const bool parts : {false, true}) {
        d.distances = true, d.distances_apart = parts;
        made(EyeLayout::views, Container::exr_sequence, "v.%04d.exr");
        Imf::MultiPartInputFile file((folder / "v.0000.exr").c_str());
        REQUIRE(file.parts() == (parts ? 2 : 1));
        REQUIRE(Imf::hasMultiView(file.header(0)));
        CHECK(Imf::multiView(file.header(0)) == Imf::StringVector{"left", "right"});
        CHECK(file.header(0).channels().findChannel("right.G"));
        CHECK(file.header(parts).channels().findChannel("Z"));
        CHECK(file.header(parts).channels().findChannel("right.Z"));
        if (parts) continue;
        CHECK(psnr_db(read_still(folder / "v.0000.exr"), left) >
              60); // who knows of no views sees the left eye
        std::vector<float> green(128 * 64);
        Imf::InputFile plain((folder / "v.0000.exr").c_str());
        Imf::FrameBuffer buffer;
        buffer.insert("right.G", Imf::Slice(Imf::FLOAT, reinterpret_cast<char*>(green.data()), 4, 4 * 128));
        plain.setFrameBuffer(buffer);
        plain.readPixels(0, 63);
        for (int y = 8; y < 56; y += 8)
            for (int x = 0; x < 128; x += 8)
                CHECK(encoded_from_linear(green[std::size_t(y * 128 + x)]) ==
                      Approx(pixel_at(right, x, y).g).margin(0.01));
    }
    d.distances = false;
    d.stereo = EyeLayout::views, d.container = Container::mp4;
    Project wrong = take.project;
    d.path = folder / "w.mp4";
    wrong.deliverables = {d};
    CHECK_THROWS_AS(validate(wrong), Error); // a movie holds no views

    made(EyeLayout::depth_below, Container::mp4, "z.mp4");
    const Picture both = first_frame("z.mp4"), mono = eye_still(Eye::mono);
    REQUIRE(both.height() == 128);
    CHECK(std::abs(pixel_at(both, 64, 30).g - pixel_at(mono, 64, 30).g) < 0.05f);
    const DepthMap depth =
        depth_map(composer, take.project, shot, Seconds(0), View{equirect_target(128), {}, Eye::mono, {}});
    for (int x = 8; x < 128; x += 24)
        CHECK(pixel_at(both, x, 64 + 50).g ==
              Approx(std::min(1.0f, 0.5f / depth.metres[std::size_t(50 * 128 + x)])).margin(0.06));
    CHECK_FALSE(read_spherical(folder / "z.mp4").v2); // no tag would be true
}
