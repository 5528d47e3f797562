#include "base/error.h"
#include "base/file.h"
#include "master/inspect.h"
#include "master/pipe.h"
#include "master/render.h"
#include "media/sound.h"
#include "media/still.h"
#include "media/video.h"
#include "picture/compare.h"
#include "support/support.h"

#include <csignal>
#include <fcntl.h>
#include <fstream>
#include <sys/resource.h>
#include <sys/wait.h>
#include <thread>
#include <unistd.h>

using namespace porb;
using namespace porb::test;

namespace {

/// Two circles of a counting movie: every frame is a sphere of one grey.
struct Take {
    explicit Take(const TempFolder& folder, CountingMovie m = {.width = 256, .height = 128}) : movie(m) {
        write_counting_movie(folder / "c.mp4", movie);
        Shot shot = shot_for_rig(tiny_rig(movie.height), "t");
        for (auto& c : shot.cameras)
            c.media = shot.timing.sound = add_media(project, media_ref_for(folder / "c.mp4"));
        shot.timing.rate = movie.rate;
        project.shots.push_back(shot);
    }
    Deliverable deliverable(const char* preset, const std::filesystem::path& path) const {
        Deliverable d = find_preset(preset)->deliverable;
        d.id = "d", d.shot = project.shots[0].id, d.width = 256, d.path = path, d.crf = 6;
        return d;
    }
    void render(const Deliverable& d, const Cancel& cancel = {},
                const std::function<void(const RenderProgress&)>& progress = {}) const {
        Composer composer(std::make_shared<MediaLibrary>());
        porb::render(composer, project, d, progress, cancel);
    }
    CountingMovie movie;
    Project project;
};

std::size_t entries(const std::filesystem::path& folder) {
    std::size_t n = 0;
    for ([[maybe_unused]] const auto& e : std::filesystem::directory_iterator(folder)) ++n;
    return n;
}

} // namespace

TEST_CASE("every movie preset renders what it says, frame for frame", "[slow]") {
    const TempFolder folder;
    const Take take(folder);
    const auto* preset = GENERATE("sphere-h264", "sphere-h265", "sphere-stereo-h265", "sphere-prores");
    const bool prores = std::string(preset) == "sphere-prores",
               stereo = std::string(preset).find("stereo") != std::string::npos;
    const auto file = folder / (prores ? "m.mov" : "m.mp4");
    const Deliverable d = take.deliverable(preset, file);
    Project p = take.project;
    if (stereo) p.shots[0].rig.cameras[0].eyes = Eyes::both;
    std::int64_t last = 0;
    take.render(d, {}, [&](const RenderProgress& r) {
        CHECK(r.frames == 30);
        CHECK(r.frames_done == last + 1);
        last = r.frames_done;
        CHECK(r.seconds_left >= 0);
    });
    CHECK(last == 30);
    CHECK(entries(folder.path()) == 2); // the source and the master, nothing else
    const Inspection i = inspect(file);
    CHECK(i.info.width == 256);
    CHECK(i.info.height == (stereo ? 256 : 128));
    CHECK(i.projection == "equirectangular");
    CHECK(i.stereo == (stereo ? "top-bottom" : "mono"));
    CHECK(i.info.frames == 30);
    CHECK(i.info.rate == FrameRate(30));
    CHECK(i.info.sound);
    CHECK(i.v1);
    CHECK(i.v2);
    CHECK(i.problems.empty());
    VideoReader reader(file);
    for (const int n : {0, 1, 15, 29}) {
        const auto f = reader.frame_at(frame_time(n, FrameRate(30)));
        REQUIRE(f);
        CHECK(counted_frame(picture_from_frame(*f->frame, 0, nullptr, nullptr), take.movie) == n);
    }
}

TEST_CASE("the 180 pair goes side by side") {
    const TempFolder folder;
    Take take(folder);
    take.project.shots[0].rig.cameras[0].eyes = Eyes::left;
    take.project.shots[0].rig.cameras[1].eyes = Eyes::right;
    take.project.shots[0].rig.cameras[1].pose.turn = {};
    take.render(take.deliverable("half-stereo-h264", folder / "m.mp4"));
    const Inspection i = inspect(folder / "m.mp4");
    CHECK(i.info.width == 512);
    CHECK(i.info.height == 256);
    CHECK(i.projection == "half-equirectangular");
    CHECK(i.stereo == "left-right");
    CHECK(i.problems.empty());
}

