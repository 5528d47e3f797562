#include "base/cache.h"
#include "base/error.h"
#include "project/origins.h"
#include "project/takes.h"
#include "support/support.h"

#include <fstream>

using namespace porb;
using namespace porb::test;

namespace {
FoundFile file(const std::string& path, std::int64_t created_s = 0, double seconds = 20, int width = 1920,
               int height = 1920) {
    FoundFile f;
    f.info.ref = {path, MediaKind::video, FrameRate(30)};
    f.info.width = width, f.info.height = height;
    f.info.duration = Rational::from_double(seconds);
    if (created_s) f.info.created_s = created_s;
    f.info.sound = SoundInfo{"aac", 48000, 2};
    f.circles = width > height ? 2 : 1;
    return f;
}
const Take& take_with(const std::vector<Take>& takes, std::size_t f) {
    for (const auto& t : takes)
        if (std::find(t.files.begin(), t.files.end(), f) != t.files.end()) return t;
    FAIL("no take holds the file");
    return takes.front();
}
bool says(const Take& t, const std::string& words) {
    return std::any_of(t.remarks.begin(), t.remarks.end(),
                       [&](const TakeRemark& r) { return r.text.find(words) != std::string::npos; });
}
bool reasons(const Take& t, const std::string& words) {
    return std::any_of(t.reasons.begin(), t.reasons.end(),
                       [&](const std::string& r) { return r.find(words) != std::string::npos; });
}
} // namespace

TEST_CASE("two takes of a ring and a two-circle file are told apart") {
    std::vector<FoundFile> files;
    for (const int take : {1, 2})
        for (const char* cam : {"A", "B", "C", "D", "E", "F"})
            files.push_back(file("/in/orrery_take0" + std::to_string(take) + "_" + cam + ".mp4",
                                 1000 * take + cam[0] % 3, 20.0 + take));
    files.push_back(file("/in/floor.mp4", 5000, 12, 3840, 1920));
    const auto takes = propose_takes(files);
    REQUIRE(takes.size() == 3);
    const Take& first = take_with(takes, 0);
    CHECK(first.files == std::vector<std::size_t>{0, 1, 2, 3, 4, 5});
    CHECK(first.name == "orrery take 01");
    CHECK(first.remarks.empty());
    CHECK(reasons(first, "names differ only in A, B, C, D, E, F"));
    CHECK(reasons(first, "recording began within"));
    CHECK(reasons(first, "all last 21.0 s"));
    CHECK(take_with(takes, 6).files.size() == 6);
    CHECK(take_with(takes, 12).circles_per_picture == 2);
    CHECK(takes[0].files[0] == 0); // in order of recording
}

TEST_CASE("cameras in folders of their own, and names that count takes") {
    std::vector<FoundFile> files;
    for (const int cam : {1, 2, 3, 4})
        for (const int clip : {17, 18})
            files.push_back(file("/card/cam" + std::to_string(cam) + "/clip_" + std::to_string(clip) + ".mov",
                                 100000 + 600 * clip, clip == 17 ? 30 : 44));
    const auto takes = propose_takes(files);
    REQUIRE(takes.size() == 2);
    CHECK(takes[0].files == std::vector<std::size_t>{0, 2, 4, 6});
    CHECK(takes[0].marks == std::vector<std::string>{"1", "2", "3", "4"});
    CHECK(takes[0].name == "clip 17");
    // Without times and with like lengths the words alone must do.
    std::vector<FoundFile> bare;
    for (const char* t : {"take1", "take2"})
        for (const char* side : {"left", "right"})
            bare.push_back(file(std::string("/x/") + t + "_" + side + ".mp4"));
    const auto pairs = propose_takes(bare);
    REQUIRE(pairs.size() == 2);
    CHECK(take_with(pairs, 0).files == std::vector<std::size_t>{0, 1});
}

