#include "base/error.h"
#include "media/sequence.h"
#include "project/outputs.h"
#include "support/support.h"

#include <fstream>

using namespace porb;
using namespace porb::test;

TEST_CASE("nothing that a project uses is written over, however its name is spelt") {
    const TempFolder folder;
    namespace fs = std::filesystem;
    fs::create_directories(folder / "footage/day");
    for (const char* name : {"footage/a.mp4", "footage/sound.wav", "footage/look.cube", "footage/move.csv",
                             "footage/log.clf", "take.porb", "footage/s.0003.exr", "footage/s.0004.exr"})
        std::ofstream(folder / name) << "x";
    Project p;
    Shot s = shot_for_rig(tiny_rig(), "a"), other = s;
    s.id = "one", other.id = "two";
    MediaRef ref{folder / "footage/a.mp4", MediaKind::video, FrameRate(30)};
    ref.curve = kCurveFile + (folder / "footage/log.clf").string();
    other.cameras[1].media = add_media(p, ref);
    other.cameras[1].used = false; // a camera that is not in use, of another shot
    s.timing.sound = add_media(p, {folder / "footage/sound.wav", MediaKind::video, FrameRate(30)});
    add_media(p, {folder / "footage/s.%04d.exr", MediaKind::sequence, FrameRate(30)});
    s.look.grade.lut = folder / "footage/look.cube";
    s.calibration.motion.emplace().path = folder / "footage/move.csv";
    p.shots = {s, other};
    fs::create_directory_symlink(folder / "footage", folder / "linked");
    fs::create_hard_link(folder / "footage/a.mp4", folder / "hard.mp4");
    fs::create_symlink("footage/a.mp4", folder / "soft.mp4");
    const auto refused = [&](const std::string& name) {
        try {
            must_not_replace(folder / name, p, folder / "take.porb");
        } catch (const Error& e) {
            return e.message();
        }
        return std::string();
    };
    for (const char* name : {"footage/a.mp4", "linked/a.mp4", "footage/day/../a.mp4", "./footage//a.mp4",
                             "hard.mp4", "soft.mp4"})
        CHECK(refused(name).find("is source 'a' of the project, which would be lost") != std::string::npos);
    CHECK(refused("linked/sound.wav").find("'sound'") != std::string::npos);
    CHECK(refused("linked/look.cube").find("the LUT of shot 'a'") != std::string::npos);
    CHECK(refused("linked/log.clf").find("the curve of source") != std::string::npos);
    CHECK(refused("footage/move.csv").find("the motion record") != std::string::npos);
    CHECK(refused("take.porb").find("is the project") != std::string::npos);
    // A member of a sequence, one that would join it, and patterns that number the same files.
    for (const char* name :
         {"footage/s.0003.exr", "footage/s.0050.exr", "linked/s.%04d.exr", "footage/s.%004d.exr"})
        CHECK(refused(name).find("'s.%04d'") != std::string::npos);
    for (const char* name :
         {"new.mp4", "footage/b.mp4", "footage/s.%05d.exr", "footage/t.%04d.exr", "s.0003.exr"})
        CHECK(refused(name).empty());
    // Sources that are not there just now are not taken for free names either.
    fs::remove(folder / "footage/sound.wav");
    CHECK_FALSE(refused("linked/sound.wav").empty());
}

TEST_CASE("a sequence over another says what is replaced and what is left of it") {
    const TempFolder folder;
    for (int i = 2; i < 9; ++i) std::ofstream(numbered_file(folder / "o.%03d.png", i)) << "x";
    const auto there = overlap_of(folder / "o.%03d.png", 5);
    CHECK(there.replaced == 3);
    CHECK(there.stale == 4);
    CHECK(overlap_of(folder / "o.%04d.png", 5).replaced == 0);
}

TEST_CASE("a project has one lock, whatever name it is opened by") {
    const TempFolder folder;
    std::ofstream(folder / "a.porb") << "x";
    std::filesystem::create_symlink("a.porb", folder / "b.porb");
    CHECK(lock_of_project(folder / "a.porb") == lock_of_project(folder / "b.porb"));
    CHECK(lock_of_project(folder / "a.porb") != lock_of_project(folder / "c.porb"));
}