TEST_CASE("in and out, sound and picture stay together") {
    const TempFolder folder;
    Take take(folder);
    take.project.shots[0].timing.in = Rational(10, 30);
    take.project.shots[0].timing.out = Rational(22, 30);
    take.project.shots[0].cameras[0].offset = take.project.shots[0].cameras[1].offset = Rational(2, 30);
    take.render(take.deliverable("sphere-h264", folder / "m.mp4"));
    VideoReader reader(folder / "m.mp4");
    CHECK(reader.info().frames == 12);
    const auto f = reader.frame_at(Rational(0));
    CHECK(counted_frame(picture_from_frame(*f->frame, 0, nullptr, nullptr), take.movie) == 12);
    // The tone's phase at the master's start is that of source time 12/30 s.
    SoundReader sound(folder / "m.mp4", 48000, 1);
    const auto s = sound.read(4800, 4800);
    double re = 0, im = 0;
    for (std::size_t i = 0; i < s.size(); ++i) {
        const double a = 2 * 3.14159265358979 * 1000 * (double(4800 + i) / 48000 + 12.0 / 30);
        re += double(s[i]) * std::sin(a), im += double(s[i]) * std::cos(a);
    }
    CHECK(std::abs(std::atan2(im, re)) < 0.1);
    int status;
    const std::string probe = run("ffprobe -v error -show_entries stream=duration,codec_type -of csv " +
                                      (folder / "m.mp4").string(),
                                  status);
    CHECK(probe.find("video,0.400000") != std::string::npos);
}

TEST_CASE("sequences appear complete, numbered from 0, tagged") {
    const TempFolder folder;
    Take take(folder);
    take.project.shots[0].timing.out = Rational(3, 30);
    std::filesystem::create_directories(folder / "seq");
    take.render(take.deliverable("sphere-exr", folder / "seq/f.%04d.exr"));
    CHECK(entries(folder / "seq") == 3);
    CHECK(exr_facts(folder / "seq/f.0002.exr").latlong);
    CHECK(counted_frame(read_still(folder / "seq/f.0002.exr"), take.movie) == 2);
    take.render(take.deliverable("sphere-png", folder / "seq/p.%d.png"));
    CHECK(counted_frame(read_still(folder / "seq/p.1.png"), take.movie) == 1);
    CHECK(inspect(folder / "seq/p.1.png").problems.empty());
}

TEST_CASE("cancelling leaves nothing, and an older master stays") {
    const TempFolder folder;
    const Take take(folder);
    std::ofstream(folder / "m.mp4") << "an older master";
    const Cancel cancel;
    CHECK_THROWS_AS(take.render(take.deliverable("sphere-h264", folder / "m.mp4"), cancel,
                                [&](const RenderProgress& p) {
                                    if (p.frames_done == 5) cancel.raise();
                                }),
                    Cancelled);
    CHECK(read_text_file(folder / "m.mp4") == "an older master");
    CHECK(entries(folder.path()) == 2);
    std::filesystem::create_directories(folder / "seq");
    const Cancel again;
    CHECK_THROWS_AS(take.render(take.deliverable("sphere-exr", folder / "seq/f.%04d.exr"), again,
                                [&](const RenderProgress&) { again.raise(); }),
                    Cancelled);
    CHECK(entries(folder / "seq") == 0);
}

