// How well rigs are solved from made-up footage, against the truth: a table over rigs, scenes and seeds.
//   solve_table [--seeds 1,2,...] [--rigs two-fisheyes,...] [--scenes hall,...] [--size 480] [--samples 3]
//   [--folder DIR]
#include "base/progress.h"
#include "media/still.h"
#include "optics/ray_error.h"
#include "sim/simulate.h"
#include "solve/calibrate.h"
#include "solve/pictures/edges.h"

#include <CLI/CLI.hpp>
#include <fmt/format.h>

#include <chrono>
#include <map>

using namespace porb;

namespace {

/// A shot with the nominal rig and numbered stills of a few moments, rendered into `folder`.
struct Take {
    Project project;
    sim::Truth truth;
};
Take render_take(const sim::SimOptions& o, int samples, const std::filesystem::path& folder) {
    std::filesystem::create_directories(folder);
    Take take;
    take.truth = sim::make_truth(o);
    sim::Hall hall(o.things);
    Shot shot = shot_for_rig(take.truth.nominal, "take");
    shot.timing.rate = o.rate;
    shot.calibration.solving.samples = samples;
    const std::size_t cameras = shot.cameras.size();
    const bool shared = !sim::has_own_files(o.rig);
    for (std::size_t c = 0; c < cameras; ++c) {
        if (shared && c > 0) {
            shot.cameras[c].media = shot.cameras[0].media;
            continue;
        }
        std::vector<std::size_t> in = {c};
        if (shared)
            for (std::size_t k = 1; k < cameras; ++k) in.push_back(k);
        for (int n = 0; n < samples; ++n) {
            const auto path = folder / fmt::format("{}.{:04d}.png", take.truth.nominal.cameras[c].id, n);
            if (!std::filesystem::exists(path))
                write_still(sim::render_source(hall, o, take.truth, in, n), path, {8, 95, std::nullopt});
        }
        MediaRef ref;
        ref.path = folder / (take.truth.nominal.cameras[c].id + ".%04d.png");
        ref.kind = MediaKind::sequence;
        ref.sequence_rate = o.rate;
        shot.cameras[c].media = add_media(take.project, ref);
    }
    take.project.shots.push_back(std::move(shot));
    return take;
}

} // namespace

