#include "stitch/steadying.h"

#include <opencv2/imgproc.hpp>

#include <algorithm>
#include <array>

namespace porb {

namespace {

constexpr int kStillBlock = 5;
constexpr float kStill = 2.5f,
                kChanged = 4.5f; ///< grey levels that noise and coding leave, and more than that
constexpr float kOdd = 0.7f;     ///< columns by which one that counts less is off
constexpr int kRounds = 2;

/// What a mean difference of grey levels says of whether a place stood still: 1 up to kStill, 0 from kChanged
/// on.
std::array<float, 256> stillness() {
    std::array<float, 256> out{};
    for (std::size_t i = 0; i < out.size(); ++i)
        out[i] = std::clamp((kChanged - float(i)) / (kChanged - kStill), 0.0f, 1.0f);
    return out;
}

/// By how much two moments of a strip's picture differ about each place, grey levels.
cv::Mat difference(const cv::Mat& now, const cv::Mat& then) {
    cv::Mat off;
    cv::absdiff(now, then, off);
    cv::blur(off, off, cv::Size(kStillBlock, kStillBlock));
    return off;
}

} // namespace

StripMatch steadied(std::span<const WeighedMoment> moments) {
    const StripMoment& now = *moments.back().moment;
    if (moments.size() == 1) return now.match;
    StripMatch out{now.match.parallax.clone(), now.match.alike.clone(), now.match.same.clone(), 0};
    const std::size_t others = moments.size() - 1;
    std::vector<cv::Mat> a_off(others), b_off(others);
    double sum = 0;
    for (const WeighedMoment& m : moments) {
        out.trust += double(m.weight) * m.moment->match.trust;
        sum += double(m.weight);
    }
    out.trust /= sum;
    for (std::size_t m = 0; m < others; ++m) {
        a_off[m] = difference(now.a, moments[m].moment->a);
        b_off[m] = difference(now.b, moments[m].moment->b);
    }
    const std::array<float, 256> still = stillness();
    const int columns = out.parallax.cols;
    const auto row_of = [&] { return std::vector<float>(std::size_t(columns)); };
    std::vector<std::vector<float>> weights(moments.size(), row_of());
    std::vector<float> total = row_of(), mean = row_of(), top = row_of(), low = row_of();
    const auto sum_up = [&](float* to, const float* values, const std::vector<float>& w) {
        for (int x = 0; x < columns; ++x) to[x] += w[std::size_t(x)] * values[x];
    };
    for (int y = 0; y < out.parallax.rows; ++y) {
        std::fill(total.begin(), total.end(), 0.0f);
        const float* own = now.match.parallax.ptr<float>(y);
        for (std::size_t m = 0; m < moments.size(); ++m) {
            std::vector<float>& w = weights[m];
            std::fill(w.begin(), w.end(), moments[m].weight);
            if (m < others) {
                const std::uint8_t *a = a_off[m].ptr<std::uint8_t>(y), *b = b_off[m].ptr<std::uint8_t>(y);
                for (int x = 0; x < columns; ++x)
                    w[std::size_t(x)] *=
                        still[b[x]] * still[a[std::clamp(int(float(x) - own[x] + 0.5f), 0, columns - 1)]];
            }
            for (int x = 0; x < columns; ++x) total[std::size_t(x)] += w[std::size_t(x)];
        }
        const auto weighed = [&](cv::Mat StripMatch::*what, float* to) {
            std::fill(to, to + columns, 0.0f);
            for (std::size_t m = 0; m < moments.size(); ++m)
                sum_up(to, (moments[m].moment->match.*what).ptr<float>(y), weights[m]);
            for (int x = 0; x < columns; ++x) to[x] /= total[std::size_t(x)];
        };
        weighed(&StripMatch::alike, out.alike.ptr<float>(y));
        weighed(&StripMatch::same, out.same.ptr<float>(y));
        weighed(&StripMatch::parallax, mean.data());
        for (int round = 0; round < kRounds; ++round) {
            std::fill(top.begin(), top.end(), 0.0f);
            std::fill(low.begin(), low.end(), 0.0f);
            for (std::size_t m = 0; m < moments.size(); ++m) {
                const float *v = moments[m].moment->match.parallax.ptr<float>(y), *w = weights[m].data();
                for (int x = 0; x < columns; ++x) {
                    const float off = (v[x] - mean[std::size_t(x)]) * (1 / kOdd), k = w[x] / (1 + off * off);
                    top[std::size_t(x)] += k * v[x], low[std::size_t(x)] += k;
                }
            }
            for (int x = 0; x < columns; ++x)
                mean[std::size_t(x)] = top[std::size_t(x)] / low[std::size_t(x)];
        }
        std::copy(mean.begin(), mean.end(), out.parallax.ptr<float>(y));
    }
    return out;
}

} // namespace porb
