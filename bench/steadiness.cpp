#include "steadiness.h"

#include "media/still.h"
#include "stitch/plan/coverage.h"

#include <fmt/format.h>
#include <opencv2/imgproc.hpp>

#include <array>

namespace porb::bench {

namespace fs = std::filesystem;

Change change_of(const Project& project, Shot shot, Composer& composer, const View& view, int first,
                 int frames) {
    const int width = view.target.width;
    std::array<std::vector<cv::Mat>, 2> seen;
    for (int n = first; n < first + frames; ++n)
        for (const int flow : {0, 1}) {
            shot.seams.flow.on = flow == 1;
            cv::Mat g, f;
            cv::cvtColor(bytes_of(composer.compose(project, shot, frame_time(n, shot.timing.rate), view)), g,
                         cv::COLOR_BGR2GRAY);
            g.convertTo(f, CV_32F);
            seen[std::size_t(flow)].push_back(f);
        }
    View centre;
    centre.target = view.target;
    const Coverage coverage(plan_key(shot, centre));
    const TargetMap target(view.target);
    cv::Mat zone(width / 2, width, CV_8U); // near seams, where flow works
    for (int y = 0; y < width / 2; ++y)
        for (int x = 0; x < width; ++x) {
            auto inside = coverage.lead_deg(*target.direction({x + 0.5, y + 0.5}));
            std::sort(inside.rbegin(), inside.rend());
            zone.at<std::uint8_t>(y, x) =
                inside.size() > 1 && inside[1] > -1e8 && inside[0] - inside[1] < 9 ? 255 : 0;
        }
    Change out;
    for (int n = 0; n + 1 < frames; ++n) {
        cv::Mat d0, d1, moves;
        cv::absdiff(seen[0][std::size_t(n)], seen[0][std::size_t(n) + 1], d0);
        cv::absdiff(seen[1][std::size_t(n)], seen[1][std::size_t(n) + 1], d1);
        cv::GaussianBlur(d0, moves, cv::Size(9, 9), 2);
        moves = moves > 4;
        cv::dilate(moves, moves, cv::Mat(), cv::Point(-1, -1), width / 80);
        const cv::Mat where = zone & ~moves;
        out.without += cv::mean(d0, where)[0] / (frames - 1);
        out.with += cv::mean(d1, where)[0] / (frames - 1);
    }
    return out;
}

double steadiness(const Take& take, const View& view, const fs::path& folder) {
    constexpr int kFirst = 54, kFrames = 8;
    constexpr float kNoise = 0.01f;
    Project project = take.project;
    Shot& shot = project.shots[0];
    shot.timing.rate = FrameRate(24);
    for (std::size_t m = 0; m < project.media.size(); ++m) {
        const fs::path path = folder / fmt::format("steady{}.mp4", m);
        const Picture still = read_still(project.media[m].ref.path);
        if (!fs::exists(path)) {
            VideoFormat format;
            format.width = still.width(), format.height = still.height();
            format.rate = shot.timing.rate, format.crf = 12, format.fast = true;
            VideoWriter writer(path, format);
            cv::RNG random(unsigned(7 + m));
            cv::Mat noise(still.height(), still.width(), CV_32FC3);
            Picture noisy(still.width(), still.height());
            for (int n = 0; n < kFirst + kFrames; ++n) {
                random.fill(noise, cv::RNG::NORMAL, 0, double(kNoise));
                for (int y = 0; y < still.height(); ++y)
                    for (int x = 0; x < still.width(); ++x) {
                        const Rgba c = pixel_at(still, x, y);
                        const auto& v = noise.at<cv::Vec3f>(y, x);
                        set_pixel(noisy, x, y, {c.r + v[0], c.g + v[1], c.b + v[2], 1});
                    }
                writer.write(noisy);
            }
            writer.finish();
        }
        project.media[m].ref = media_ref_for(path);
    }
    Composer composer(std::make_shared<MediaLibrary>(500u << 20));
    const Change c = change_of(project, shot, composer, view, kFirst, kFrames);
    return c.with / c.without;
}

} // namespace porb::bench
