#include "stitch/edge_smooth.h"

#include <array>
#include <cmath>
#include <vector>

namespace porb {

namespace {

constexpr int kRounds = 3;
constexpr double kWeaker = 0.25; ///< each round than the one before

/// One round down the columns: a tridiagonal system for each column (Thomas
/// 1949), solved for two right-hand sides side by side, a row of all columns at a time.
void down_columns(const cv::Mat& guide, cv::Mat& one, cv::Mat& other, float strength,
                  const std::array<float, 256>& alike) {
    const int rows = guide.rows, columns = guide.cols;
    cv::Mat above(rows, columns, CV_32F); // what each row passes on to the one before
    const std::vector<float> nothing(std::size_t(columns), 0.0f);
    std::vector<float> link(std::size_t(columns), 0.0f), next(std::size_t(columns), 0.0f);
    for (int y = 0; y < rows; ++y) {
        // Rows are apart, which the compiler needs to know to take columns side by side.
        float* __restrict p = one.ptr<float>(y);
        float* __restrict q = other.ptr<float>(y);
        float* __restrict c = above.ptr<float>(y);
        const float* __restrict pb = y > 0 ? one.ptr<float>(y - 1) : nothing.data();
        const float* __restrict qb = y > 0 ? other.ptr<float>(y - 1) : nothing.data();
        const float* __restrict cb = y > 0 ? above.ptr<float>(y - 1) : nothing.data();
        const float* __restrict up = link.data();
        const float* __restrict down = next.data();
        if (y + 1 < rows) {
            const std::uint8_t *g = guide.ptr<std::uint8_t>(y), *h = guide.ptr<std::uint8_t>(y + 1);
            for (int x = 0; x < columns; ++x)
                next[std::size_t(x)] = strength * alike[std::size_t(std::abs(int(g[x]) - int(h[x])))];
        } else {
            std::fill(next.begin(), next.end(), 0.0f);
        }
        for (int x = 0; x < columns; ++x) {
            const float scale = 1 / (1 + up[x] + down[x] + up[x] * cb[x]);
            c[x] = -down[x] * scale;
            p[x] = (p[x] + up[x] * pb[x]) * scale;
            q[x] = (q[x] + up[x] * qb[x]) * scale;
        }
        link.swap(next);
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
    std::array<float, 256> alike{};
    for (std::size_t i = 0; i < alike.size(); ++i) alike[i] = float(std::exp(-double(i) / levels));
    cv::Mat weighed = values.mul(confidence), a, b;
    const cv::Mat turned = guide.t();
    for (int round = 0; round < kRounds; ++round, strength *= kWeaker) {
        a = weighed.t(), b = confidence.t();
        down_columns(turned, a, b, float(strength), alike);
        weighed = a.t(), confidence = b.t();
        down_columns(guide, weighed, confidence, float(strength), alike);
    }
    values = weighed / confidence;
}

} // namespace porb
