// What an artist waits for, measured in the real window of 1280 x 800 (a monitor, a virtual one, or none:
// QT_QPA_PLATFORM=offscreen): pictures that really change a second while a take plays, the first picture of a
// large project, an undo, a drag. Takes are made from the demo's with FFmpeg, in a folder that goes with the
// run.
//   window_bench [play|wait] [--seconds S] [--only WORD]
#include "app/picture/picture_area.h"
#include "app/shell/main_window.h"
#include "base/angle.h"
#include "media/library.h"
#include "project/project.h"
#include "takes.h"

#include <QApplication>
#include <QElapsedTimer>
#include <QTest>
#include <fmt/format.h>

#include <unistd.h>

using namespace porb;
using namespace porb::app;

namespace {

namespace fs = std::filesystem;

double median(std::vector<double> v) {
    std::sort(v.begin(), v.end());
    return v.empty() ? 0 : v[v.size() / 2];
}

std::string only;
bool is_wanted(const std::string& what) {
    return only.empty() || what.find(only) != std::string::npos;
}

/// Without qWaitFor()'s naps between two looks.
void wait_for(const std::function<bool()>& done) {
    QElapsedTimer clock;
    clock.start();
    while (!done()) {
        if (clock.elapsed() > 120000) throw Error("waited in vain", "", "");
        QCoreApplication::processEvents(QEventLoop::WaitForMoreEvents, 5);
    }
}

struct Opened {
    explicit Opened(const fs::path& file) : data(file.parent_path() / "data"), window(data) {
        window.resize(1280, 800);
        window.show();
        window.open_project(file);
    }
    void settle() {
        wait_for([&] { return window.picture().settled(); });
    }
    fs::path data;
    MainWindow window;
};

void play(const std::string& what, const fs::path& file, ViewMode mode, bool flow, double seconds,
          EyesLook eyes = EyesLook::mono) {
    if (!is_wanted(what)) return;
    Opened o(file);
    o.window.session().edit_shot("flow", [&](Shot& s) {
        s.seams.flow.on = flow;
        if (eyes != EyesLook::mono) s.stereo.from = EyesFrom::distances;
    });
    o.window.picture().set_mode(mode);
    o.window.picture().set_eyes(eyes);
    o.settle();
    o.window.run("Play or pause");
    QTest::qWait(1500); // until it runs evenly
    const int before = o.window.picture().painted();
    QElapsedTimer clock;
    clock.start();
    QTest::qWait(int(1000 * seconds));
    const double shown = (o.window.picture().painted() - before) / (double(clock.elapsed()) / 1000);
    const bool open = o.window.picture().plays_without_parallax();
    o.window.run("Play or pause");
    fmt::print("{:<66} {:>6.1f} a second{}\n", what, shown, open ? ", parallax open" : "");
    std::fflush(stdout);
}

/// From an edit to the second picture after it, while it plays: the first may have been begun before.
void edits_while_playing(const fs::path& file, bool flow) {
    const std::string what = fmt::format("exposure changed while six files play{}", flow ? ", flow" : "");
    if (!is_wanted(what)) return;
    Opened o(file);
    o.window.session().edit_shot("flow", [&](Shot& s) { s.seams.flow.on = flow; });
    o.settle();
    o.window.run("Play or pause");
    QTest::qWait(1500);
    std::vector<double> times;
    for (int i = 0; i < 9; ++i) {
        const int before = o.window.picture().shown();
        QElapsedTimer clock;
        clock.start();
        o.window.session().edit_shot(
            "exposure", [&](Shot& s) { s.cameras[0].colour.exposure_ev += 0.05; }, "drag");
        wait_for([&] { return o.window.picture().shown() >= before + 2; });
        times.push_back(double(clock.nsecsElapsed()) * 1e-6);
        QTest::qWait(150);
    }
    o.window.run("Play or pause");
    fmt::print("{:<66} {:>6.0f} ms, slowest {:.0f}{}\n", what, median(times),
               *std::max_element(times.begin(), times.end()),
               o.window.picture().plays_without_parallax() ? ", parallax open" : "");
    std::fflush(stdout);
}

/// One frame back after the other, over a second and a half, to each picture, which is drawn in full after
/// it; and the same on, over frames that were seen already.
void steps(const fs::path& file) {
    const std::string what = "a frame back and a frame on, six files";
    if (!is_wanted(what)) return;
    Opened o(file);
    o.window.session().edit_shot("flow", [&](Shot& s) { s.seams.flow.on = false; });
    o.window.session().set_playhead(Seconds(4));
    o.settle();
    const auto stepped = [&](const char* command) {
        std::vector<double> times;
        for (int i = 0; i < 45; ++i) {
            const int before = o.window.picture().shown();
            QElapsedTimer clock;
            clock.start();
            o.window.run(command);
            wait_for([&] { return o.window.picture().shown() > before; });
            times.push_back(double(clock.nsecsElapsed()) * 1e-6);
            o.settle();
        }
        return times;
    };
    for (const char* command : {"One frame back", "One frame on"}) {
        const auto times = stepped(command);
        double all = 0;
        for (const double t : times) all += t;
        fmt::print("{:<66} {:>6.0f} ms, mean {:.0f}, slowest {:.0f}\n", fmt::format("{}, six files", command),
                   median(times), all / double(times.size()), *std::max_element(times.begin(), times.end()));
    }
    std::fflush(stdout);
}

/// From the file to the first picture, of a ring of sixteen cameras.
void first_picture(const fs::path& ring, const fs::path& folder) {
    const std::string what = "sixteen files of 1920 px, opened to the first picture";
    if (!is_wanted(what)) return;
    Project project = load_project(ring);
    Shot shot = shot_for_rig(nominal_rig(16, 1920, 1920, 16, 200), "sixteen");
    const std::vector<Media> files = project.media;
    project.media.clear();
    fs::create_directories(folder);
    for (std::size_t i = 0; i < shot.cameras.size(); ++i) {
        const fs::path copy = folder / fmt::format("{}.mp4", i);
        if (!fs::exists(copy)) fs::copy_file(files[i % files.size()].ref.path, copy);
        shot.cameras[i].media = add_media(project, media_ref_for(copy));
    }
    shot.timing.rate = FrameRate(30);
    project.shots = {shot};
    save_project(project, folder / "sixteen.porb");
    QElapsedTimer clock;
    clock.start();
    Opened o(folder / "sixteen.porb");
    wait_for([&] { return o.window.picture().painted() > 0; });
    fmt::print("{:<66} {:>6.2f} s", what, double(clock.elapsed()) / 1000);
    o.settle();
    fmt::print(" (in full {:.2f} s)\n", double(clock.elapsed()) / 1000);
}

/// An edit taken back, and looking round by dragging, on a take at rest.
void work(const fs::path& ring) {
    Opened o(ring);
    Session& session = o.window.session();
    o.window.picture().set_mode(ViewMode::window);
    o.settle();
    std::vector<double> undos, stations;
    for (int i = 0; i < 9; ++i) {
        session.edit_shot("reach", [&](Shot& s) { s.cameras[0].reach_deg -= 1; });
        o.settle();
        QElapsedTimer clock;
        clock.start();
        session.undo();
        undos.push_back(double(clock.nsecsElapsed()) * 1e-6);
        o.settle();
    }
    const auto until_shown = [&](const std::function<void(int)>& change) {
        std::vector<double> out;
        for (int i = 0; i < 15; ++i) {
            const int before = o.window.picture().shown();
            QElapsedTimer clock;
            clock.start();
            change(i);
            wait_for([&] { return o.window.picture().shown() > before; });
            out.push_back(double(clock.nsecsElapsed()) * 1e-6);
        }
        o.settle();
        return out;
    };
    const auto drags = until_shown([&](int i) { o.window.picture().set_look({double(i), 0, 0}, 90); });
    const auto changes = until_shown([&](int) {
        session.edit_shot(
            "exposure", [&](Shot& s) { s.cameras[0].colour.exposure_ev += 0.01; }, "drag");
    });
    for (const auto& station : o.window.stations()) {
        QElapsedTimer clock;
        clock.start();
        o.window.set_station(station->id());
        QCoreApplication::processEvents();
        stations.push_back(double(clock.nsecsElapsed()) * 1e-6);
        o.settle();
    }
    fmt::print("{:<66} {:>6.1f} ms\n", "an edit taken back", median(undos));
    fmt::print("{:<66} {:>6.1f} ms\n", "looking round by a drag, to the picture", median(drags));
    fmt::print("{:<66} {:>6.1f} ms\n", "exposure dragged, to the picture", median(changes));
    fmt::print("{:<66} {:>6.1f} ms, slowest {:.1f}\n", "another station", median(stations),
               *std::max_element(stations.begin(), stations.end()));
}

} // namespace

