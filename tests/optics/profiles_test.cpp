#include "base/angle.h"
#include "base/error.h"
#include "base/file.h"
#include "optics/profiles.h"
#include "support/support.h"

#include <cstdlib>

using namespace porb;
using namespace porb::test;

TEST_CASE("every built-in profile is a rig that can be used, and its file reads back") {
    const auto all = built_in_profiles();
    CHECK(all.size() >= 40);
    for (const auto& p : all) {
        INFO(p.name());
        for (const auto& c : p.rig.cameras) {
            CHECK(!fault_in(c.lens));
            // Pupils stand ahead of the middle, on the side they look to, or beside each other as eyes.
            if (c.eyes == Eyes::both && c.pose.position_m.norm() > 0)
                CHECK((rotation_of(c.pose.turn) * Vec3(0, 0, 1)).dot(c.pose.position_m.normalized()) ==
                      Approx(1));
        }
        CHECK(parse_rig(rig_to_text(p.rig), "p") == p.rig);
    }
}

TEST_CASE("full-sphere profiles leave no direction unseen, and those for 180 degrees see all ahead") {
    for (const auto& p : built_in_profiles()) {
        if (shape_of(p).height != 960) continue;
        const bool half = p.name().find("180") != std::string::npos;
        const bool dome = p.name().find("dome") != std::string::npos; // it stands on what is under it
        INFO(p.name());
        int unseen = 0;
        for (int i = 0; i < 2000; ++i) {
            const double y = 1 - 2 * (i + 0.5) / 2000, a = i * 2.399963;
            const Vec3 d(std::sqrt(1 - y * y) * std::cos(a), y, std::sqrt(1 - y * y) * std::sin(a));
            if ((half && d.z() < 0.02) || (dome && d.y() > 0.9)) continue;
            bool seen = false;
            for (const auto& c : p.rig.cameras)
                seen = seen || LensMap(c.lens).project(rotation_of(c.pose.turn).transpose() * d).has_value();
            unseen += !seen;
        }
        CHECK(unseen == 0);
    }
}

TEST_CASE("profiles match by cameras, circles and shape, near sizes first, and scale") {
    const auto all = built_in_profiles();
    const auto dual = matching(all, {2, 3840, 1920, 2});
    REQUIRE(dual.size() >= 2);
    CHECK(dual[0].rig.cameras[0].lens.width == 3840);
    for (const auto& p : dual) CHECK(p.circles_per_picture == 2);
    const auto ring = matching(all, {6, 1200, 1200, 1});
    REQUIRE(!ring.empty());
    CHECK(ring[0].name().starts_with("ring of six"));
    const Rig fitted = scaled(ring[0].rig, 1200, 1200);
    for (const auto& c : fitted.cameras) {
        CHECK(c.lens.width == 1200);
        CHECK(!fault_in(c.lens));
        CHECK(field_of_view_deg(c.lens) ==
              Approx(field_of_view_deg(ring[0].rig.cameras[0].lens)).epsilon(1e-9));
    }
    CHECK(matching(all, {6, 1920, 1080, 1}).empty()); // another shape of picture
    CHECK(matching(all, {7, 960, 960, 1}).empty());
}

TEST_CASE("words find profiles by arrangement and size") {
    const auto all = built_in_profiles();
    CHECK(search(all, "").size() == all.size());
    for (const auto& p : search(all, "Ring six")) CHECK(p.name().find("six") != std::string::npos);
    CHECK(search(all, "ball 2880").size() == 1);
    CHECK(search(all, "stereo 3840x3840").size() == 1);
    CHECK(search(all, "stereo").size() == 10);
    CHECK(search(all, "teapot").empty());
}

TEST_CASE("saved profiles live in the XDG folders, come first, and a damaged one hides no other") {
    const TempFolder folder;
    ::setenv("XDG_DATA_HOME", folder.path().c_str(), 1);
    ::setenv("XDG_DATA_DIRS", (folder / "machine").c_str(), 1);
    const auto folders = profile_folders();
    REQUIRE(folders.size() == 2);
    CHECK(folders[0] == folder / "pale-orbit/profiles");
    Rig rig = tiny_rig(960);
    rig.cameras[1].lens.focal_px *= 1.01;
    const Profile saved = save_profile(rig, "gallery stand, autumn", folders[0]);
    CHECK(std::filesystem::exists(saved.file));
    save_profile(rig, "gallery stand, autumn",
                 folders[1]); // the machine's of that name is hidden by the user's
    write_file_atomically(folders[0] / "broken.rig.json", "{ \"format\": ");
    std::vector<std::string> remarks;
    const auto found = saved_profiles(folders, &remarks);
    REQUIRE(found.size() == 1);
    CHECK(found[0].circles_per_picture == 2);
    CHECK(found[0].file.parent_path() == folders[0]);
    REQUIRE(remarks.size() == 1);
    CHECK(remarks[0].find("broken.rig.json") != std::string::npos);
    const auto best = matching(all_profiles(), {2, 1920, 960, 2});
    REQUIRE(!best.empty());
    CHECK(best[0].name() == "gallery stand, autumn");
    CHECK(best[0].rig.cameras[1].lens == rig.cameras[1].lens);
    CHECK(error_of([&] { save_profile(rig, " / ", folders[0]); }).find("needs a name") != std::string::npos);
    ::unsetenv("XDG_DATA_HOME");
    ::unsetenv("XDG_DATA_DIRS");
}

TEST_CASE("fields of view and millimetres are views of one focal length") {
    Lens lens = fisheye(1920, 190);
    lens.pixel_pitch_um = 2.5;
    CHECK(sensor_width_mm(lens) == Approx(4.8));
    CHECK(focal_mm(lens) == Approx(lens.focal_px * 0.0025));
    lens.circle.radius_px = 1100; // wider than the picture
    const double across = picture_field_of_view_deg(lens);
    CHECK(across == Approx(2 * degrees(960 / lens.focal_px)));
    CHECK(focal_for_picture_field_of_view(lens, across) == Approx(lens.focal_px).epsilon(1e-9));
    Lens other = lens;
    other.focal_px = focal_for_picture_field_of_view(lens, 120);
    CHECK(picture_field_of_view_deg(other) == Approx(120));
    Lens flat = fisheye(1000, 80, Projection::rectilinear);
    CHECK(picture_field_of_view_deg(flat) == Approx(2 * degrees(std::atan(500 / flat.focal_px))));
    // A model that ends before the picture does has no such field of view, and keeps its focal length.
    Lens ends = fisheye(1000, 180, Projection::orthographic);
    ends.focal_px = 300, ends.circle.radius_px = 290;
    CHECK(picture_field_of_view_deg(ends) == 0);
    CHECK(focal_for_picture_field_of_view(ends, 300) == 300);
}
