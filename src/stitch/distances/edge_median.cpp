#include "stitch/distances/edge_median.h"

#include <opencv2/imgproc.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <cstdlib>
#include <utility>
#include <vector>

namespace porb {

namespace {
double env(const char* n, double d) { const char* v = std::getenv(n); return v ? std::atof(v) : d; }
}

void median_along_edges(const cv::Mat& guide, cv::Mat& parallax, const cv::Mat& confidence) {
    static const int kAcross = int(env("WM_X", 6)), kDown = int(env("WM_Y", 3)), kRounds = int(env("WM_N", 2));
    static const double kLevels = env("WM_L", 8), kStep = env("WM_S", 0.8);
    if (!kRounds) return;
    std::array<float, 256> alike{};
    for (std::size_t i = 0; i < alike.size(); ++i) alike[i] = float(std::exp(-double(i) / kLevels)) + 1e-6f;
    std::vector<float> far_off(std::size_t((2 * kAcross + 1) * (2 * kDown + 1)));
    std::vector<std::pair<float, float>> told;
    for (int round = 0; round < kRounds; ++round) {
        cv::Mat most, least, out = parallax.clone();
        const cv::Mat block = cv::Mat::ones(2 * kDown + 1, 2 * kAcross + 1, CV_8U);
        cv::dilate(parallax, most, block);
        cv::erode(parallax, least, block);
        for (int y = 0; y < parallax.rows; ++y)
            for (int x = 0; x < parallax.cols; ++x) {
                if (most.at<float>(y, x) - least.at<float>(y, x) < kStep) continue;
                told.clear();
                float sum = 0;
                const std::uint8_t here = guide.at<std::uint8_t>(y, x);
                for (int j = std::max(0, y - kDown); j <= std::min(parallax.rows - 1, y + kDown); ++j) {
                    const std::uint8_t* g = guide.ptr<std::uint8_t>(j);
                    const float *p = parallax.ptr<float>(j), *c = confidence.ptr<float>(j);
                    for (int i = std::max(0, x - kAcross); i <= std::min(parallax.cols - 1, x + kAcross); ++i) {
                        const float w = c[i] * alike[std::size_t(std::abs(int(g[i]) - int(here)))];
                        told.emplace_back(p[i], w);
                        sum += w;
                    }
                }
                std::sort(told.begin(), told.end());
                float so_far = 0;
                for (const auto& [p, w] : told)
                    if ((so_far += w) >= sum / 2) {
                        out.at<float>(y, x) = p;
                        break;
                    }
            }
        parallax = out;
    }
}

} // namespace porb
