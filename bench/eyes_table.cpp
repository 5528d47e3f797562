// What eyes drawn from distances are worth against the truth. Footage is made and kept in a folder.
//   eyes_table [--seeds 5,6] [--rigs ring-of-six,...] [--scenes hall,...] [--size 480] [--fine-edges]
//   [--ipd 0.064] [--pose-error DEG] [--steady] [--pictures DIR]
// Things on the sphere that both eyes see: how far the drawn pictures show them from where the true ones do.
// Vertical disparity is what that differs by between eyes across the horizon, horizontal disparity's error
// what it differs by along it.
#include "scenes.h"
#include "scores.h"
#include "steadiness.h"

#include "base/angle.h"
#include "base/parallel.h"
#include "media/still.h"
#include "stitch/compose.h"
#include "stitch/plan/coverage.h"

#include <CLI/CLI.hpp>
#include <fmt/format.h>
#include <opencv2/imgproc.hpp>
#include <opencv2/video/tracking.hpp>

#include <chrono>
#include <mutex>

using namespace porb;
using namespace porb::bench;
namespace fs = std::filesystem;

namespace {

constexpr double kHighest_deg = 60; ///< of what is measured, from the horizon
constexpr double kPx_deg = 360.0 / 3840;
constexpr int kPatch = 41, kWindow = 15; ///< pixels of the panorama's horizon
constexpr double kApart_deg = 3;         ///< from one place to the next

/// Where a thing is shown, by direction and inverse distance from the centre, to an eye that does not
/// converge: on the ray through it that touches the circle.
Vec3 shown_to(const EyeRays& rays, const Vec3& direction, double inverse_m) {
    const Vec3 at = direction / std::max(inverse_m, 1e-6);
    Vec3 looks = direction;
    for (int round = 0; round < 8; ++round) looks = (at - rays.origin_m(looks)).normalized();
    return rays.shown(looks);
}

/// A flat patch of a panorama about a direction, upright, as dense as its horizon.
cv::Mat patch(const cv::Mat& panorama, const Vec3& middle) {
    const Vec3 east = Vec3(middle.z(), 0, -middle.x()).normalized(), down = middle.cross(east);
    const double step = 2 * kPi / panorama.cols;
    cv::Mat u(kPatch, kPatch, CV_32F), v(kPatch, kPatch, CV_32F), out;
    for (int j = 0; j < kPatch; ++j)
        for (int i = 0; i < kPatch; ++i) {
            const Vec3 d = middle + step * ((i - kPatch / 2) * east + (j - kPatch / 2) * down);
            u.at<float>(j, i) = float((std::atan2(d.x(), d.z()) / (2 * kPi) + 0.5) * panorama.cols - 0.5);
            v.at<float>(j, i) = float((0.5 + std::asin(d.y() / d.norm()) / kPi) * panorama.rows - 0.5);
        }
    cv::remap(panorama, out, u, v, cv::INTER_CUBIC, cv::BORDER_WRAP);
    return out;
}

/// By how much `made` shows what `truth` has in its middle elsewhere, pixels; nothing where that cannot be
/// told.
std::optional<Vec2> displaced(const cv::Mat& truth, const cv::Mat& made) {
    const std::vector<cv::Point2f> from{{kPatch / 2, kPatch / 2}};
    std::vector<cv::Point2f> to, back;
    std::vector<uchar> found, found_back;
    std::vector<float> error;
    const cv::Size window(kWindow, kWindow);
    const cv::TermCriteria until(cv::TermCriteria::COUNT + cv::TermCriteria::EPS, 40, 0.002);
    cv::calcOpticalFlowPyrLK(truth, made, from, to, found, error, window, 1, until, 0, 2e-3);
    if (!found[0] || error[0] > 12) return std::nullopt;
    cv::calcOpticalFlowPyrLK(made, truth, to, back, found_back, error, window, 1, until, 0, 2e-3);
    if (!found_back[0] || std::hypot(back[0].x - from[0].x, back[0].y - from[0].y) > 0.3) return std::nullopt;
    return Vec2(to[0].x - from[0].x, to[0].y - from[0].y);
}

struct Figures {
    double mean = 0, median = 0, p95 = 0;
};
Figures figures_of(std::vector<double> v) {
    if (v.empty()) return {};
    std::sort(v.begin(), v.end());
    double sum = 0;
    for (const double x : v) sum += x;
    return {sum / double(v.size()), v[v.size() / 2], v[v.size() * 95 / 100]};
}

struct Disparities {
    Figures vertical_px, horizontal_deg; ///< absolute; pixels at 3840
    double told = 0;                     ///< share of places at which they could be
};
Disparities disparities(const cv::Mat (&made)[2], const cv::Mat (&truth)[2], const EyeRays (&rays)[2],
                        const cv::Mat& inverse) {
    cv::Mat grey_made[2], grey_truth[2];
    for (int e = 0; e < 2; ++e) {
        cv::cvtColor(made[e], grey_made[e], cv::COLOR_BGR2GRAY);
        cv::cvtColor(truth[e], grey_truth[e], cv::COLOR_BGR2GRAY);
    }
    std::vector<Vec3> places;
    for (double lat = -kHighest_deg; lat <= kHighest_deg; lat += kApart_deg)
        for (double lon = -180; lon < 180; lon += kApart_deg / std::cos(radians(lat)))
            places.push_back({std::cos(radians(lat)) * std::sin(radians(lon)), -std::sin(radians(lat)),
                              std::cos(radians(lat)) * std::cos(radians(lon))});
    std::vector<double> vertical, horizontal;
    std::mutex lock;
    int tried = 0;
    parallel_ranges(int(places.size()), 16, [&](int begin, int end) {
        for (int i = begin; i < end; ++i) {
            const Vec3& d = places[std::size_t(i)];
            const int x = std::clamp(int((std::atan2(d.x(), d.z()) / (2 * kPi) + 0.5) * inverse.cols), 0,
                                     inverse.cols - 1),
                      y = std::clamp(int((0.5 + std::asin(d.y()) / kPi) * inverse.rows), 0, inverse.rows - 1);
            const double rho = double(inverse.at<float>(y, x));
            std::optional<Vec2> off[2];
            bool textured = true;
            for (int e = 0; e < 2 && textured; ++e) {
                const Vec3 shown = shown_to(rays[e], d, rho);
                const cv::Mat there = patch(grey_truth[e], shown);
                textured = displaced(there, there).has_value(); // else nothing can be told by anyone
                if (textured) off[e] = displaced(there, patch(grey_made[e], shown));
            }
            if (!textured) continue;
            const std::lock_guard hold(lock);
            ++tried;
            if (!off[0] || !off[1]) continue;
            const double pixel_deg = 360.0 / inverse.cols;
            vertical.push_back(std::abs(off[1]->y() - off[0]->y()) * pixel_deg / kPx_deg);
            horizontal.push_back(std::abs(off[1]->x() - off[0]->x()) * pixel_deg);
        }
    });
    return {figures_of(vertical), figures_of(horizontal), double(vertical.size()) / std::max(1, tried)};
}

cv::Mat overlap_of(const Shot& shot, int width) {
    View view;
    view.target = equirect_target(width);
    const Coverage coverage(plan_key(shot, view));
    const TargetMap target(view.target);
    cv::Mat out = cv::Mat::zeros(width / 2, width, CV_8U);
    for (int y = 0; y < width / 2; ++y)
        for (int x = 0; x < width; ++x) {
            auto inside = coverage.lead_deg(*target.direction({x + 0.5, y + 0.5}));
            std::sort(inside.rbegin(), inside.rend());
            if (inside.size() >= 2 && inside[1] >= 2) out.at<std::uint8_t>(y, x) = 255;
        }
    return cube_sides(out, cv::INTER_NEAREST);
}

} // namespace