TEST_CASE("what is missing or odd about a take is said") {
    std::vector<FoundFile> files;
    for (const char* cam : {"A", "B", "D", "E"})
        files.push_back(file(std::string("/in/hall_") + cam + ".mp4", 1000));
    files[1].info.duration = Seconds(18);
    files[2].info.rate = FrameRate(25);
    files[3].info.width = files[3].info.height = 1440;
    files[0].info.sound.reset();
    const auto takes = propose_takes(files);
    REQUIRE(takes.size() == 1);
    const Take& t = takes[0];
    CHECK(says(t, "camera C is absent"));
    CHECK(says(t, "hall_B.mp4 is 2.0 s shorter"));
    CHECK(says(t, "hall_D.mp4 runs at 25 frames"));
    CHECK(says(t, "hall_E.mp4 is 1440 x 1440"));
    CHECK(says(t, "hall_A.mp4 has no sound"));
    // A copy is left out, and named.
    std::vector<FoundFile> twice{file("/other/a copy.mp4"), file("/in/a.mp4")};
    for (auto& f : twice) f.bytes = 500, f.fingerprint = 77;
    const auto one = propose_takes(twice);
    REQUIRE(one.size() == 1);
    CHECK(one[0].files.size() == 1);
    CHECK(says(one[0], "a copy.mp4 is a copy of a.mp4"));
    // The last camera of one take is known to be absent by the other take.
    std::vector<FoundFile> non_radial;
    for (const char* name : {"t1_A", "t1_B", "t1_C", "t2_A", "t2_B"})
        non_radial.push_back(file(std::string("/in/") + name + ".mp4", name[1] == '1' ? 1000 : 9000));
    CHECK(says(take_with(propose_takes(non_radial), 3), "camera C is absent"));
    // Files that merely lie together make no take.
    CHECK(propose_takes({file("/in/keeper.mp4", 1000, 5), file("/in/window.mp4", 90000, 300, 1280, 720)})
              .size() == 2);
    CHECK(propose_takes({}).empty());
}

TEST_CASE("a take becomes a shot with the best profile, scaled, and says where its values are from") {
    std::vector<FoundFile> files;
    for (const char* cam : {"A", "B", "C", "D", "E", "F"})
        files.push_back(file(std::string("/in/hall_") + cam + ".mp4", 1000, 20, 1200, 1200));
    files.push_back(file("/in/dual.mp4", 9000, 9, 2400, 1200));
    Project project;
    for (const auto& t : propose_takes(files)) add_take(project, t, files, built_in_profiles());
    REQUIRE(project.shots.size() == 2);
    const Shot& ring = project.shots[0];
    CHECK(ring.rig.cameras.size() == 6);
    CHECK(ring.rig.name.find("ring of six") != std::string::npos);
    CHECK(ring.rig.cameras[0].lens.width == 1200);
    CHECK(ring.cameras[5].media == "hall_F");
    CHECK(ring.timing.sound == "hall_A");
    CHECK(origin_of(ring.cameras[3], CameraValue::focal).kind == OriginKind::profile);
    REQUIRE(ring.calibration.profile);
    const Shot& dual = project.shots[1];
    CHECK(dual.id != ring.id);
    CHECK(dual.cameras[0].media == dual.cameras[1].media);
    CHECK(project.media.size() == 7);
    // Seven cameras fit no profile: fisheyes, and it says that this was assumed.
    std::vector<FoundFile> seven;
    for (char c = 'A'; c <= 'G'; ++c) seven.push_back(file(std::string("/s/x_") + c + ".mp4", 1));
    Project other;
    add_take(other, propose_takes(seven)[0], seven, built_in_profiles());
    CHECK(origin_of(other.shots[0].cameras[0], CameraValue::turn).kind == OriginKind::assumed);
    // An absent camera has its place in the ring, without a source; the others keep theirs.
    std::vector<FoundFile> five;
    for (const char* cam : {"A", "B", "C", "E", "F"})
        five.push_back(file(std::string("/f/t_") + cam + ".mp4", 1));
    Project gap;
    add_take(gap, propose_takes(five)[0], five, built_in_profiles());
    REQUIRE(gap.shots[0].rig.cameras.size() == 6);
    CHECK(gap.shots[0].cameras[3].media.empty());
    CHECK(gap.shots[0].cameras[4].media == "t_E");
    // The whole survives its file.
    const TempFolder folder;
    project.shots[0].timing.markers = {{Rational(1, 3), "door", "keeper comes in"}, {Seconds(2), "", ""}};
    project.shots[0].calibration.motion = MotionSource{folder / "motion.csv", Rational(-1, 7), "B"};
    project.shots[0].cameras[1].lens_locked = true, project.shots[0].cameras[2].drift_ppm = -12.5;
    save_project(project, folder / "p.porb");
    CHECK(load_project(folder / "p.porb") == project);
}

