// What a viewer sees where lenses overlap, against the truth: ours by default and plain OpenCV's (graph-cut
// seams by colour and gradient, multiband blending) with the same true rig. Footage is made and kept in a
// folder.
//   seam_table [--seeds 1,2,3] [--rigs ring-of-six,...] [--scenes hall,...] [--pictures DIR]
#include "media/still.h"
#include "media/writer.h"
#include "scenes.h"
#include "scores.h"
#include "seams/find_lines.h"
#include "steadiness.h"
#include "stitch/compose.h"
#include "stitch/plan/coverage.h"

#include <CLI/CLI.hpp>
#include <fmt/format.h>
#include <opencv2/imgproc.hpp>
#include <opencv2/stitching/detail/blenders.hpp>
#include <opencv2/stitching/detail/seam_finders.hpp>

#include <chrono>

using namespace porb;
using namespace porb::bench;
namespace fs = std::filesystem;

namespace {

constexpr int kSeamWidth = 640; ///< seams are looked for at about 0.2 megapixels, as is usual

/// Each camera unrolled onto the panorama at the agree distance, and where it sees.
void unroll(const Take& take, int width, std::vector<cv::Mat>& pictures, std::vector<cv::Mat>& masks) {
    const Shot& shot = take.project.shots[0];
    const TargetMap target(equirect_target(width));
    const Mat3 to_rig = rotation_of(shot.levelling.orientation).transpose();
    const double agree = shot.seams.agree_distance_m > 0 ? 1 / shot.seams.agree_distance_m : 0;
    for (std::size_t c = 0; c < take.rig.cameras.size(); ++c) {
        const LensMap lens(take.rig.cameras[c].lens);
        const Mat3 to_camera = rotation_of(take.rig.cameras[c].pose.turn).transpose();
        cv::Mat u(width / 2, width, CV_32F), v(width / 2, width, CV_32F), seen(width / 2, width, CV_8U);
        for (int y = 0; y < width / 2; ++y)
            for (int x = 0; x < width; ++x) {
                const Vec3 d = to_rig * *target.direction({x + 0.5, y + 0.5});
                const Vec2 px =
                    lens.project_anywhere(to_camera * (d - agree * take.rig.cameras[c].pose.position_m));
                u.at<float>(y, x) = float(px.x() - 0.5), v.at<float>(y, x) = float(px.y() - 0.5);
                seen.at<std::uint8_t>(y, x) = lens.clearance(px) > 3 ? 255 : 0;
            }
        cv::Mat out;
        cv::remap(take.sources[c], out, u, v, cv::INTER_CUBIC, cv::BORDER_REFLECT);
        pictures.push_back(out);
        masks.push_back(seen);
    }
}

/// The plain way: seams by graph cut at a small size, multiband blending at the whole.
cv::Mat plain_blend(const std::vector<cv::Mat>& pictures, const std::vector<cv::Mat>& masks) {
    std::vector<cv::UMat> small, small_masks;
    std::vector<cv::Point> corners(pictures.size(), cv::Point(0, 0));
    for (std::size_t i = 0; i < pictures.size(); ++i) {
        cv::Mat s, f, m;
        cv::resize(pictures[i], s, cv::Size(kSeamWidth, kSeamWidth / 2), 0, 0, cv::INTER_AREA);
        s.convertTo(f, CV_32F);
        cv::resize(masks[i], m, s.size(), 0, 0, cv::INTER_NEAREST);
        small.push_back(f.getUMat(cv::ACCESS_READ).clone());
        small_masks.push_back(m.getUMat(cv::ACCESS_RW).clone());
    }
    cv::detail::GraphCutSeamFinder(cv::detail::GraphCutSeamFinderBase::COST_COLOR_GRAD)
        .find(small, corners, small_masks);
    cv::detail::MultiBandBlender blender(false, 5);
    blender.prepare(cv::Rect(0, 0, pictures[0].cols, pictures[0].rows));
    for (std::size_t i = 0; i < pictures.size(); ++i) {
        cv::Mat grown, mask, shorts;
        cv::dilate(small_masks[i], grown, cv::Mat());
        cv::resize(grown, mask, pictures[i].size(), 0, 0, cv::INTER_LINEAR_EXACT);
        mask &= masks[i];
        pictures[i].convertTo(shorts, CV_16S);
        blender.feed(shorts, mask, corners[i]);
    }
    cv::Mat out, where, bytes;
    blender.blend(out, where);
    out.convertTo(bytes, CV_8U);
    return bytes;
}

double seconds_of(const std::function<void()>& work) {
    std::vector<double> times;
    for (int i = 0; i < 5; ++i) {
        const auto begun = std::chrono::steady_clock::now();
        work();
        times.push_back(std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count());
    }
    std::sort(times.begin(), times.end());
    return times[times.size() / 2];
}

/// One frame from decoded pictures, everything that does not depend on it made before: ours with flow and
/// without, and the plain way with its seams and maps ready.
void print_times(const Take& take, int width) {
    Shot shot = take.project.shots[0];
    Composer composer(std::make_shared<MediaLibrary>(2000u << 20));
    View view;
    view.target = equirect_target(width);
    const auto frame = [&](bool flow, Blending kind) {
        shot.seams.flow.on = flow;
        shot.seams.blend.kind = kind;
        composer.compose(take.project, shot, Seconds(0), view);
        return seconds_of([&] { composer.compose(take.project, shot, Seconds(0), view); });
    };
    const double feathered = frame(false, Blending::feathered), multiband = frame(false, Blending::multiband),
                 with_flow = frame(true, Blending::feathered), all = frame(true, Blending::multiband);
    shot.seams.flow.on = true;
    PlanKey key = for_every_view(plan_key(shot, view));
    const SeamZones zones(key);
    const auto looked = composer.source_frames(take.project, shot, Seconds(0), zones.cameras());
    const auto sources = as_sources(looked->sources);
    const auto matched = zones.match_moment(sources, looked->tones, shot.seams.flow);
    const double matching = seconds_of([&] { zones.match_moment(sources, looked->tones, shot.seams.flow); });
    const std::vector<SeamZones::Weighed> moments(support_frames_of(Seconds(10), FrameRate(24)).size(),
                                                  {matched});
    const double field = seconds_of([&] {
        if (shot.seams.flow.fine_edges)
            zones.fine(moments, shot.seams.flow);
        else
            zones.field(moments, shot.seams.flow);
    });
    const TargetMap target(equirect_target(width));
    std::vector<cv::Mat> places, fractions, masks;
    for (const Camera& c : take.rig.cameras) {
        const LensMap lens(c.lens);
        const Mat3 to_camera = rotation_of(c.pose.turn).transpose();
        cv::Mat uv(width / 2, width, CV_32FC2), seen(width / 2, width, CV_8U), a, b;
        for (int y = 0; y < width / 2; ++y)
            for (int x = 0; x < width; ++x) {
                const Vec2 px = lens.project_anywhere(to_camera * *target.direction({x + 0.5, y + 0.5}));
                uv.at<cv::Vec2f>(y, x) = {float(px.x() - 0.5), float(px.y() - 0.5)};
                seen.at<std::uint8_t>(y, x) = lens.clearance(px) > 3 ? 255 : 0;
            }
        cv::convertMaps(uv, cv::Mat(), a, b, CV_16SC2);
        places.push_back(a), fractions.push_back(b), masks.push_back(seen);
    }
    const double plain = seconds_of([&] {
        cv::detail::MultiBandBlender blender(false, 5);
        blender.prepare(cv::Rect(0, 0, width, width / 2));
        for (std::size_t i = 0; i < masks.size(); ++i) {
            cv::Mat out, shorts;
            cv::remap(take.sources[i], out, places[i], fractions[i], cv::INTER_CUBIC, cv::BORDER_CONSTANT);
            out.convertTo(shorts, CV_16S);
            blender.feed(shorts, masks[i], cv::Point(0, 0));
        }
        cv::Mat out, where;
        blender.blend(out, where);
    });
    fmt::print(
        "{} lenses of {} px into {} x {}, ms a frame from decoded pictures: feathered {:.0f}, multiband "
        "{:.0f}, "
        "flow {:.0f} and for its distances {:.0f} matching and {:.0f} over time, flow and multiband {:.0f}; "
        "OpenCV remap and multiband {:.0f}\n",
        take.rig.cameras.size(), take.rig.cameras[0].lens.width, width, width / 2, 1000 * feathered,
        1000 * multiband, 1000 * with_flow, 1000 * matching, 1000 * field, 1000 * all, 1000 * plain);
}

void print_stability(const fs::path& file, int width, int first, int frames) {
    const Project project = load_project(file);
    Composer composer(std::make_shared<MediaLibrary>(500u << 20));
    View view;
    view.target = equirect_target(width);
    const Change c = change_of(project, project.shots.at(0), composer, view, first, frames);
    fmt::print(
        "{}: where nothing moves near seams, frames differ by {:.3f} grey levels without flow, {:.3f} with: "
        "{:.2f} times\n",
        file.filename().string(), c.without, c.with, c.with / c.without);
}

} // namespace

