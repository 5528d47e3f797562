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
    cv::Mat above(rows, columns, CV_32F, cv::Scalar(0)); // what each row passes on to the one before
    std::vector<float> link(std::size_t(columns), 0.0f), next(std::size_t(columns), 0.0f);
    for (int y = 0; y < rows; ++y) {
        float *p = one.ptr<float>(y), *q = other.ptr<float>(y), *c = above.ptr<float>(y);
        const std::uint8_t *g = guide.ptr<std::uint8_t>(y),
                           *h = y + 1 < rows ? guide.ptr<std::uint8_t>(y + 1) : g;
        const float *pb = y > 0 ? one.ptr<float>(y - 1) : p, *qb = y > 0 ? other.ptr<float>(y - 1) : q,
                    *cb = y > 0 ? above.ptr<float>(y - 1) : c;
        for (int x = 0; x < columns; ++x)
            next[std::size_t(x)] =
                y + 1 < rows ? strength * alike[std::size_t(std::abs(int(g[x]) - int(h[x])))] : 0.0f;
        for (int x = 0; x < columns; ++x) {
            const float up = link[std::size_t(x)], down = next[std::size_t(x)];
            const float scale = 1 / (1 + up + down + up * (y > 0 ? cb[x] : 0.0f));
            c[x] = -down * scale;
            p[x] = (p[x] + (y > 0 ? up * pb[x] : 0.0f)) * scale;
            q[x] = (q[x] + (y > 0 ? up * qb[x] : 0.0f)) * scale;
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
