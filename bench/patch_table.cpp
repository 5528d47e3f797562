// What covering a stand is worth against the truth without one, what following light leaves, and what patches
// cost. Footage is made and kept in a folder.
//   patch_table [--seeds 5,6] [--scenes hall,hall-cluttered] [--rigs ring-of-six] [--size 960] [--cost]
//   [--light] [--pictures DIR]
// Flat views straight down, within 25 degrees of the nadir, at the density of a sphere 3840 wide. "Left" is
// what remains where the stand was: the 99th percentile of differences in linear light, of means over 5 x 5
// pixels, the smallest within 2 pixels of shift (edges that lie elsewhere by less are no stand).
#include "scenes.h"
#include "scores.h"

#include "base/angle.h"
#include "base/parallel.h"
#include "media/still.h"
#include "patch/brush.h"
#include "patch/fill.h"
#include "patch/light.h"
#include "patch/propose.h"
#include "picture/transfer.h"

#include <CLI/CLI.hpp>
#include <fmt/format.h>
#include <opencv2/imgproc.hpp>

#include <chrono>

using namespace porb;
using namespace porb::bench;
namespace fs = std::filesystem;

namespace {

constexpr double kWithin_deg = 25;
constexpr int kSphere = 3840;

double seconds_of(const std::function<void()>& work) {
    const auto begin = std::chrono::steady_clock::now();
    work();
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
}

View straight_down() {
    View view;
    const int side = int(2 * std::tan(radians(kWithin_deg)) * kSphere / (2 * kPi));
    view.target = window_target(side, side, {0, -90, 0}, 2 * kWithin_deg);
    return view;
}

cv::Mat linear(const Picture& p) {
    cv::Mat out(p.height(), p.width(), CV_32FC3);
    for (int y = 0; y < p.height(); ++y)
        for (int x = 0; x < p.width(); ++x) {
            const Rgba c = pixel_at(p, x, y);
            out.at<cv::Vec3f>(y, x) = {linear_from_encoded(c.r), linear_from_encoded(c.g),
                                       linear_from_encoded(c.b)};
        }
    return out;
}

/// The truth of the same view, without the stand.
Picture truth_below(sim::SimOptions o, double seconds, const View& view, const fs::path& kept) {
    if (fs::exists(kept)) return read_still(kept);
    o.stand = false;
    sim::Hall hall(o.things, o.things_seed);
    const Picture sphere =
        sim::true_panorama(hall, o, seconds, SphereMapping::equirect, 2 * kSphere, sim::TruthEye::mono);
    const TargetMap from(equirect_target(2 * kSphere)), to(view.target);
    Picture out(view.target.width, view.target.height);
    for (int y = 0; y < out.height(); ++y)
        for (int x = 0; x < out.width(); ++x) {
            const Vec2 at = *from.pixel(*to.direction({x + 0.5, y + 0.5})) - Vec2(0.5, 0.5);
            const int u = int(std::floor(at.x())),
                      v = std::clamp(int(std::floor(at.y())), 0, sphere.height() - 2);
            const auto fu = float(at.x() - u), fv = float(at.y() - v);
            Rgba sum;
            for (int j = 0; j < 2; ++j)
                for (int i = 0; i < 2; ++i) {
                    const Rgba c = pixel_at(sphere, (u + i + sphere.width()) % sphere.width(), v + j);
                    const float w = (i ? fu : 1 - fu) * (j ? fv : 1 - fv);
                    sum.r += w * c.r, sum.g += w * c.g, sum.b += w * c.b;
                }
            sum.a = 1;
            set_pixel(out, x, y, sum);
        }
    write_still(out, kept, {16, 95, {}, {}, false, nullptr, {}});
    return out;
}

/// `made` with each channel's gain such that medians are the truth's: cameras were matched to each other, not
/// to the hall.
cv::Mat matched(cv::Mat made, const cv::Mat& truth) {
    for (int c = 0; c < 3; ++c) {
        std::vector<float> ratios;
        for (int y = 0; y < made.rows; y += 3)
            for (int x = 0; x < made.cols; x += 3)
                if (const float m = made.at<cv::Vec3f>(y, x)[c]; m > 0.01f)
                    ratios.push_back(truth.at<cv::Vec3f>(y, x)[c] / m);
        std::nth_element(ratios.begin(), ratios.begin() + std::ptrdiff_t(ratios.size() / 2), ratios.end());
        const float gain = ratios[ratios.size() / 2];
        for (int y = 0; y < made.rows; ++y)
            for (int x = 0; x < made.cols; ++x) made.at<cv::Vec3f>(y, x)[c] *= gain;
    }
    return made;
}

cv::Mat differing(const cv::Mat& a, const cv::Mat& b) {
    cv::Mat sa, sb, least(a.size(), CV_32F, cv::Scalar(9));
    cv::blur(a, sa, {5, 5});
    cv::blur(b, sb, {5, 5});
    constexpr int kShift_px = 2;
    for (int dy = -kShift_px; dy <= kShift_px; ++dy)
        for (int dx = -kShift_px; dx <= kShift_px; ++dx)
            for (int y = kShift_px; y < a.rows - kShift_px; ++y)
                for (int x = kShift_px; x < a.cols - kShift_px; ++x) {
                    const cv::Vec3f d = sa.at<cv::Vec3f>(y, x) - sb.at<cv::Vec3f>(y + dy, x + dx);
                    float& l = least.at<float>(y, x);
                    l = std::min(l, std::max({std::abs(d[0]), std::abs(d[1]), std::abs(d[2])}));
                }
    return least;
}

cv::Mat circle_mask(int side) {
    cv::Mat mask(side, side, CV_8U, cv::Scalar(0));
    cv::circle(mask, {side / 2, side / 2}, side / 2 - 4, cv::Scalar(255), -1);
    return mask;
}

double percentile(const cv::Mat& values, const cv::Mat& where, double share) {
    std::vector<float> v;
    for (int y = 0; y < values.rows; ++y)
        for (int x = 0; x < values.cols; ++x)
            if (where.at<std::uint8_t>(y, x) && values.at<float>(y, x) < 9)
                v.push_back(values.at<float>(y, x));
    if (v.empty()) return 0;
    const auto at = v.begin() + std::ptrdiff_t(double(v.size() - 1) * share);
    std::nth_element(v.begin(), at, v.end());
    return *at;
}

cv::Mat bytes(const cv::Mat& light) {
    cv::Mat out(light.size(), CV_8UC3);
    for (int y = 0; y < light.rows; ++y)
        for (int x = 0; x < light.cols; ++x)
            for (int c = 0; c < 3; ++c)
                out.at<cv::Vec3b>(y, x)[2 - c] =
                    cv::saturate_cast<std::uint8_t>(255 * encoded_from_linear(light.at<cv::Vec3f>(y, x)[c]));
    return out;
}

void removal_row(const std::string& scene, const std::string& rig, unsigned seed, int size,
                 const fs::path& folder, const fs::path& pictures) {
    const sim::SimOptions o = options_of(scene, rig, seed, size);
    const std::int64_t frame = frame_of(scene, seed);
    const fs::path here = folder / fmt::format("{}_{}_{}_{}", scene, rig, seed, size);
    const Take take = make_take(o, frame, 1024, here);
    const Shot& shot = take.project.shots.front();
    Composer composer(std::make_shared<MediaLibrary>());
    Project project = take.project;
    const View view = straight_down();
    const std::vector<Seconds> times{Seconds(0)};
    const cv::Mat truth =
        linear(truth_below(o, frame_time(frame, o.rate).to_double(), view, here / "floor-without-stand.png"));
    const cv::Mat before = matched(linear(composer.compose_ungraded(project, shot, Seconds(0), view)), truth);
    Patch patch;
    std::string words;
    const double took = seconds_of([&] {
        try {
            patch = ground_patch(composer, project, shot, Seconds(0), kSphere);
            const Proposal found = proposed(composer, project, shot, patch, times);
            patch.mask = found.mask;
            patch.pixels = tiles_of(completed(found.plate, found.hole, {}));
            if (!pictures.empty())
                write_still(found.plate, pictures / fmt::format("{}_{}_{}_plate.png", scene, rig, seed));
        } catch (const Error& e) {
            words = e.message();
        }
    });
    Shot covered = shot;
    covered.patches.push_back(patch);
    const cv::Mat after =
        matched(linear(composer.compose_ungraded(project, covered, Seconds(0), view)), truth);
    const cv::Mat circle = circle_mask(before.rows), was = differing(before, truth),
                  is = differing(after, truth);
    cv::Mat stood(was.size(), CV_8U, cv::Scalar(0));
    for (int y = 0; y < was.rows; ++y)
        for (int x = 0; x < was.cols; ++x)
            stood.at<std::uint8_t>(y, x) =
                circle.at<std::uint8_t>(y, x) && was.at<float>(y, x) > 0.03f && was.at<float>(y, x) < 9 ? 255
                                                                                                        : 0;
    fmt::print("{:16} {:12} {:4}  {:6.3f} m  {:6.3f} {:6.3f}  {:6.3f} {:6.3f}  {:6.1f} s  {}\n", scene, rig,
               seed, patch.distance_m, ssim(grey(bytes(before)), grey(bytes(truth)), circle),
               ssim(grey(bytes(after)), grey(bytes(truth)), circle), percentile(was, stood, 0.99),
               percentile(is, stood, 0.99), took, words);
    if (!pictures.empty()) {
        cv::Mat both;
        cv::hconcat(std::vector<cv::Mat>{bytes(before), bytes(after), bytes(truth)}, both);
        write_still(picture_of(both), pictures / fmt::format("{}_{}_{}.png", scene, rig, seed));
    }
}

void light_row(const std::string& scene, unsigned seed, int size, const fs::path& folder) {
    // A take of its own whose light grows by a stop, with noise.
    sim::SimOptions o = options_of(scene, "ring-of-six", seed, size);
    o.faults.noise = true;
    o.light_change_ev = 1;
    o.seconds = 2;
    o.rate = 12;
    o.truth_width = 0;
    const fs::path here = folder / fmt::format("light_{}_{}_{}", scene, seed, size);
    const fs::path file = here / (scene + "_ring.porb");
    if (!fs::exists(file)) sim::simulate(o, here, {}, {});
    const Project project = load_project(file);
    Shot shot = project.shots.front();
    Composer composer(std::make_shared<MediaLibrary>());
    const auto times = light_times(Seconds(0), Seconds(2), shot.timing.rate, 1.0 / 12);
    Patch patch;
    patch.name = "disc";
    patch.keys = {{Seconds(0), 20, -62, 0, 24, 1, {}}};
    patch.disc = true;
    patch.resolution = 512;
    patch.feather_deg = 1;
    patch.pixels = tiles_of(moment_plate(composer, project, shot, patch, times[times.size() / 2]));
    shot.patches.push_back(patch);
    const auto words_of_steps = [&](const std::vector<EdgeStep>& steps) {
        double mean = 0, worst = 0, flicker = 0;
        for (std::size_t i = 0; i < steps.size(); ++i) {
            mean += steps[i].step / double(steps.size());
            worst = std::max(worst, steps[i].step);
            if (i > 0 && i + 1 < steps.size()) // what is not even change: the second difference
                flicker += std::abs(steps[i - 1].mean[1] - 2 * steps[i].mean[1] + steps[i + 1].mean[1]) / 2 /
                           double(steps.size() - 2);
        }
        return fmt::format("step {:.2f} % mean, {:.2f} % worst; from frame to frame {:.3f} %", 100 * mean,
                           100 * worst, 100 * flicker);
    };
    const auto before = edge_steps(composer, project, shot, 0, times);
    shot.patches[0].light = followed_light(composer, project, shot, 0, times);
    shot.patches[0].follows_light = true;
    fmt::print("{} {}: left alone: {}\n", scene, seed, words_of_steps(before));
    fmt::print("{} {}: followed:   {}\n", scene, seed,
               words_of_steps(edge_steps(composer, project, shot, 0, times)));
}

void cost_rows(const fs::path& folder, int size) {
    const sim::SimOptions o = options_of("hall", "ring-of-six", 5, size);
    const Take take = make_take(o, 0, 1024, folder / fmt::format("hall_ring-of-six_cost_{}", size));
    Shot shot = take.project.shots.front();
    shot.seams.flow.on = false;
    Composer composer(std::make_shared<MediaLibrary>());
    View view;
    view.target = equirect_target(kSphere);
    Patch patch;
    patch.keys = {{Seconds(0), 0, -90, 0, 70, 1, {}}};
    patch.resolution = matching_resolution(70, kSphere);
    patch.pixels = tiles_of(moment_plate(composer, take.project, shot, patch, Seconds(0)));
    Shot covered = shot;
    covered.patches.push_back(patch);
    patch.keys[0].pitch_deg = 80;
    covered.patches.push_back(patch);
    std::vector<double> plain, with;
    for (int i = 0; i < 12; ++i) {
        plain.push_back(
            seconds_of([&] { composer.blend(composer.gather(take.project, shot, Seconds(0), view)); }));
        with.push_back(
            seconds_of([&] { composer.blend(composer.gather(take.project, covered, Seconds(0), view)); }));
    }
    const auto middle = [](std::vector<double> v) {
        std::sort(v.begin(), v.end());
        return v[v.size() / 2];
    };
    fmt::print("a frame {} wide from {} px circles, without flow: {:.0f} ms, with two patches {:.0f} ms: "
               "{:.3f} times\n",
               kSphere, size, 1000 * middle(plain), 1000 * middle(with), middle(with) / middle(plain));

    // A stroke on a large layer, point by point, each with the picture of a 1280 x 800 window that shows it.
    Project project = take.project;
    project.shots[0] = shot;
    Patch large = patch;
    large.keys[0] = {Seconds(0), 0, -90, 0, 70, 1, {}};
    large.resolution = 4096;
    large.plate = tiles_of(moment_plate(composer, project, shot, large, Seconds(0)));
    large.pixels = large.plate;
    View window;
    window.target = window_target(1280, 800, {0, -90, 0}, 85);
    for (const double size_px : {60.0, 200.0}) {
        Brush brush;
        brush.size_px = size_px;
        Stroke stroke(large.pixels, large.plate, brush, {1500, 1500}, {2000, 2000});
        Shot painted = shot;
        painted.patches.push_back(large);
        for (int i = 0; i < 3; ++i) composer.compose(project, painted, Seconds(0), window);
        std::vector<double> strokes, pictures;
        for (int i = 0; i < 40; ++i) {
            strokes.push_back(seconds_of([&] { stroke.add({Vec2(2000 + 14 * i, 2000 + 6 * i), 1}); }));
            pictures.push_back(seconds_of([&] {
                painted.patches[0].pixels = stroke.result();
                composer.compose(project, painted, Seconds(0), window);
            }));
        }
        fmt::print(
            "a brush of {:.0f} px on 4096 x 4096: {:.1f} ms a point, {:.1f} ms its picture (95 %: {:.1f} and "
            "{:.1f})\n",
            size_px, 1000 * middle(strokes), 1000 * middle(pictures),
            1000 *
                [&] {
                    auto v = strokes;
                    std::sort(v.begin(), v.end());
                    return v[v.size() * 95 / 100];
                }(),
            1000 *
                [&] {
                    auto v = pictures;
                    std::sort(v.begin(), v.end());
                    return v[v.size() * 95 / 100];
                }());
    }
}

} // namespace