int main(int argc, char** argv) {
    quiet_media_libraries();
    std::vector<unsigned> seeds = {1, 2, 3};
    std::vector<std::string> rigs = {"two-fisheyes", "ring-of-four", "ring-of-six", "dome-of-five"},
                             scenes = {"hall-distant", "hall", "hall-visited", "hall-cluttered",
                                       "hall-scattered"};
    int size = 480, width = 0;
    double agree = 4, feather = 0, zone = 0;
    bool flow = false, no_flow = false, everywhere = false, fine_edges = false, lines = false,
         render_only = false, timing = false;
    std::string blending;
    std::string folder = (fs::temp_directory_path() / "pale-orbit-seam-table").string(), pictures, project;
    int first = 0, frames = 8;
    bool steady = false;
    CLI::App app("Stitches made-up scenes and compares them with the truth, beside plain OpenCV");
    app.add_option("--seeds", seeds)->delimiter(',');
    app.add_option("--rigs", rigs)->delimiter(',')->check(CLI::IsMember(sim::rigs_by_name()));
    app.add_option("--scenes", scenes)->delimiter(',')->check(CLI::IsMember(scene_names()));
    app.add_option("--size", size, "Pixels a side of a circle's square");
    app.add_option("--width", width, "Of the panoramas; 0: about as dense as the lenses' pictures");
    app.add_option("--agree", agree, "Metres, for both ways; 0: infinitely far");
    app.add_option("--folder", folder, "Where footage is kept for the next time");
    app.add_option(
        "--pictures", pictures,
        "Where to put what was made, for looking at: what counts as doubled is red in ours, blue in "
        "the plain way's");
    app.add_option("--feather", feather, "Degrees, for ours, whatever the default");
    app.add_option("--zone", zone, "Degrees of flow's zone, whatever the default");
    app.add_flag("--flow", flow, "Flow on, whatever the default");
    app.add_flag("--everywhere", everywhere, "Flow wherever two cameras see, whatever the default");
    app.add_flag("--fine-edges", fine_edges, "With fine edges, whatever the default");
    app.add_flag("--lines", lines, "Lines found in the picture, instead of those half-way between reaches");
    app.add_flag("--no-flow", no_flow, "Flow off, whatever the default");
    app.add_option("--blending", blending, "hard, feathered or multiband, whatever the default");
    app.add_option("--stability", project, "Instead: how steady this project's frames are with flow");
    app.add_option("--frames", frames, "Of that project");
    app.add_option("--first", first, "Of those frames");
    app.add_flag("--steady", steady,
                 "Say also how much frames differ from the next with flow, against without it");
    app.add_flag("--timing", timing, "Say how long a frame takes instead");
    app.add_flag("--render-only", render_only, "Make the footage for the next time");
    CLI11_PARSE(app, argc, argv);
    if (width <= 0) width = project.empty() ? int(1.8 * size / 16) * 16 : 1280;
    if (!project.empty()) {
        print_stability(project, width, first, frames);
        return 0;
    }
    fmt::print("{:<15}{:<15}{:>5}  {:>9} {:>9}  {:>9} {:>9}{}\n", "rig", "scene", "seed", "ssim", "doubled",
               "opencv", "doubled", steady ? "   steady" : "");
    int more_alike = 0, less_doubled = 0, runs = 0;
    double unsteadiest = 0;
    for (const auto& rig : rigs)
        for (const auto& scene : scenes)
            for (const unsigned seed : seeds) {
                const sim::SimOptions o = options_of(scene, rig, seed, size);
                const fs::path kept = fs::path(folder) / fmt::format("{}-{}-{}-{}", rig, scene, seed, size);
                Take take = make_take(o, frame_of(scene, seed), width, kept);
                if (render_only) continue;
                Shot& shot = take.project.shots[0];
                shot.seams.agree_distance_m = o.distant ? 0 : agree;
                if (feather > 0)
                    for (ShotCamera& c : shot.cameras) c.feather_deg = feather;
                if (zone > 0) shot.seams.flow.zone_deg = zone;
                if (flow) shot.seams.flow.on = true;
                if (no_flow) shot.seams.flow.on = false;
                shot.seams.flow.everywhere = everywhere;
                shot.seams.flow.fine_edges = fine_edges;
                if (!blending.empty())
                    shot.seams.blend.kind = blending == "hard"        ? Blending::hard
                                            : blending == "multiband" ? Blending::multiband
                                                                      : Blending::feathered;
                if (timing) {
                    print_times(take, width);
                    continue;
                }
                std::vector<cv::Mat> unrolled, masks;
                unroll(take, width, unrolled, masks);
                cv::Mat count = cv::Mat::zeros(width / 2, width, CV_8U);
                for (const auto& m : masks) count += m / 255;
                cv::Mat overlap = count >= 2;
                cv::erode(overlap, overlap, cv::getStructuringElement(cv::MORPH_RECT, cv::Size(9, 9)));
                // The plain way does not know that the map's sides meet; that is not held against it.
                overlap.colRange(0, width / 72).setTo(0);
                overlap.colRange(width - width / 72, width).setTo(0);
                Composer composer(std::make_shared<MediaLibrary>());
                View view;
                view.target = equirect_target(width);
                if (lines)
                    shot.seams.seam_lines = find_lines(take.project, shot, composer, {}, [](double) {}, {});
                const cv::Mat ours = bytes_of(composer.compose(take.project, shot, Seconds(0), view));
                const cv::Mat theirs = plain_blend(unrolled, masks);
                const cv::Mat truth = cube_sides(take.truth, cv::INTER_CUBIC),
                              where = cube_sides(overlap, cv::INTER_NEAREST);
                const Score a = score(cube_sides(ours, cv::INTER_CUBIC), truth, where),
                            b = score(cube_sides(theirs, cv::INTER_CUBIC), truth, where);
                ++runs;
                more_alike += a.ssim > b.ssim;
                less_doubled += a.doubled <= b.doubled;
                std::string steadily;
                if (steady) {
                    View all;
                    all.target = equirect_target(width);
                    const double ratio = steadiness(take, all, kept);
                    unsteadiest = std::max(unsteadiest, ratio);
                    steadily = fmt::format("  {:>7.2f}", ratio);
                }
                fmt::print("{:<15}{:<15}{:>5}  {:>9.4f} {:>8.2f}%  {:>9.4f} {:>8.2f}%{}{}\n", rig, scene,
                           seed, a.ssim, a.doubled, b.ssim, b.doubled, steadily,
                           a.ssim > b.ssim && a.doubled <= b.doubled ? "" : "  <");
                std::fflush(stdout);
                if (!pictures.empty()) {
                    fs::create_directories(pictures);
                    const auto keep = [&](const char* what, const cv::Mat& m) {
                        write_still(picture_of(m), fs::path(pictures) / fmt::format("{}-{}-{}-{}.png", rig,
                                                                                    scene, seed, what));
                    };
                    keep("ours", ours);
                    keep("plain", theirs);
                    keep("truth", take.truth);
                    cv::Mat marks = truth / 2;
                    marks.setTo(cv::Scalar(255, 128, 0), b.where);
                    marks.setTo(cv::Scalar(0, 0, 255), a.where);
                    keep("marks", marks); // red: ours, blue: plain
                }
            }
    if (runs > 0)
        fmt::print("of {}: more like the truth {}, no more doubled {}\n", runs, more_alike, less_doubled);
    if (steady) fmt::print("least steady: {:.2f} times\n", unsteadiest);
    return 0;
}
