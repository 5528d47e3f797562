#include "base/error.h"
#include "base/file.h"
#include "media/still.h"
#include "project/autosave.h"
#include "project/history.h"
#include "support/support.h"

#include <csignal>
#include <fstream>
#include <sys/wait.h>
#include <unistd.h>

using namespace porb;
using namespace porb::test;

namespace {
Project full_project(const std::filesystem::path& folder) {
    Project p;
    p.name = "a take";
    Shot shot = shot_for_rig(tiny_rig(), "first");
    shot.timing.rate = FrameRate(30000, 1001);
    shot.timing.in = Rational(1, 3);
    shot.timing.out = Rational(1001, 300);
    shot.levelling.orientation = {12, -3, 0.5};
    shot.seams.agree_distance_m = 2.25;
    shot.cameras[0].media = shot.cameras[1].media = shot.timing.sound =
        add_media(p, {folder / "media/a.mp4", MediaKind::video, FrameRate(30)});
    add_media(p, {folder / "s.%04d.exr", MediaKind::sequence, FrameRate(24000, 1001)});
    shot.cameras[1].offset = Rational(-7, 11);
    shot.cameras[1].reach_deg = 93.5;
    shot.cameras[1].feather_deg = 1.25;
    shot.cameras[0].used = false;
    p.shots.push_back(shot);
    Deliverable d;
    d.id = "d1", d.name = "master", d.shot = shot.id, d.path = folder / "out/m.mp4";
    d.codec = VideoCodec::h265, d.depth = 10, d.stereo = EyeLayout::top_bottom, d.bit_rate = 50'000'000;
    p.deliverables.push_back(d);
    return p;
}
} // namespace

TEST_CASE("a project survives its file exactly") {
    const TempFolder folder;
    const Project p = full_project(folder.path());
    save_project(p, folder / "p.porb");
    CHECK(load_project(folder / "p.porb") == p);
}

TEST_CASE("paths are relative to the project and move with it") {
    const TempFolder folder;
    std::filesystem::create_directories(folder / "one");
    save_project(full_project(folder / "one"), folder / "one/p.porb");
    CHECK(read_text_file(folder / "one/p.porb").find("\"media/a.mp4\"") != std::string::npos);
    std::filesystem::rename(folder / "one", folder / "two");
    CHECK(load_project(folder / "two/p.porb").media[0].ref.path == folder / "two/media/a.mp4");
}

TEST_CASE("unknown members of every level survive a round trip") {
    const TempFolder folder;
    std::string text = project_to_text(full_project(folder.path()), folder / "p.porb");
    for (const char* key : {"\"camera\": \"A\"", "\"container\": \"mp4\"", "\"in_s\"", "\"kind\": \"video\"",
                            "\"deliverables\""}) {
        const auto at = text.find(key);
        REQUIRE(at != std::string::npos);
        text.insert(at, "\"from_the_future\": {\"x\": 1}, ");
    }
    const std::string again = project_to_text(parse_project(text, folder / "p.porb"), folder / "p.porb");
    std::size_t count = 0;
    for (auto at = again.find("from_the_future"); at != again.npos;
         at = again.find("from_the_future", at + 1))
        ++count;
    CHECK(count == 5);
}

TEST_CASE("damaged projects are refused with the place") {
    const TempFolder folder;
    const std::string good = project_to_text(full_project(folder.path()), folder / "p.porb");
    const auto refused = [&](const std::string& from, const std::string& to) {
        std::string bad = good;
        const auto at = bad.find(from);
        REQUIRE(at != std::string::npos);
        bad.replace(at, from.size(), to);
        return error_of([&] { parse_project(bad, "p.porb"); });
    };
    CHECK(refused("pale-orbit/project", "pale-orbit/rig").find("/format") != std::string::npos);
    CHECK(refused("\"version\": 1\n}", "\"version\": 9\n}").find("update") != std::string::npos);
    CHECK(refused("\"camera\": \"B\"", "\"camera\": \"Z\"").find("/shots/0/cameras/1/camera") !=
          std::string::npos);
    CHECK(refused("\"reach_deg\": 93.5", "\"reach_deg\": 930").find("/shots/0/cameras/1/reach_deg") !=
          std::string::npos);
    CHECK(refused("\"out_s\": \"1001/300\"", "\"out_s\": 0.1").find("/shots/0/out_s") != std::string::npos);
    CHECK(refused("\"media\": \"a\"", "\"media\": \"zz\"").find("'zz'") != std::string::npos);
    CHECK(refused("\"shot\": \"shot-1\"", "\"shot\": \"shot-7\"").find("/deliverables/0/shot") !=
          std::string::npos);
    CHECK(refused("\"width\": 3840", "\"width\": 3841").find("multiple of 4") != std::string::npos);
    CHECK(refused("s.%04d.exr", "s.%n.exr").find("/media/1/path") != std::string::npos);
    CHECK(refused("\"rate\": \"30000/1001\"", "\"rate\": 0").find("/shots/0/rate") != std::string::npos);
}