TEST_CASE("a kill while rendering leaves the name untouched", "[slow]") {
    const TempFolder folder;
    const Take take(folder);
    save_project(take.project, folder / "p.porb");
    std::ofstream(folder / "m.mp4") << "an older master";
    const std::string program = porbit_program();
    const pid_t child = ::fork();
    if (child == 0) {
        const int quiet = ::open("/dev/null", O_WRONLY);
        ::dup2(quiet, STDOUT_FILENO);
        ::dup2(quiet, STDERR_FILENO);
        ::execl(program.c_str(), "porbit", "master", (folder / "p.porb").c_str(), "--preset", "sphere-h265",
                "--width", "4096", "--out", (folder / "m.mp4").c_str(), nullptr);
        ::_exit(127);
    }
    // Killed once it is writing: its part file is there and has grown.
    const auto writing = [&] {
        for (const auto& e : std::filesystem::directory_iterator(folder.path()))
            if (e.path().string().find(".part") != std::string::npos && e.file_size() > 0) return true;
        return false;
    };
    for (int i = 0; i < 600 && !writing(); ++i) ::usleep(20'000);
    CHECK(writing());
    ::kill(child, SIGKILL);
    int status = 0;
    ::waitpid(child, &status, 0);
    CHECK(WIFSIGNALED(status));
    CHECK(read_text_file(folder / "m.mp4") == "an older master");
    CHECK(load_project(folder / "p.porb") == take.project);
}

TEST_CASE("preflight stops what cannot work and warns of what may not") {
    const TempFolder folder;
    Take take(folder);
    MediaLibrary library;
    const auto stops = [&](const Deliverable& d) {
        const auto s = preflight(take.project, d, library).stops;
        return s.empty() ? std::string() : s.front();
    };
    Deliverable d = take.deliverable("sphere-h264", folder / "m.mp4");
    CHECK(stops(d).empty());
    d.path = folder / "none/m.mp4";
    CHECK(stops(d).find("does not exist") != std::string::npos);
    d.path = folder / "c.mp4";
    CHECK(stops(d).find("source") != std::string::npos);
    d.path = "";
    CHECK(stops(d).find("no file name") != std::string::npos);
    d = take.deliverable("sphere-exr", folder / "m.exr");
    CHECK(stops(d).find("number place") != std::string::npos);
    d = take.deliverable("sphere-stereo-h265", folder / "m.mp4");
    CHECK_FALSE(preflight(take.project, d, library).warnings.empty()); // both eyes alike
    take.project.shots[0].rig.cameras[1].eyes = take.project.shots[0].rig.cameras[0].eyes = Eyes::left;
    CHECK(stops(d).find("two eyes") != std::string::npos);
    d = take.deliverable("sphere-h264", folder / "m.mp4");
    d.width = 16384;
    d.bit_rate = std::int64_t(1) << 60;
    CHECK(stops(d).find("disk has") != std::string::npos);
    take.project.shots[0].timing.in = Rational(20);
    d = take.deliverable("sphere-h264", folder / "m.mp4");
    CHECK(stops(d).find("in and out") != std::string::npos);
    take.project.media[0].ref.path = folder / "gone.mp4";
    library.forget(take.project.media[0].ref);
    CHECK(stops(d).find("gone.mp4") != std::string::npos);
    CHECK_THROWS_AS(take.render(d), Error);
}

TEST_CASE("a full disk is an error with a mend, and leaves nothing") {
    const TempFolder folder;
    const Take take(folder);
    struct rlimit before {};
    ::getrlimit(RLIMIT_FSIZE, &before);
    std::signal(SIGXFSZ, SIG_IGN);
    const struct rlimit small { 20000, before.rlim_max };
    ::setrlimit(RLIMIT_FSIZE, &small); // writes past 20 kB fail, as on a full disk
    Deliverable d = take.deliverable("sphere-prores", folder / "m.mov");
    const std::string words = error_of([&] { take.render(d); });
    ::setrlimit(RLIMIT_FSIZE, &before);
    CHECK(words.find(".mov: ") != std::string::npos); // what was being written
    CHECK(words.find("Check the folder") != std::string::npos);
    CHECK_FALSE(std::filesystem::exists(folder / "m.mov"));
    CHECK(entries(folder.path()) == 1);
}

TEST_CASE("inspection tells what a player would make of a file") {
    const TempFolder folder;
    write_counting_movie(folder / "flat.mp4", {});
    Inspection i = inspect(folder / "flat.mp4");
    CHECK(i.projection == "flat");
    REQUIRE(i.problems.size() == 1);
    CHECK(i.verdict.find("flat") != std::string::npos);
    tag_spherical_in_place(folder / "flat.mp4",
                           {SphereMapping::equirect, StereoLayout::left_right}); // 2:1 holding two eyes
    i = inspect(folder / "flat.mp4");
    REQUIRE(i.problems.size() == 1);
    CHECK(i.problems[0].find("stretched") != std::string::npos);
    CHECK(error_of([&] { inspect(folder / "none.mp4"); }).find("none.mp4") != std::string::npos);
    write_still(gradient(64, 32), folder / "plain.jpg");
    CHECK(inspect(folder / "plain.jpg").projection == "flat");
}

TEST_CASE("stills of a shot in both shapes and every eye") {
    const TempFolder folder;
    const Take take(folder);
    Composer composer(std::make_shared<MediaLibrary>());
    StillRequest r;
    r.time = Rational(10, 30);
    r.width = 128;
    const Picture whole = render_still(composer, take.project, take.project.shots[0], r);
    CHECK(whole.height() == 64);
    CHECK(counted_frame(whole, take.movie) == 10);
    r.stereo = StereoLayout::top_bottom;
    CHECK(render_still(composer, take.project, take.project.shots[0], r).height() == 128);
    r.stereo = StereoLayout::mono;
    r.mapping = SphereMapping::half_equirect;
    CHECK(render_still(composer, take.project, take.project.shots[0], r).height() == 128);
}

TEST_CASE("memory does not grow with the shot", "[slow]") {
    const TempFolder folder;
    const auto resident_kb = [] {
        std::ifstream status("/proc/self/statm");
        long size = 0, resident = 0;
        status >> size >> resident;
        return resident * 4;
    };
    const Take take(folder, {.width = 512, .height = 256, .frames = 240});
    Deliverable d = take.deliverable("sphere-h264", folder / "m.mp4");
    d.width = 512;
    long early = 0, late = 0;
    Composer composer(std::make_shared<MediaLibrary>(16u << 20));
    render(composer, take.project, d,
           [&](const RenderProgress& p) {
               if (p.frames_done == 80) early = resident_kb();
               if (p.frames_done == 240) late = resident_kb();
           },
           {});
    CHECK(late < early + 24 * 1024);
}

TEST_CASE("a pipe passes everything in order and lets both sides give up") {
    Pipe<int> pipe(2);
    std::thread maker([&] {
        for (int i = 0; i < 100; ++i) pipe.put(i);
        pipe.close();
    });
    int expected = 0;
    while (const auto i = pipe.take()) CHECK(*i == expected++);
    CHECK(expected == 100);
    maker.join();
    Pipe<int> other(1);
    CHECK(other.wait_for_room());
    other.put(1);
    bool room = true; // checks are the main thread's alone
    std::thread waiting([&] { room = other.wait_for_room(); });
    bool went = true;
    std::thread blocked([&] { went = other.put(2); });
    other.abandon();
    blocked.join();
    waiting.join();
    CHECK_FALSE(room);
    CHECK_FALSE(went);
    CHECK_FALSE(other.take());
}
