#include "stitch/strips/edge_median.h"

#include "stitch/strips/guide.h"

#include <opencv2/imgproc.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <vector>

namespace porb {

namespace {

constexpr int kAcross = 6, kDown = 3; ///< columns and rows to either side: a degree
constexpr int kEvery = 2;             ///< of those columns counts, the place's own among them
constexpr double kLevels = 5;         ///< grey levels
constexpr float kTwoThings = 1.2f;    ///< columns: less is one surface
constexpr float kBinsPerColumn = 4;
constexpr int kMostBins = 512;

/// `Place` is what a guide holds at one.
template <class Place>
void median_by(const cv::Mat& guide, cv::Mat& parallax, const cv::Mat& confidence) {
    std::array<float, 256> alike{};
    for (std::size_t i = 0; i < alike.size(); ++i) alike[i] = float(std::exp(-double(i) / kLevels)) + 1e-6f;
    const cv::Mat block = cv::Mat::ones(2 * kDown + 1, 2 * kAcross + 1, CV_8U);
    cv::Mat most, least, out;
    std::vector<float> bins;
    cv::dilate(parallax, most, block);
    cv::erode(parallax, least, block);
    out = parallax.clone();
    for (int y = 0; y < parallax.rows; ++y)
        for (int x = 0; x < parallax.cols; ++x) {
            const float low = least.at<float>(y, x), high = most.at<float>(y, x);
            if (high - low < kTwoThings) continue;
            bins.assign(std::size_t(std::min(kMostBins, int((high - low) * kBinsPerColumn) + 1)), 0.0f);
            const int last = int(bins.size()) - 1;
            const Place here = guide.at<Place>(y, x);
            float all = 0;
            for (int j = std::max(0, y - kDown); j <= std::min(parallax.rows - 1, y + kDown); ++j) {
                const Place* g = guide.ptr<Place>(j);
                const float *p = parallax.ptr<float>(j), *c = confidence.ptr<float>(j);
                for (int i = x - kAcross < 0 ? x % kEvery : x - kAcross;
                     i <= std::min(parallax.cols - 1, x + kAcross); i += kEvery) {
                    const float w = c[i] * alike[std::size_t(levels_between(g[i], here))];
                    bins[std::size_t(std::min(last, int((p[i] - low) * kBinsPerColumn)))] += w;
                    all += w;
                }
            }
            float so_far = 0;
            int at = 0;
            while (at < last && (so_far += bins[std::size_t(at)]) < all / 2) ++at;
            out.at<float>(y, x) = low + (float(at) + 0.5f) / kBinsPerColumn;
        }
    parallax = out;
}

} // namespace

void median_along_edges(const cv::Mat& guide, cv::Mat& parallax, const cv::Mat& confidence) {
    guide.channels() == 3 ? median_by<cv::Vec3b>(guide, parallax, confidence)
                          : median_by<std::uint8_t>(guide, parallax, confidence);
}

} // namespace porb