TEST_CASE("missing media survive and are relinked, neighbours with them") {
    const TempFolder folder;
    Project p = full_project(folder / "gone");
    p.media[1].ref = {folder / "gone/b.png", MediaKind::still, FrameRate(30)};
    CHECK(missing_media(p).size() == 2);
    std::filesystem::create_directories(folder / "new");
    for (const char* name : {"new/a.mp4", "new/b.png"}) std::ofstream(folder / name) << "x";
    const Project q = relinked(p, p.media[0].id, folder / "new/a.mp4");
    CHECK(q.media[0].ref.path == folder / "new/a.mp4");
    CHECK(q.media[1].ref.path == folder / "new/b.png"); // found beside it
    CHECK(missing_media(q).empty());
}

TEST_CASE("cameras follow their rig, keeping what is known") {
    Shot shot = shot_for_rig(tiny_rig(), "x");
    shot.cameras[1].reach_deg = 91;
    Rig three = tiny_rig();
    three.cameras.push_back(three.cameras[0]);
    three.cameras[2].id = "C";
    std::swap(three.cameras[0], three.cameras[1]);
    shot.rig = three;
    match_cameras_to_rig(shot);
    REQUIRE(shot.cameras.size() == 3);
    CHECK(shot.cameras[0].camera == "B");
    CHECK(shot.cameras[0].reach_deg == 91);
    CHECK(shot.cameras[2].reach_deg == default_reach_deg(three.cameras[2].lens));
}

TEST_CASE("undo gives back the value itself, drags merge, redo ends at an edit") {
    History h(Project{});
    const auto first = h.now();
    const auto named = [&](const char* name) {
        Project p = *h.now();
        p.name = name;
        return p;
    };
    h.apply(named("a"), "A");
    h.apply(named("b1"), "drag", "k");
    h.apply(named("b2"), "drag", "k");
    h.apply(named("b3"), "drag", "k");
    h.end_merge();
    h.apply(named("c"), "drag", "k"); // a new drag
    CHECK(h.now()->name == "c");
    h.undo();
    CHECK(h.now()->name == "b3");
    h.undo();
    CHECK(h.now()->name == "a");
    CHECK(h.redo_label() == "drag");
    h.redo();
    CHECK(h.now()->name == "b3");
    h.undo();
    h.apply(named("d"), "D");
    CHECK_FALSE(h.can_redo());
    h.undo();
    h.undo();
    CHECK(h.now() == first);
    CHECK_FALSE(h.can_undo());
    h.apply(*h.now(), "nothing changed");
    CHECK_FALSE(h.can_undo());
}

TEST_CASE("autosaves of dead processes are found, of living ones left alone") {
    const TempFolder folder;
    const Project p = full_project(folder.path());
    const pid_t child = ::fork();
    if (child == 0) {
        AutosaveSlot(folder / "auto").write(folder / "p.porb", 7, p);
        ::_exit(0); // as a crash: nothing is cleared away
    }
    ::waitpid(child, nullptr, 0);
    const AutosaveSlot mine(folder / "auto"); // of this process, which lives
    mine.write(folder / "mine.porb", 0, p);
    std::ofstream(folder / "auto/1-2.porb-autosave") << "{ damaged";
    const PartFile writing(folder / "auto/3-4.porb-autosave"); // another window's, at this moment
    std::vector<std::filesystem::path> unreadable;
    const auto found = find_autosaves(folder / "auto", &unreadable);
    CHECK(unreadable.size() == 1);
    REQUIRE(found.size() == 1);
    CHECK(found[0].project_file == folder / "p.porb");
    CHECK(found[0].project == p);
    CHECK(found[0].opened == 7);
    // Whoever takes it up goes on in the same file; nobody else may meanwhile.
    const auto adopted = AutosaveSlot::adopt(found[0]);
    REQUIRE(adopted);
    CHECK_FALSE(AutosaveSlot::adopt(found[0]));
    CHECK(find_autosaves(folder / "auto").empty());
    CHECK(std::filesystem::exists(found[0].file));
}

TEST_CASE("a kill at any moment of saving leaves the old project or the new one") {
    const TempFolder folder;
    Project p = full_project(folder.path());
    for (int i = 0; i < 300; ++i)
        p.shots[0].extra_json =
            "{\"note\": \"" + std::string(20000, 'x') + "\"}"; // a save that takes a while
    const auto file = folder / "p.porb";
    save_project(p, file);
    for (int round = 0; round < 20; ++round) {
        const pid_t child = ::fork();
        if (child == 0) {
            for (int i = 0;; ++i) {
                p.name = "take " + std::to_string(i);
                save_project(p, file);
            }
        }
        ::usleep(useconds_t(3000 + round * 1700));
        ::kill(child, SIGKILL);
        ::waitpid(child, nullptr, 0);
        const Project back = load_project(file);
        CHECK(back.media.size() == 2);
    }
}
