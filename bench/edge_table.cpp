// What distances are worth against the truth: how far they are off, and how pictures drawn by them look
// beside outlines of near things and over whole overlaps. Footage is made and kept in a folder.
//   edge_table [--fine-edges] [--true-field SIDE] [--seeds 1,2] [--rigs ring-of-six,...] [--scenes hall,...]
//   [--size 480] [--everywhere]
//   [--pictures DIR]
#include "scenes.h"
#include "scores.h"

#include "base/angle.h"
#include "base/best_two.h"
#include "base/parallel.h"
#include "media/still.h"
#include "seams/tears.h"
#include "stitch/compose.h"
#include "stitch/plan/coverage.h"

#include <CLI/CLI.hpp>
#include <fmt/format.h>
#include <opencv2/imgproc.hpp>

using namespace porb;
using namespace porb::bench;
namespace fs = std::filesystem;

namespace {

constexpr double kNear_deg = 9; ///< of a seam, as a difference of what lies inside two reaches
constexpr int kBeside = 4;      ///< pixels
constexpr int kTearWidth = 3840;

/// Where two lenses see, and where a seam is near.
struct Masks {
    cv::Mat overlap, seams;
};
Masks masks_of(const Shot& shot, int width) {
    View view;
    view.target = equirect_target(width);
    const Coverage coverage(plan_key(shot, view));
    const TargetMap target(view.target);
    Masks out{cv::Mat::zeros(width / 2, width, CV_8U), cv::Mat::zeros(width / 2, width, CV_8U)};
    for (int y = 0; y < width / 2; ++y)
        for (int x = 0; x < width; ++x) {
            auto inside = coverage.lead_deg(*target.direction({x + 0.5, y + 0.5}));
            std::sort(inside.rbegin(), inside.rend());
            if (inside.size() < 2 || inside[1] < 2) continue;
            out.overlap.at<std::uint8_t>(y, x) = 255;
            if (inside[0] - inside[1] < kNear_deg) out.seams.at<std::uint8_t>(y, x) = 255;
        }
    return out;
}

/// What is judged of cube_sides(): each side without what goes on beside it.
cv::Mat inner_of(const cv::Mat& sides) {
    cv::Mat out = cv::Mat::zeros(sides.size(), CV_8U);
    const int side = sides.rows;
    for (int s = 0; s < 6; ++s)
        out(cv::Rect(s * side + kShift, kShift, side - 2 * kShift, side - 2 * kShift)).setTo(255);
    return out;
}

/// The field's distances by pixel of the panorama.
cv::Mat read_field(const SphereGrid& field, const Shot& shot, int width) {
    const TargetMap target(equirect_target(width));
    const Mat3 to_rig = rotation_of(shot.levelling.orientation).transpose();
    cv::Mat out(width / 2, width, CV_32F);
    for (int y = 0; y < out.rows; ++y)
        for (int x = 0; x < width; ++x)
            out.at<float>(y, x) = float(field.at(to_rig * *target.direction({x + 0.5, y + 0.5})));
    return out;
}
/// Inverse distances as grey: white at 0.7 m.
cv::Mat shades(const cv::Mat& inverse_m) {
    cv::Mat bytes, out;
    inverse_m.convertTo(bytes, CV_8U, 255 * 0.7);
    cv::cvtColor(bytes, out, cv::COLOR_GRAY2BGR);
    return out;
}

struct DistanceErrors {
    double median = 0, wrong = 0; ///< 1/m; percent off by more than 0.05 1/m
};
DistanceErrors errors_of(const cv::Mat& found, const cv::Mat& truth, const cv::Mat& mask) {
    std::vector<float> off;
    for (int y = 0; y < truth.rows; ++y)
        for (int x = 0; x < truth.cols; ++x)
            if (mask.at<std::uint8_t>(y, x))
                off.push_back(std::abs(found.at<float>(y, x) - truth.at<float>(y, x)));
    if (off.empty()) return {};
    const auto wrong = std::count_if(off.begin(), off.end(), [](float v) { return v > 0.05f; });
    std::nth_element(off.begin(), off.begin() + std::ptrdiff_t(off.size() / 2), off.end());
    return {double(off[off.size() / 2]), 100.0 * double(wrong) / double(off.size())};
}

/// Places that both of the two best lenses see: a lens does not see what something near hides from it.
cv::Mat seen_by_two(const sim::SimOptions& o, std::int64_t frame, const Shot& shot, const cv::Mat& inverse) {
    constexpr double kAsFar = 0.98, kAsFar_m = 0.005; // less is another thing, not what leans
    sim::Hall hall(o.things, o.things_seed);
    hall.set_time(double(frame) / o.rate.to_double());
    const double scale = o.distant ? 1000 : 1;
    View view;
    view.target = equirect_target(inverse.cols);
    const Coverage coverage(plan_key(shot, view));
    const TargetMap target(view.target);
    const Mat3 turn = rotation_of(shot.levelling.orientation);
    cv::Mat out = cv::Mat::zeros(inverse.size(), CV_8U);
    parallel_ranges(inverse.rows, 8, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < inverse.cols; ++x) {
                const Vec3 d = *target.direction({x + 0.5, y + 0.5});
                const auto inside = coverage.lead_deg(d);
                BestTwo two;
                for (int c = 0; c < int(inside.size()); ++c) two.offer(c, inside[std::size_t(c)]);
                const Vec3 there = turn.transpose() * d / double(inverse.at<float>(y, x));
                const auto sees = [&](int c) {
                    if (c < 0) return false;
                    const Vec3 pupil = shot.rig.cameras[std::size_t(c)].pose.position_m, ray = there - pupil;
                    const float far = hall.depth((turn * pupil).cast<float>() / float(scale),
                                                 (turn * ray.normalized()).cast<float>());
                    return scale * double(far) > kAsFar * ray.norm() - kAsFar_m;
                };
                if (sees(two.best) && sees(two.second)) out.at<std::uint8_t>(y, x) = 255;
            }
    });
    return out;
}

