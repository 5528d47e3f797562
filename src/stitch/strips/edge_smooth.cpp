#include "stitch/strips/edge_smooth.h"

#include "stitch/colour_match/guide.h"

#include <array>
#include <cmath>
#include <vector>

namespace porb {

namespace {

constexpr int kSmoothRounds = 3;
constexpr double kWeaker = 0.25; ///< each round than the one before

/// How alike each place of the guide is to the one below it; the last row's are 0.
template <class Place>
cv::Mat links_by(const cv::Mat& guide, const std::array<float, 256>& correlation) {
    cv::Mat out(guide.size(), CV_32F, cv::Scalar(0));
    for (int y = 0; y + 1 < guide.rows; ++y) {
        const Place *g = guide.ptr<Place>(y), *h = guide.ptr<Place>(y + 1);
        float* to = out.ptr<float>(y);
        for (int x = 0; x < guide.cols; ++x) to[x] = correlation[std::size_t(levels_between(g[x], h[x]))];
    }
    return out;
}
cv::Mat links_down(const cv::Mat& guide, const std::array<float, 256>& correlation) {
    return guide.channels() == 3 ? links_by<cv::Vec3b>(guide, correlation)
                                 : links_by<std::uint8_t>(guide, correlation);
}

/// One round down the columns: a tridiagonal system for each column (Thomas
/// 1949), solved for two right-hand sides side by side, a row of all columns at a time.
void down_columns(const cv::Mat& links, cv::Mat& one, cv::Mat& other, float strength) {
    const int rows = links.rows, columns = links.cols;
    cv::Mat above(rows, columns, CV_32F); // what each row passes on to the one before
    const std::vector<float> nothing(std::size_t(columns), 0.0f);
    for (int y = 0; y < rows; ++y) {
        // Rows are apart, which the compiler needs to know to take columns side by side.
        float* __restrict p = one.ptr<float>(y);
        float* __restrict q = other.ptr<float>(y);
        float* __restrict c = above.ptr<float>(y);
        const float* __restrict pb = y > 0 ? one.ptr<float>(y - 1) : nothing.data();
        const float* __restrict qb = y > 0 ? other.ptr<float>(y - 1) : nothing.data();
        const float* __restrict cb = y > 0 ? above.ptr<float>(y - 1) : nothing.data();
        const float* __restrict lb = y > 0 ? links.ptr<float>(y - 1) : nothing.data();
        const float* __restrict l = links.ptr<float>(y);
        for (int x = 0; x < columns; ++x) {
            const float up = strength * lb[x], down = strength * l[x];
            const float scale = 1 / (1 + up + down + up * cb[x]);
            c[x] = -down * scale;
            p[x] = (p[x] + up * pb[x]) * scale;
            q[x] = (q[x] + up * qb[x]) * scale;
        }
    }
    for (int y = rows - 2; y >= 0; --y) {
        float *p = one.ptr<float>(y), *q = other.ptr<float>(y);
        const float *pn = one.ptr<float>(y + 1), *qn = other.ptr<float>(y + 1), *c = above.ptr<float>(y);
        for (int x = 0; x < columns; ++x) {
            p[x] -= c[x] * pn[x];
            q[x] -= c[x] * qn[x];
        }
    }
}

} // namespace

void smooth_along_edges(const cv::Mat& guide, cv::Mat& values, cv::Mat& confidence, double strength,
                        double levels) {
    std::array<float, 256> correlation{};
    for (std::size_t i = 0; i < correlation.size(); ++i)
        correlation[i] = float(std::exp(-double(i) / levels));
    cv::Mat weighed = values.mul(confidence), a, b;
    const cv::Mat down = links_down(guide, correlation), across = links_down(guide.t(), correlation);
    for (int round = 0; round < kSmoothRounds; ++round, strength *= kWeaker) {
        a = weighed.t(), b = confidence.t();
        down_columns(across, a, b, float(strength));
        weighed = a.t(), confidence = b.t();
        down_columns(down, weighed, confidence, float(strength));
    }
    values = weighed / confidence;
}

} // namespace porb