TEST_CASE("locks hold, origins follow the edits, and a locked lens survives another profile") {
    Project project;
    Shot shot = shot_for_rig(tiny_rig(), "s");
    Shot next = shot;
    next.rig.cameras[1].lens.focal_px *= 1.01;
    next.rig.cameras[1].pose.turn.yaw_deg += 1;
    note_origins(shot, next, {OriginKind::hand, ""});
    CHECK(origin_of(next.cameras[1], CameraValue::focal).kind == OriginKind::hand);
    CHECK(origin_of(next.cameras[1], CameraValue::turn).kind == OriginKind::hand);
    CHECK(origin_of(next.cameras[1], CameraValue::centre).kind == OriginKind::assumed);
    CHECK(origin_of(next.cameras[0], CameraValue::focal).kind == OriginKind::assumed);
    shot.cameras[1].lens_locked = true;
    next.cameras[1].lens_locked = true;
    CHECK(broken_lock(shot, next) == "the lens of camera B");
    next.rig.cameras[1].lens = shot.rig.cameras[1].lens;
    CHECK(!broken_lock(shot, next));
    next.cameras[0].pose_locked = shot.cameras[0].pose_locked = true;
    next.rig.cameras[0].pose.position_m.x() = 1;
    CHECK(broken_lock(shot, next) == "the pose of camera A");
    Shot started = shot;
    start_from(started, matching(built_in_profiles(), {2, 512, 256, 2})[0].rig, {OriginKind::profile, "p"});
    CHECK(started.rig.cameras[1].lens == shot.rig.cameras[1].lens);
    CHECK(!(started.rig.cameras[0].lens == shot.rig.cameras[0].lens));
}

TEST_CASE("a folder is read with its folders below, sequences folded, hidden and other files passed over") {
    const TempFolder folder;
    std::filesystem::create_directories(folder / "cam1");
    for (const char* name :
         {"cam1/a.mp4", "b.MOV", "notes.txt", ".hidden.mp4", "s.0001.png", "s.0002.png", "one.png"})
        std::ofstream(folder / name) << "x";
    const auto files = media_files_in(folder.path());
    CHECK(files.size() == 4);
    CHECK(std::find(files.begin(), files.end(), folder / "s.%04d.png") != files.end());
    CHECK(error_of([&] { media_files_in(folder / "nowhere"); }).find("not a folder") != std::string::npos);
}

TEST_CASE("numbered files fold into their sequence, others stay") {
    const auto folded = folded_sequences({"/a/s.0001.exr", "/a/s.0002.exr", "/a/s.0003.exr", "/a/clip01.mp4",
                                          "/a/clip02.mp4", "/a/one.0007.png"});
    REQUIRE(folded.size() == 4);
    CHECK(folded[0] == "/a/s.%04d.exr");
    CHECK(folded[1] == "/a/clip01.mp4");   // movies are never a sequence
    CHECK(folded[3] == "/a/one.0007.png"); // one picture alone is a still
}

