// What a picture costs with parallax closed: six files of 1920 px (the demo's, enlarged), frame after frame,
// from files to an encoder's planes, nothing encoded.
//   flow_bench [master|playing|parts] [--frames N] [--fine] [--half]
// master: into 3840 x 1920; playing: into 1280 x 640, every second frame, from proxies that are made for it;
// parts: what it is put together of, each alone. --fine: fine edges; --half: proxies of half the size instead
// of a quarter.
#include "base/error.h"
#include "master/pipe.h"
#include "master/render.h"
#include "media/proxies.h"
#include "project/project.h"
#include "stitch/compose.h"
#include "takes.h"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <ctime>
#include <fstream>
#include <thread>
#include <vector>

using namespace porb;

namespace {

struct Cost {
    double wall_s = 0, processor_s = 0;
};
double processor_s() {
    timespec t{};
    clock_gettime(CLOCK_PROCESS_CPUTIME_ID, &t);
    return double(t.tv_sec) + 1e-9 * double(t.tv_nsec);
}
Cost cost_of(const std::function<void()>& work) {
    const double processor = processor_s();
    const auto begun = std::chrono::steady_clock::now();
    work();
    return {std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count(),
            processor_s() - processor};
}
void row(const std::string& what, const Cost& c, int times) {
    fmt::print("{:<62} {:>8.1f} ms {:>8.1f} ms\n", what, 1000 * c.wall_s / times,
               1000 * c.processor_s / times);
    std::fflush(stdout);
}

/// The most memory that was resident, GiB.
double most_memory_gib() {
    std::ifstream in("/proc/self/status");
    for (std::string word; in >> word;)
        if (word == "VmHWM:") {
            double kib = 0;
            in >> kib;
            return kib / 1048576;
        }
    return 0;
}

struct Take {
    Project project;
    const Shot& shot() const { return project.shots[0]; }
};

/// What an encoder is given, as it is drawn.
struct DrawnPlanes {
    explicit DrawnPlanes(const Target& target)
        : memory(std::size_t(target.width) * std::size_t(target.height) * 3 / 2) {
        const std::size_t size = memory.size() / 3 * 2;
        planes.width = target.width, planes.height = target.height;
        planes.plane = {memory.data(), memory.data() + size, memory.data() + size * 5 / 4};
        planes.stride = {target.width, target.width / 2, target.width / 2};
    }
    std::vector<std::uint8_t> memory;
    YuvPlanes<std::uint8_t> planes;
};

/// As in a master: reading the next frame and blending this one side by side.
void frames_of(const Take& take, Composer& composer, const std::vector<View>& eyes, int first, int count,
               int step) {
    Pipe<std::vector<Composer::Gathered>> read(1);
    std::thread reader([&] {
        for (int n = 0; n < count; ++n) {
            std::vector<Composer::Gathered> made;
            for (const View& view : eyes)
                made.push_back(composer.gather(take.project, take.shot(),
                                               frame_time(first + n * step, take.shot().timing.rate), view));
            read.put(std::move(made));
        }
        read.close();
    });
    DrawnPlanes out(eyes[0].target);
    while (const auto made = read.take())
        for (const auto& gathered : *made) composer.blend(gathered, out.planes);
    reader.join();
}

constexpr int kFirst = 75; ///< so that there are moments before it

void time_frames(const std::string& what, const Take& take, const std::shared_ptr<MediaLibrary>& library,
                 const std::vector<View>& eyes, int count, int step) {
    Composer composer(library);
    frames_of(take, composer, eyes, kFirst, 4, step); // plans, and the moments before
    row(what, cost_of([&] { frames_of(take, composer, eyes, kFirst + 4 * step, count, step); }), count);
}

View view_of_width(int width, int proxy_level) {
    View v;
    v.target = equirect_target(width);
    v.filter = proxy_level > 0 ? Filter::linear : Filter::cubic;
    v.proxy_level = proxy_level;
    return v;
}

void parts(const Take& take, int count) {
    Composer composer(std::make_shared<MediaLibrary>(std::size_t(2) << 30));
    const PlanKey key = for_every_view(plan_key(take.shot(), {}, Seconds(0)));
    std::optional<SeamZones> zones;
    row("zones, once", cost_of([&] { zones.emplace(key); }), 1);
    std::vector<SeamZones::Weighed> moments;
    for (int n = 0; n < 7; ++n) {
        const auto frames = composer.source_frames(
            take.project, take.shot(), frame_time(10 * n, take.shot().timing.rate), zones->cameras());
        moments.push_back(
            {zones->match_moment(as_sources(frames->sources), frames->tones, take.shot().seams.flow), 1});
    }
    const auto frames = composer.source_frames(take.project, take.shot(),
                                               frame_time(60, take.shot().timing.rate), zones->cameras());
    const FlowSettings& flow = take.shot().seams.flow;
    row("matching one moment", cost_of([&] {
            for (int i = 0; i < count; ++i)
                zones->match_moment(as_sources(frames->sources), frames->tones, flow);
        }),
        count);
    if (flow.fine_edges) {
        const auto later = composer.source_frames(take.project, take.shot(),
                                                  frame_time(65, take.shot().timing.rate), zones->cameras());
        row("matching what changed in five frames", cost_of([&] {
                for (int i = 0; i < count; ++i)
                    zones->match_moment(as_sources(later->sources), later->tones, flow, {},
                                        moments.back().matched.get());
            }),
            count);
    }
    const auto field = [&](std::span<const SeamZones::Weighed> of) {
        for (int i = 0; i < count; ++i)
            if (flow.fine_edges)
                zones->fine(of, flow);
            else
                zones->field(of, flow);
    };
    row("distances of one moment", cost_of([&] { field({&moments.back(), 1}); }), count);
    row("distances of seven moments", cost_of([&] { field(moments); }), count);
    const View view = view_of_width(3840, 0);
    const auto gathered =
        composer.gather(take.project, take.shot(), frame_time(60, take.shot().timing.rate), view);
    DrawnPlanes out(view.target);
    row("drawing 3840 x 1920", cost_of([&] {
            for (int i = 0; i < count; ++i) composer.blend(gathered, out.planes);
        }),
        count);
    const auto megabytes = [](std::size_t bytes) { return double(bytes) / 1e6; };
    const auto master = composer.plan_for(plan_key(take.shot(), view, Seconds(0)));
    fmt::print("megabytes: a plan for 3840 x 1920 {:.0f}, zones {:.0f}, a matched moment {:.1f}\n",
               megabytes(master->bytes()), megabytes(zones->bytes()),
               megabytes(SeamZones::bytes_of(*moments[0].matched)));
    for (const auto& camera : zones->cameras())
        fmt::print("camera {} is read at level {}\n", camera.index, camera.level);
}

} // namespace