/// The field that perfect matching would find.
DistanceField true_field(const sim::SimOptions& o, std::int64_t frame, const Shot& shot, int side,
                         bool hides) {
    sim::Hall hall(o.things, o.things_seed);
    hall.set_time(double(frame) / o.rate.to_double());
    SphereGrid out(side, 2, 1);
    const Mat3 turn = rotation_of(shot.levelling.orientation);
    parallel_ranges(side, 8, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < side; ++x)
                out.cell(x, y)[0] =
                    (o.distant ? 1e-3f : 1.0f) /
                    hall.depth(sim::Vec3f::Zero(), (turn * out.direction(x, y)).cast<float>());
    });
    out.close_edges();
    if (!hides) return {out, {}, {}, {}};
    std::vector<Viewpoint> viewpoints;
    for (std::size_t c = 0; c < shot.cameras.size(); ++c)
        viewpoints.push_back({c, shot.rig.cameras[c].pose.position_m});
    double focal_px = 1;
    for (const Camera& c : shot.rig.cameras) focal_px = std::max(focal_px, c.lens.focal_px);
    const double soft_cells = side / kPi / focal_px;
    auto hidden = hidden_cameras(out, viewpoints, {}, soft_cells);
    auto silhouettes = silhouettes_of(out, hidden, {}, soft_cells);
    auto outlines = outline_blocks(out.side, hidden, silhouettes);
    return {std::move(out), std::move(hidden), std::move(silhouettes), std::move(outlines)};
}

} // namespace

