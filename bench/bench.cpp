// Timings as ratios against the plain way of doing the same work, in the same run:
//   blend   the fused warp-and-blend of two lenses into 3840 x 1920 against two cv::remap calls and a
//   weighted sum path    the whole two-lens path, compressed 3840 x 1920 file to panorama frame, against
//   FFmpeg's general projection filter
// Both at the same interpolation. Prints a table; `porb_bench blend` or `porb_bench path` runs one.
#include "base/angle.h"
#include "base/error.h"
#include "master/pipe.h"
#include "picture/convert.h"
#include "stitch/blend/blend_kernel.h"
#include "stitch/compose.h"
#include "stitch/plan/coverage.h"

#include <fmt/format.h>
#include <opencv2/core.hpp>
#include <opencv2/imgproc.hpp>

#include <chrono>
#include <filesystem>
#include <thread>
#include <unistd.h>

using namespace porb;

namespace {

constexpr int kWidth = 3840, kCircle = 1920, kRounds = 7;

double seconds_of(const std::function<void()>& work) {
    const auto begun = std::chrono::steady_clock::now();
    work();
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count();
}

double median(std::vector<double> v) {
    std::sort(v.begin(), v.end());
    return v[v.size() / 2];
}

Rig two_fisheyes() {
    return nominal_rig(2, 2 * kCircle, kCircle, 2, 200);
}

View view_with(Filter filter) {
    View v;
    v.target = equirect_target(kWidth);
    v.filter = filter;
    return v;
}

void row(const std::string& what, double ours, double theirs) {
    fmt::print("{:<58} {:>9.2f} ms {:>9.2f} ms {:>7.2f} x\n", what, 1000 * ours, 1000 * theirs,
               theirs / ours);
}

/// OpenCV's way: one float map for each lens, remap of 8-bit RGB, weights from the same rule, a weighted sum.
void bench_blend(Filter filter) {
    const Rig rig = two_fisheyes();
    Shot shot = shot_for_rig(rig, "bench");
    shot.seams.flow.on = false; // as what it is held against
    for (auto& c : shot.cameras) c.media = "m";
    const PlanKey key = plan_key(shot, view_with(filter));
    BlendPlan plan;
    const double plan_s = seconds_of([&] { plan = make_plan(key); });
    Picture source(2 * kCircle, kCircle);
    cv::Mat source_cv(kCircle, 2 * kCircle, CV_8UC3);
    for (int y = 0; y < kCircle; ++y)
        for (int x = 0; x < 2 * kCircle; ++x) {
            const auto v = [&](int k) { return unsigned(x * k + y * 7 * k) % 251u; };
            set_pixel(source, x, y, {float(v(1)) / 255, float(v(2)) / 255, float(v(3)) / 255, 1});
            source_cv.at<cv::Vec3b>(y, x) = {std::uint8_t(v(1)), std::uint8_t(v(2)), std::uint8_t(v(3))};
        }
    const std::vector<SourcePicture> sources(2, source);
    Picture out(plan.width, plan.height);

    cv::Mat map_x[2], map_y[2], weight[2];
    const Coverage coverage(key);
    const TargetMap target(key.view.target);
    for (int l = 0; l < 2; ++l) {
        map_x[l].create(plan.height, plan.width, CV_32F);
        map_y[l].create(plan.height, plan.width, CV_32F);
        weight[l].create(plan.height, plan.width, CV_32FC3);
        const LensMap lens(rig.cameras[std::size_t(l)].lens);
        const Mat3 from_world = rotation_of(rig.cameras[std::size_t(l)].pose.turn).transpose();
        for (int y = 0; y < plan.height; ++y)
            for (int x = 0; x < plan.width; ++x) {
                const Vec3 d = *target.direction({x + 0.5, y + 0.5});
                const Vec2 p = lens.project_anywhere(from_world * d);
                map_x[l].at<float>(y, x) = float(p.x() - 0.5);
                map_y[l].at<float>(y, x) = float(p.y() - 0.5);
                const auto inside = coverage.margin_deg(d);
                const double w = blend_weight(inside[std::size_t(l)], std::max(inside[0], inside[1]), 4);
                const double o = blend_weight(inside[std::size_t(1 - l)], std::max(inside[0], inside[1]), 4);
                const float f = float(w + o > 0 ? w / (w + o) : 0);
                weight[l].at<cv::Vec3f>(y, x) = {f, f, f};
            }
    }
    cv::Mat fixed[2], fixed_fraction[2];
    for (int l = 0; l < 2; ++l) cv::convertMaps(map_x[l], map_y[l], fixed[l], fixed_fraction[l], CV_16SC2);

    std::vector<double> ours, theirs;
    for (int i = 0; i < kRounds; ++i) {
        ours.push_back(seconds_of([&] {
            const int rows = 16;
            cv::parallel_for_(cv::Range(0, plan.height / rows), [&](const cv::Range& r) {
                blend_rows(plan, {sources, {}, nullptr, {}, filter}, r.start * rows, r.end * rows, out);
            });
        }));
        theirs.push_back(seconds_of([&] {
            cv::Mat part[2], sum, scaled;
            for (int l = 0; l < 2; ++l)
                cv::remap(source_cv, part[l], fixed[l], fixed_fraction[l],
                          filter == Filter::cubic ? cv::INTER_CUBIC : cv::INTER_LINEAR, cv::BORDER_CONSTANT);
            cv::multiply(part[0], weight[0], sum, 1, CV_32FC3);
            cv::multiply(part[1], weight[1], scaled, 1, CV_32FC3);
            cv::add(sum, scaled, sum);
            cv::Mat bytes;
            sum.convertTo(bytes, CV_8UC3);
        }));
    }
    row(fmt::format("warp and blend, {} (OpenCV remap, 8 bit)", filter == Filter::cubic ? "cubic" : "linear"),
        median(ours), median(theirs));
    if (filter == Filter::cubic)
        fmt::print("  (its plan, made once: {:.0f} ms, {:.0f} MB)\n", 1000 * plan_s,
                   double(plan.bytes()) / 1e6);
}

void bench_path(Filter filter, const std::filesystem::path& file, int frames) {
    Project project;
    Shot shot = shot_for_rig(two_fisheyes(), "bench");
    shot.seams.flow.on = false; // the filter beside it feathers no more than this
    for (auto& c : shot.cameras) c.media = add_media(project, media_ref_for(file));
    project.shots.push_back(shot);
    const View view = view_with(filter);
    const std::string words =
        fmt::format("ffmpeg -v error -nostdin -i {} -an -vf "
                    "v360=dfisheye:e:ih_fov=200:iv_fov=200:w={}:h={}:interp={} -f null -",
                    file.string(), kWidth, kWidth / 2, filter == Filter::cubic ? "cubic" : "linear");
    std::vector<double> ours, to_8_bit, theirs;
    for (int i = 0; i < 2; ++i) {
        for (const bool bytes : {false, true}) {
            Composer composer(std::make_shared<MediaLibrary>(256u << 20));
            (bytes ? to_8_bit : ours)
                .push_back(seconds_of([&] {
                               // As in a master: reading the next frame and blending this one side by side;
                               // the plan is part of the time.
                               Pipe<Composer::Gathered> read(2);
                               std::thread reader([&] {
                                   for (int n = 0; n < frames; ++n)
                                       read.put(composer.gather(project, project.shots[0],
                                                                frame_time(n, FrameRate(24)), view));
                                   read.close();
                               });
                               std::vector<std::uint8_t> memory(std::size_t(kWidth) * (kWidth / 2) * 3 / 2);
                               while (const auto g = read.take()) {
                                   if (!bytes) {
                                       composer.blend(*g);
                                       continue;
                                   }
                                   YuvPlanes<std::uint8_t> out; // as an encoder would take it
                                   out.width = kWidth, out.height = kWidth / 2;
                                   out.plane = {memory.data(),
                                                memory.data() + std::size_t(kWidth) * (kWidth / 2),
                                                memory.data() + std::size_t(kWidth) * (kWidth / 2) * 5 / 4};
                                   out.stride = {kWidth, kWidth / 2, kWidth / 2};
                                   composer.blend(*g, out);
                               }
                               reader.join();
                           }) /
                           frames);
        }
        theirs.push_back(seconds_of([&] {
                             if (std::system(words.c_str()) != 0)
                                 throw Error("FFmpeg's filter failed", words, "");
                         }) /
                         frames);
    }
    const char* name = filter == Filter::cubic ? "cubic" : "linear";
    row(fmt::format("file to panorama, {}, working format", name), median(ours), median(theirs));
    row(fmt::format("file to panorama, {}, to 8-bit 4:2:0 as the filter gives", name), median(to_8_bit),
        median(theirs));
}

} // namespace

int main(int argc, char** argv) {
    const std::string which = argc > 1 ? argv[1] : "all";
    fmt::print("two lenses, 3840 x 1920, {} threads; medians of one run\n{:<58} {:>12} {:>12} {:>9}\n",
               std::thread::hardware_concurrency(), "", "ours", "plain", "ratio");
    if (which != "path")
        for (const Filter f : {Filter::linear, Filter::cubic}) bench_blend(f);
    if (which != "blend") {
        const auto file = std::filesystem::temp_directory_path() / fmt::format("porb-bench-{}.mp4", getpid());
        const std::string make =
            fmt::format("ffmpeg -v error -nostdin -y -i {}/demo/dual/hall_dual.mp4 -an -vf "
                        "scale=3840:1920:flags=bicubic -c:v libx264 -preset veryfast -crf 20 {}",
                        PORB_SOURCE, file.string());
        if (std::system(make.c_str()) != 0) return 1;
        for (const Filter f : {Filter::linear, Filter::cubic}) bench_path(f, file, 96);
        std::filesystem::remove(file);
    }
    return 0;
}