int main(int argc, char** argv) {
    std::vector<unsigned> seeds{5, 6};
    std::vector<std::string> scenes{"hall", "hall-cluttered"}, rigs{"ring-of-six"};
    std::string folder = "/tmp/porb-takes", pictures;
    int size = 960;
    bool cost = false, light = false;
    CLI::App app{"What patches are worth"};
    app.add_option("--seeds", seeds)->delimiter(',');
    app.add_option("--scenes", scenes)->delimiter(',')->check(CLI::IsMember(scene_names()));
    app.add_option("--rigs", rigs)->delimiter(',');
    app.add_option("--size", size);
    app.add_option("--takes", folder, "Where footage is kept");
    app.add_option("--pictures", pictures);
    app.add_flag("--cost", cost);
    app.add_flag("--light", light);
    CLI11_PARSE(app, argc, argv);
    if (cost) {
        cost_rows(folder, size);
        return 0;
    }
    if (light) {
        for (const auto& scene : scenes)
            for (const unsigned seed : seeds) light_row(scene, seed, size, folder);
        return 0;
    }
    if (!pictures.empty()) fs::create_directories(pictures);
    fmt::print(
        "scene            rig          seed  floor     SSIM before, after  left before, after  took\n");
    for (const auto& scene : scenes)
        for (const auto& rig : rigs)
            for (const unsigned seed : seeds) removal_row(scene, rig, seed, size, folder, pictures);
}