int main(int argc, char** argv) {
    std::vector<unsigned> seeds = {101, 102, 103, 104, 105, 106, 107, 108, 109, 110};
    std::vector<std::string> rigs, scenes = {"hall-distant", "hall", "hall-cluttered"};
    for (const auto& [name, rig] : sim::rigs_by_name()) rigs.push_back(name);
    int size = 480, samples = 3;
    bool verbose = false, lock_positions = false, lock_distortion = false, bent = false, no_edges = false,
         render_only = false;
    double position_mm = 0;
    std::string folder = (std::filesystem::temp_directory_path() / "pale-orbit-solve-table").string();
    CLI::App app("Solves made-up rigs and compares them with the truth");
    app.add_option("--seeds", seeds)->delimiter(',');
    app.add_option("--rigs", rigs)->delimiter(',')->check(CLI::IsMember(sim::rigs_by_name()));
    app.add_option("--scenes", scenes)->delimiter(',');
    app.add_option("--size", size, "Pixels a side of a circle's square");
    app.add_option("--samples", samples);
    app.add_option("--folder", folder, "Where footage is kept for the next time");
    app.add_flag("--verbose", verbose, "Say what takes how long");
    app.add_flag("--distortion", bent, "Lenses with distortion that the nominal rig does not know");
    app.add_flag("--no-edges", no_edges);
    app.add_flag("--render-only", render_only, "Make the footage for the next time");
    app.add_flag("--lock-positions", lock_positions);
    app.add_flag("--lock-distortion", lock_distortion);
    app.add_option("--position-mm", position_mm);
    CLI11_PARSE(app, argc, argv);
    fmt::print("{:<15}{:<15}{:>6}  {:>9} {:>9} {:>9}  {:>8} {:>7} {:>7} {:>6}\n", "rig", "scene", "seed",
               "before", "mean deg", "worst cam", "rms px", "points", "dropped", "s");
    struct Sum {
        int runs = 0, solved = 0;
        double mean = 0, worst = 0, most_mean = 0;
    };
    std::map<std::pair<std::string, std::string>, Sum> sums;
    for (const auto& rig : rigs)
        for (const auto& scene : scenes)
            for (const unsigned seed : seeds) {
                sim::SimOptions o;
                o.distant = scene == "hall-distant";
                if (scene == "hall-cluttered") o.things = sim::Things::clutter;
                o.rig = sim::rigs_by_name().at(rig);
                o.circle_size = size;
                o.rate = FrameRate(1);
                o.seed = seed;
                o.faults.lens = o.faults.pose = o.faults.exposure = o.faults.white_balance =
                    o.faults.vignetting = o.faults.noise = true;
                o.faults.distortion = bent;
                Take take =
                    render_take(o, samples,
                                std::filesystem::path(folder) / fmt::format("{}-{}-{}-{}{}", rig, scene, seed,
                                                                            size, bent ? "-bent" : ""));
                if (render_only) continue;
                SolveSettings& settings = take.project.shots[0].calibration.solving;
                if (lock_positions) settings.position = Freedom::locked;
                if (lock_distortion) settings.distortion = Freedom::locked;
                settings.straight_edges = !no_edges;
                if (position_mm > 0) settings.position_sigma_mm = position_mm;
                Sum& sum = sums[{rig, scene}];
                ++sum.runs;
                const double before = ray_error(take.truth.actual, take.truth.nominal).mean_deg;
                const auto began = std::chrono::steady_clock::now();
                try {
                    MediaLibrary library;
                    SolveOptions options;
                    const auto tell = [began, verbose](const SolveProgress& p) {
                        if (verbose)
                            fmt::print(stderr, "{:6.1f} s  {:3.0f} %  {}\n",
                                       std::chrono::duration<double>(std::chrono::steady_clock::now() - began)
                                           .count(),
                                       100 * p.share, p.doing);
                    };
                    const auto s =
                        solve_shot(take.project, take.project.shots[0], library, options, tell, Cancel());
                    const RayError e = ray_error(take.truth.actual, s.rig);
                    const double seconds =
                        std::chrono::duration<double>(std::chrono::steady_clock::now() - began).count();
                    if (verbose)
                        for (std::size_t c = 0; c < s.rig.cameras.size(); ++c) {
                            const Camera &is = s.rig.cameras[c], &truth = take.truth.actual.cameras[c];
                            double bend = 0, true_bend = 0;
                            int edges = 0;
                            for (const auto& l : s.lines)
                                if (l.camera == is.id)
                                    bend += bend_px(is.lens, l.places_px),
                                        true_bend += bend_px(truth.lens, l.places_px), ++edges;
                            fmt::print(
                                stderr,
                                "  {}: focal off by {:+.3f} %, centre by {:+.2f} {:+.2f} px, k1 {:+.4f} "
                                "(true {:+.4f}), k2 {:+.4f} (true {:+.4f}); {} edges bend by {:.3f} px "
                                "(under the true lens {:.3f})\n",
                                is.id, 100 * (is.lens.focal_px / truth.lens.focal_px - 1),
                                is.lens.center_px.x() - truth.lens.center_px.x(),
                                is.lens.center_px.y() - truth.lens.center_px.y(), is.lens.radial[0],
                                truth.lens.radial[0], is.lens.radial[1], truth.lens.radial[1], edges,
                                bend / std::max(1, edges), true_bend / std::max(1, edges));
                        }
                    ++sum.solved;
                    sum.mean += e.mean_deg;
                    sum.most_mean = std::max(sum.most_mean, e.mean_deg);
                    sum.worst = std::max(sum.worst, e.worst_camera_deg);
                    fmt::print(
                        "{:<15}{:<15}{:>6}  {:>9.3f} {:>9.4f} {:>9.4f}  {:>8.3f} {:>7} {:>7} {:>6.1f}\n", rig,
                        scene, seed, before, e.mean_deg, e.worst_camera_deg, s.report.rms.px, s.report.points,
                        s.report.dropped, seconds);
                } catch (const std::exception& e) {
                    fmt::print("{:<15}{:<15}{:>6}  {:>9.3f} failed: {}\n", rig, scene, seed, before,
                               e.what());
                }
                std::fflush(stdout);
            }
    fmt::print("\n{:<15}{:<15}{:>8}  {:>9} {:>9} {:>9}\n", "rig", "scene", "solved", "mean deg", "most mean",
               "worst cam");
    for (const auto& [key, s] : sums)
        fmt::print("{:<15}{:<15}{:>4}/{:<3}  {:>9.4f} {:>9.4f} {:>9.4f}\n", key.first, key.second, s.solved,
                   s.runs, s.mean / std::max(1, s.solved), s.most_mean, s.worst);
    return 0;
}