TEST_CASE("a shot made of dropped files is the one that a rig and its sources make, member by member") {
    const std::vector<FoundFile> files = [] {
        std::vector<FoundFile> out;
        for (const char* cam : {"A", "B", "C", "D"})
            out.push_back(file(std::string("/in/h_") + cam + ".mp4", 1000));
        out[1].info.has_motion = true;
        out[0].info.rate = FrameRate(30000, 1001);
        return out;
    }();
    Project dropped, typed;
    const auto takes = propose_takes(files);
    REQUIRE(takes.size() == 1);
    add_take(dropped, takes[0], files, built_in_profiles());
    const Shot& a = dropped.shots[0];
    Shot b = new_shot(*a.calibration.profile, a.name, {OriginKind::profile, a.calibration.profile->name});
    for (std::size_t i = 0; i < files.size(); ++i) give_source(typed, b, i, files[i].info);
    b.id = a.id;
    typed.shots = {b};
    CHECK(a.seams.flow.on);
    CHECK(a.seams.flow.everywhere);
    CHECK(a.seams.flow.fine_edges == affords_fine_edges(this_machine()));
    CHECK(a.timing.rate == FrameRate(30000, 1001));
    CHECK(a.calibration.motion->camera == "B");
    CHECK(a == b);
    CHECK(dropped.media == typed.media);
}

TEST_CASE("new shots have fine edges on machines that afford them") {
    const auto begins = [](unsigned processors, double memory_gb) {
        const Machine machine{processors, std::size_t(memory_gb * 1e9)};
        const Shot shot = new_shot(built_in_profiles().at(0).rig, "t", {}, machine);
        CHECK(shot.seams.flow.on);
        CHECK(shot.seams.flow.everywhere);
        return shot.seams.flow.fine_edges;
    };
    CHECK(begins(4, 8));
    CHECK(begins(32, 128));
    CHECK_FALSE(begins(2, 64));
    CHECK_FALSE(begins(16, 4));
    CHECK(this_machine().processors >= 1);
    CHECK(this_machine().memory_bytes / 3 == CacheBound::default_bytes());
}

TEST_CASE("words in names say where cameras look, and what is a pair") {
    const auto order = [](const std::vector<std::string>& words) {
        std::vector<FoundFile> files;
        for (const auto& w : words) files.push_back(file("/in/hall_" + w + ".mp4", 1000));
        const auto takes = propose_takes(files);
        REQUIRE(takes.size() == 1);
        return takes[0];
    };
    CHECK(order({"back", "front"}).marks == std::vector<std::string>{"front", "back"});
    CHECK_FALSE(order({"back", "front"}).pair);
    CHECK(order({"left", "back", "front", "right"}).marks ==
          std::vector<std::string>{"front", "right", "back", "left"});
    CHECK(order({"down", "up"}).marks == std::vector<std::string>{"up", "down"});
    const Take pair = order({"right", "left"});
    CHECK(pair.marks == std::vector<std::string>{"left", "right"});
    CHECK(pair.pair);
    std::vector<FoundFile> files = {file("/in/hall_left.mp4", 1000), file("/in/hall_right.mp4", 1000)};
    Project project;
    add_take(project, propose_takes(files)[0], files, built_in_profiles());
    const Rig& rig = project.shots[0].rig;
    CHECK(rig.cameras[0].eyes == Eyes::left);
    CHECK(rig.cameras[0].pose.position_m.x() < rig.cameras[1].pose.position_m.x());
    CHECK(project.shots[0].cameras[0].media == "hall_left");

    // Where names say nothing, what is seen does.
    std::vector<float> view(24 * 24);
    for (std::size_t i = 0; i < view.size(); ++i) view[i] = (i * i * 2654435761u >> 7) % 2 ? 1.f : -1.f;
    auto other = view;
    std::reverse(other.begin(), other.end());
    files = {file("/in/hall_A.mp4", 1000), file("/in/hall_B.mp4", 1000)};
    files[0].views = {view}, files[1].views = {view};
    CHECK(propose_takes(files)[0].pair);
    files[1].views = {other};
    CHECK_FALSE(propose_takes(files)[0].pair);
}