int main(int argc, char** argv) {
    quiet_media_libraries();
    std::vector<unsigned> seeds = {5, 6};
    std::vector<std::string> rigs = {"ring-of-six"}, scenes = {"hall", "hall-cluttered", "hall-scattered"};
    int size = 480, width = 0;
    double agree = 4, ipd = 0.064, pose_error_deg = 0;
    bool fine_edges = false, steady = false;
    std::string folder = (fs::temp_directory_path() / "pale-orbit-seam-table").string(), pictures;
    CLI::App app("Judges eyes drawn from distances against the truth");
    app.add_option("--seeds", seeds)->delimiter(',');
    app.add_option("--rigs", rigs)->delimiter(',')->check(CLI::IsMember(sim::rigs_by_name()));
    app.add_option("--scenes", scenes)->delimiter(',')->check(CLI::IsMember(scene_names()));
    app.add_option("--size", size, "Pixels a side of a circle's square");
    app.add_option("--width", width, "Of the panoramas; 0: about as dense as the lenses' pictures");
    app.add_option("--agree", agree, "Metres; 0: infinitely far");
    app.add_option("--ipd", ipd, "Interpupillary distance of what is drawn and of the truth, metres");
    app.add_option("--pose-error", pose_error_deg,
                   "Degrees, by which the rig is wrong about each camera (sigma)");
    app.add_option("--folder", folder, "Where footage is kept for the next time");
    app.add_option("--pictures", pictures, "Where to put what was made, for looking at");
    app.add_flag("--fine-edges", fine_edges, "Fine distances, and what is hidden drawn from who sees it");
    app.add_flag("--steady", steady,
                 "How much frames of a take with noise differ, against eyes at one distance");
    CLI11_PARSE(app, argc, argv);
    if (width <= 0) width = int(1.8 * size / 16) * 16;
    fmt::print("{:<14}{:<15}{:>5} {:>6}  {:>8} {:>8} {:>8} {:>9}  {:>9} {:>8}  {:>10} {:>8}  {:>6}  {:>8} "
               "{:>8}  {:>7} {:>7}\n",
               "rig", "scene", "seed", "size", "mono", "left", "right", "not drawn", "vert mean", "95 %",
               "horiz med", "95 %", "told", "by noise", "95 %", "mono s", "eyes s");
    for (const auto& rig : rigs)
        for (const auto& scene : scenes)
            for (const unsigned seed : seeds) {
                sim::SimOptions o = options_of(scene, rig, seed, size);
                o.truth_ipd_m = ipd;
                const fs::path kept = fs::path(folder) / fmt::format("{}-{}-{}-{}", rig, scene, seed, size);
                const fs::path kept_eyes = ipd == 0.064 ? kept : kept / fmt::format("ipd{}", ipd);
                Take take = make_take(o, frame_of(scene, seed), width, kept);
                const cv::Mat inverse = true_inverse(o, frame_of(scene, seed), width, kept);
                const TrueEyes eyes = true_eyes(o, frame_of(scene, seed), width, kept_eyes);
                Shot& shot = take.project.shots[0];
                shot.seams.agree_distance_m = o.distant ? 0 : agree;
                shot.seams.flow.on = shot.seams.flow.everywhere = true;
                shot.seams.flow.fine_edges = fine_edges;
                shot.stereo.from = EyesFrom::distances;
                shot.stereo.ipd_m = ipd;
                cv::RNG chance(seed);
                for (Camera& c : shot.rig.cameras)
                    for (double* v : {&c.pose.turn.yaw_deg, &c.pose.turn.pitch_deg, &c.pose.turn.roll_deg})
                        *v += chance.gaussian(pose_error_deg);
                Composer composer(std::make_shared<MediaLibrary>());
                View view;
                view.target = equirect_target(width);
                const auto begin = std::chrono::steady_clock::now();
                const cv::Mat mono = bytes_of(composer.compose(take.project, shot, Seconds(0), view));
                const auto between = std::chrono::steady_clock::now();
                cv::Mat made[2], plain[2];
                const cv::Mat truth[2] = {eyes.left, eyes.right};
                EyeRays rays[2];
                for (int e = 0; e < 2; ++e) {
                    view.eye = e == 0 ? Eye::left : Eye::right;
                    rays[e] = eye_rays_of(shot, view.eye, Seconds(0));
                    made[e] = bytes_of(composer.compose(take.project, shot, Seconds(0), view));
                }
                const auto end = std::chrono::steady_clock::now();
                Shot not_drawn = shot;
                not_drawn.seams.flow.on = false;
                for (int e = 0; e < 2; ++e) {
                    view.eye = e == 0 ? Eye::left : Eye::right;
                    plain[e] = bytes_of(composer.compose(take.project, not_drawn, Seconds(0), view));
                }
                const cv::Mat overlap = overlap_of(shot, width);
                const auto like = [&](const cv::Mat& a, const cv::Mat& b) {
                    return ssim(grey(cube_sides(a, cv::INTER_CUBIC)), grey(cube_sides(b, cv::INTER_CUBIC)),
                                overlap);
                };
                const Disparities d = disparities(made, truth, rays, inverse);
                cv::Mat noisy[2]; // what perfect pictures of as noisy footage would have
                for (int e = 0; e < 2; ++e) {
                    cv::Mat noise(truth[e].size(), CV_16SC3), wide;
                    cv::RNG(7 + unsigned(e)).fill(noise, cv::RNG::NORMAL, 0, 2);
                    truth[e].convertTo(wide, CV_16SC3);
                    wide += noise;
                    wide.convertTo(noisy[e], CV_8UC3);
                }
                const Disparities least = disparities(noisy, truth, rays, inverse);
                const auto seconds = [](auto a, auto b) {
                    return std::chrono::duration<double>(b - a).count();
                };
                fmt::print(
                    "{:<14}{:<15}{:>5} {:>6}  {:>8.4f} {:>8.4f} {:>8.4f} {:>9.4f}  {:>6.3f} px {:>5.3f} px  "
                    "{:>6.4f} deg {:>4.3f} deg  {:>5.1f}%  {:>5.3f} px {:>5.3f} px  {:>7.2f} {:>7.2f}\n",
                    rig, scene, seed, size, like(mono, take.truth), like(made[0], truth[0]),
                    like(made[1], truth[1]), (like(plain[0], truth[0]) + like(plain[1], truth[1])) / 2,
                    d.vertical_px.mean, d.vertical_px.p95, d.horizontal_deg.median, d.horizontal_deg.p95,
                    100 * d.told, least.vertical_px.mean, least.vertical_px.p95, seconds(begin, between),
                    seconds(between, end));
                for (const Eye eye : {Eye::left, Eye::right}) {
                    if (!steady) break;
                    view.eye = eye;
                    fmt::print("    {} eye: frames differ {:.2f} times as much as without flow\n",
                               eye == Eye::left ? "left" : "right", steadiness(take, view, kept));
                }
                std::fflush(stdout);
                if (pictures.empty()) continue;
                fs::create_directories(pictures);
                const auto keep = [&](const char* what, const cv::Mat& m) {
                    write_still(picture_of(m),
                                fs::path(pictures) / fmt::format("{}-{}-{}-{}.png", rig, scene, seed, what));
                };
                keep("left", made[0]);
                keep("right", made[1]);
                keep("true-left", truth[0]);
                keep("true-right", truth[1]);
            }
    return 0;
}