int main(int argc, char** argv) {
    quiet_media_libraries();
    std::vector<unsigned> seeds = {1, 2};
    std::vector<std::string> rigs = {"ring-of-six"}, scenes = {"hall", "hall-cluttered", "hall-scattered"};
    int size = 480, width = 0, true_side = 0;
    double agree = 4;
    bool everywhere = false, no_flow = false, fine_edges = false;
    std::string folder = (fs::temp_directory_path() / "pale-orbit-seam-table").string(), pictures;
    CLI::App app("Judges distances and what is drawn by them against the truth");
    app.add_option("--seeds", seeds)->delimiter(',');
    app.add_option("--rigs", rigs)->delimiter(',')->check(CLI::IsMember(sim::rigs_by_name()));
    app.add_option("--scenes", scenes)->delimiter(',')->check(CLI::IsMember(scene_names()));
    app.add_option("--size", size, "Pixels a side of a circle's square");
    app.add_option("--width", width, "Of the panoramas; 0: about as dense as the lenses' pictures");
    app.add_option("--agree", agree, "Metres; 0: infinitely far");
    app.add_option("--folder", folder, "Where footage is kept for the next time");
    app.add_option("--pictures", pictures, "Where to put what was made, for looking at");
    app.add_flag("--everywhere", everywhere, "Distances wherever two cameras see");
    app.add_option("--true-field", true_side, "Drawn by true distances instead, on a grid of that side");
    app.add_flag("--fine-edges", fine_edges, "Fine distances, and what is hidden drawn from who sees it");
    app.add_flag("--no-flow", no_flow, "Without distances");
    CLI11_PARSE(app, argc, argv);
    if (width <= 0) width = int(1.8 * size / 16) * 16;
    fmt::print(
        "{:<14}{:<15}{:>5} {:>6}  {:>9} {:>8} {:>8} {:>8}  {:>8}  {:>9} {:>7} {:>7}  {:>8} {:>7}  {:>7}\n",
        "rig", "scene", "seed", "size", "rms edges", "ragged", "truth", "outlines", "ssim all", "1/m off",
        "wrong", "both", "at edges", "wrong", "torn");
    for (const auto& rig : rigs)
        for (const auto& scene : scenes)
            for (const unsigned seed : seeds) {
                const sim::SimOptions o = options_of(scene, rig, seed, size);
                const fs::path kept = fs::path(folder) / fmt::format("{}-{}-{}-{}", rig, scene, seed, size);
                Take take = make_take(o, frame_of(scene, seed), width, kept);
                const cv::Mat inverse = true_inverse(o, frame_of(scene, seed), width, kept);
                Shot& shot = take.project.shots[0];
                shot.seams.agree_distance_m = o.distant ? 0 : agree;
                shot.seams.flow.everywhere = everywhere;
                shot.seams.flow.on = !no_flow;
                shot.seams.flow.fine_edges = fine_edges;
                Composer composer(std::make_shared<MediaLibrary>());
                View view;
                view.target = equirect_target(width);
                Composer::Gathered gathered = composer.gather(take.project, shot, Seconds(0), view);
                if (true_side > 0)
                    gathered.distances = std::make_shared<const DistanceField>(
                        true_field(o, frame_of(scene, seed), shot, true_side, fine_edges));
                const cv::Mat made = bytes_of(composer.blend(gathered));
                // As a viewer sees them, all about.
                Masks masks = masks_of(shot, width);
                const auto inverse_there = cube_sides(inverse, cv::INTER_NEAREST);
                const cv::Mat inner = inner_of(inverse_there);
                for (cv::Mat* m : {&masks.overlap, &masks.seams})
                    *m = cube_sides(*m, cv::INTER_NEAREST) & inner;
                const Outlines outlines = outlines_of(inverse_there);
                const cv::Mat a = grey(cube_sides(made, cv::INTER_CUBIC)),
                              b = grey(cube_sides(take.truth, cv::INTER_CUBIC));
                cv::Mat noisy(b.size(), CV_32F); // what a perfect picture of as noisy footage would have
                cv::RNG(7).fill(noisy, cv::RNG::NORMAL, 0, 2);
                noisy += b;
                const cv::Mat band = beside(outlines, masks.seams, kBeside);
                DistanceErrors off, off_both, off_edges;
                if (gathered.distances) {
                    const cv::Mat found =
                        cube_sides(read_field(gathered.distances->grid, shot, width), cv::INTER_NEAREST);
                    const cv::Mat judged = everywhere ? masks.overlap : masks.seams,
                                  both = cube_sides(seen_by_two(o, frame_of(scene, seed), shot, inverse),
                                                    cv::INTER_NEAREST);
                    off = errors_of(found, inverse_there, judged);
                    off_both = errors_of(found, inverse_there, judged & both);
                    off_edges = errors_of(found, inverse_there, band);
                }
                cv::Mat large; // as densely as crossings are looked through
                cv::resize(take.truth, large, cv::Size(kTearWidth, kTearWidth / 2), 0, 0, cv::INTER_CUBIC);
                const Picture truth = picture_of(large);
                View tear_view;
                tear_view.target = equirect_target(kTearWidth);
                const Tears tears = tears_in(take.project, shot, composer, Seconds(0), tear_view, {},
                                             {&truth, true_side > 0 ? gathered.distances : nullptr});
                fmt::print("{:<14}{:<15}{:>5} {:>6}  {:>9.2f} {:>8.3f} {:>8.3f} {:>8}  {:>8.4f}  {:>9.4f} "
                           "{:>6.2f}% {:>6.2f}%  {:>8.4f} {:>6.2f}%  {:>6.2f}%\n",
                           rig, scene, seed, size, rms(a, b, band), raggedness(a, b, outlines, masks.seams),
                           raggedness(noisy, b, outlines, masks.seams), cv::countNonZero(band),
                           ssim(a, b, masks.overlap), off.median, off.wrong, off_both.wrong, off_edges.median,
                           off_edges.wrong, 100 * tears.torn_px / std::max(1.0, tears.edges_px));
                std::fflush(stdout);
                if (pictures.empty()) continue;
                fs::create_directories(pictures);
                const auto keep = [&](const char* what, const cv::Mat& m) {
                    write_still(picture_of(m),
                                fs::path(pictures) / fmt::format("{}-{}-{}-{}.png", rig, scene, seed, what));
                };
                keep("made", made);
                keep("made-sides", cube_sides(made, cv::INTER_CUBIC));
                keep("truth-sides", cube_sides(take.truth, cv::INTER_CUBIC));
                keep("true-distances-sides", shades(inverse_there));
                keep("distances-sides",
                     gathered.distances ? shades(cube_sides(read_field(gathered.distances->grid, shot, width),
                                                            cv::INTER_NEAREST))
                                        : shades(inverse_there));
                cv::Mat error = cv::abs(a - b), shown;
                error.setTo(0, ~band);
                error.convertTo(shown, CV_8U, 3);
                cv::cvtColor(shown, shown, cv::COLOR_GRAY2BGR);
                keep("error-sides", shown);
                cv::Mat torn;
                cv::cvtColor(
                    cv::Mat(tears.height, tears.width, CV_8U, const_cast<std::uint8_t*>(tears.torn.data())),
                    torn, cv::COLOR_GRAY2BGR);
                keep("torn", torn);
                keep("truth", take.truth);
                keep("distances",
                     shades(gathered.distances ? read_field(gathered.distances->grid, shot, width)
                                               : cv::Mat(inverse.size(), CV_32F, 0.0)));
                keep("true-distances", shades(inverse));
            }
    return 0;
}