int main(int argc, char** argv) try {
    std::string which = "all";
    int count = 24, level = 2;
    bool fine = false;
    for (int i = 1; i < argc; ++i) {
        const std::string word = argv[i];
        if (word == "--frames" && i + 1 < argc)
            count = std::stoi(argv[++i]);
        else if (word == "--fine")
            fine = true;
        else if (word == "--half")
            level = 1;
        else
            which = word;
    }
    quiet_media_libraries();
    const TakesFolder folder = takes_folder();
    Take take{load_project(enlarged_take("ring", 2, 30, folder.path))};
    const auto set = [&](bool on) {
        take.project.shots[0].seams.flow.on = on;
        take.project.shots[0].seams.flow.fine_edges = fine;
    };
    fmt::print("six files of 1920 px, {} threads; each frame\n{:<62} {:>11} {:>11}\n",
               std::thread::hardware_concurrency(), "", "wall", "processor");
    if (which == "all" || which == "parts") {
        set(true);
        parts(take, 8);
    }
    if (which == "all" || which == "playing") {
        const auto shared = std::make_shared<ProxyStore>(folder.path / "proxies");
        for (const Media& m : take.project.media) make_proxy(m.ref, level, *shared);
        const View map = view_of_width(1280, level);
        View window = map, left = map, right = map;
        window.target = window_target(1280, 720, {40, 0, 0}, 90);
        left.target = right.target = window.target;
        left.eye = Eye::left, right.eye = Eye::right;
        const auto played = [&](const std::string& what, const std::vector<View>& eyes) {
            const auto library = std::make_shared<MediaLibrary>(std::size_t(1) << 30);
            library->set_proxies(shared);
            time_frames(what + ", from proxies", take, library, eyes, count, 2);
        };
        for (const bool on : {false, true}) {
            set(on);
            const char* flow = on ? "with" : "without";
            played(fmt::format("map of 1280 x 640 {} flow", flow), {map});
            played(fmt::format("window of 1280 x 720 {} flow", flow), {window});
        }
        take.project.shots[0].stereo.from = EyesFrom::distances;
        played("the same, both eyes drawn", {left, right});
        take.project.shots[0].stereo.from = Shot().stereo.from;
    }
    if (which == "all" || which == "master")
        for (const bool on : {false, true}) {
            set(on);
            time_frames(fmt::format("3840 x 1920, {} flow", on ? "with" : "without"), take,
                        render_library(take.project, take.shot(), std::make_shared<CacheBound>(), {}),
                        {view_of_width(3840, 0)}, count, 1);
        }
    fmt::print("memory at its most: {:.2f} GiB\n", most_memory_gib());
    if (!folder.stays) std::filesystem::remove_all(folder.path);
    return 0;
} catch (const Error& e) {
    fmt::print(stderr, "flow_bench: {}\n", e.what());
    return 1;
}