int main(int argc, char** argv) {
    QApplication application(argc, argv);
    quiet_media_libraries();
    QCoreApplication::setOrganizationName("pale-orbit-bench");
    apply_theme(application);
    std::string which = "all";
    double seconds = 6;
    for (int i = 1; i < argc; ++i) {
        const std::string word = argv[i];
        if (word == "--seconds" && i + 1 < argc)
            seconds = std::stod(argv[++i]);
        else if (word == "--only" && i + 1 < argc)
            only = argv[++i];
        else
            which = word;
    }
    const TakesFolder folder = takes_folder();
    const auto take = [&](const std::string& demo, int scale, int rate) {
        return enlarged_take(demo, scale, rate, folder.path);
    };
    fmt::print("a window of 1280 x 800, {} threads, {} s each\n", std::thread::hardware_concurrency(),
               seconds);
    if (which != "wait") {
        const fs::path ring = take("ring", 2, 30), two = take("dual", 2, 30), quick = take("dual", 2, 60);
        for (const auto& [mode, name] : {std::pair{ViewMode::map, "map"}, {ViewMode::window, "window"}}) {
            play(fmt::format("two circles of 1920 px in one file, 30 a second, {}", name), two, mode, false,
                 seconds);
            play(fmt::format("two circles of 1920 px in one file, 60 a second, {}", name), quick, mode, false,
                 seconds);
            play(fmt::format("six files of 1920 px, 30 a second, {}", name), ring, mode, false, seconds);
            play(fmt::format("six files of 1920 px, 30 a second, flow, {}", name), ring, mode, true, seconds);
        }
        play("six files of 1920 px, 30 a second, drawn eyes, window", ring, ViewMode::window, true, seconds,
             EyesLook::parallel);
    }
    if (which != "play") {
        const fs::path ring = take("ring", 2, 30);
        first_picture(ring, folder.path / "sixteen");
        for (const bool flow : {false, true}) edits_while_playing(ring, flow);
        steps(ring);
        work(ring);
    }
    if (!folder.stays) fs::remove_all(folder.path);
    return 0;
}
