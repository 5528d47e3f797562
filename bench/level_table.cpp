// How well rigs are set upright by edges found, against the truth: leans of up to 35 degrees, standing and
// hanging.
//   level_table [--seeds 1,2,...] [--rigs two-fisheyes,...] [--scenes hall,cluttered] [--size 480] [--folder
//   DIR]
#include "base/angle.h"
#include "base/error.h"
#include "media/still.h"
#include "sim/simulate.h"
#include "solve/level.h"

#include <CLI/CLI.hpp>
#include <fmt/format.h>

#include <random>

using namespace porb;

int main(int argc, char** argv) {
    std::vector<unsigned> seeds{1, 2, 3, 4};
    std::vector<std::string> rigs{"two-fisheyes", "ring-of-six", "pair-180"}, scenes{"hall", "cluttered"};
    int size = 480;
    std::string folder = "/tmp/porb_level_table";
    CLI::App app("How well rigs are set upright by edges");
    app.add_option("--seeds", seeds)->delimiter(',');
    app.add_option("--rigs", rigs)->delimiter(',')->check(CLI::IsMember(sim::rigs_by_name()));
    app.add_option("--scenes", scenes)->delimiter(',')->check(CLI::IsMember({"hall", "cluttered"}));
    app.add_option("--size", size, "Pixels a side of one circle");
    app.add_option("--folder", folder);
    CLI11_PARSE(app, argc, argv);
    std::filesystem::create_directories(folder);
    int good = 0, all = 0;
    for (const auto& scene : scenes)
        for (const auto& name : rigs)
            for (const unsigned seed : seeds) {
                std::mt19937 random(seed * 7919u + unsigned(name.size()));
                const auto part = [&](double low, double high) {
                    return low + (high - low) * double(random()) / 4294967296.0;
                };
                sim::SimOptions o;
                o.rig = sim::rigs_by_name().at(name), o.circle_size = size, o.seed = seed;
                o.things = scene == "cluttered" ? sim::Things::clutter : sim::Things::none,
                o.things_seed = seed;
                o.faults.noise = o.faults.exposure = true;
                auto truth = sim::make_truth(o);
                const double lean = part(0, 35), way = part(0, 2 * kPi);
                const bool hangs = seed % 2 == 0;
                Mat3 tilt = rotation_about(Vec3(std::cos(way), 0, std::sin(way)), radians(lean));
                if (hangs) tilt = tilt * rotation_of({0, 0, 180});
                truth.tilt = turn_of(tilt);
                sim::Hall hall(o.things, seed);
                Project project;
                Shot shot = shot_for_rig(truth.actual, "take");
                const bool shared = !sim::has_own_files(o.rig);
                for (std::size_t c = 0; c < shot.cameras.size(); c += shared ? shot.cameras.size() : 1) {
                    std::vector<std::size_t> cameras{c};
                    if (shared)
                        for (std::size_t k = 1; k < shot.cameras.size(); ++k) cameras.push_back(k);
                    const auto file = std::filesystem::path(folder) / fmt::format("{}.png", c);
                    write_still(sim::render_source(hall, o, truth, cameras, 0), file, {});
                    for (const std::size_t k : cameras)
                        shot.cameras[k].media = add_media(project, {file, MediaKind::still, FrameRate(30)});
                }
                project.shots = {shot};
                MediaLibrary library;
                const Vec3 up = tilt.transpose() * Vec3(0, -1, 0);
                const Seconds at[] = {Seconds(0)};
                ++all;
                try {
                    const FoundUpright f = find_upright(project, shot, at, library, {}, {});
                    const double off = degrees(std::acos(std::clamp(f.upright.up.dot(up), -1.0, 1.0)));
                    good += off < 0.3;
                    fmt::print("{:<10} {:<14} seed {:<3} lean {:5.1f} {:<8} off {:8.3f} deg  sure to {:.3f}, "
                               "{} edges{}\n",
                               scene, name, seed, lean, hangs ? "hangs" : "stands", off, f.upright.sure_deg,
                               f.lines.size(), f.turned_over ? ", turned over" : "");
                } catch (const Error& e) {
                    fmt::print("{:<10} {:<14} seed {:<3} lean {:5.1f} {:<8} {}\n", scene, name, seed, lean,
                               hangs ? "hangs" : "stands", e.message());
                }
                std::fflush(stdout);
            }
    fmt::print("{} of {} within 0.3 degrees\n", good, all);
}
