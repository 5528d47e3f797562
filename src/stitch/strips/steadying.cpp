#include "stitch/strips/steadying.h"

#include "stitch/colour_match/guide.h"

#include <opencv2/imgproc.hpp>

#include <algorithm>
#include <array>

namespace porb {

namespace {

constexpr int kStillBlock = 5;
constexpr float kChanged = 4.5f; ///< grey levels: more than noise and coding leave (kStill)
constexpr float kOdd = 0.7f;     ///< columns by which one that counts less is off
constexpr int kSteadyRounds = 2;
constexpr float kNever = 1e9f; ///< columns

/// What a mean difference of grey levels says of whether a place stood still: 1 up to kStill, 0 from kChanged
/// on.
std::array<float, 256> stillness() {
    std::array<float, 256> out{};
    for (std::size_t i = 0; i < out.size(); ++i)
        out[i] = std::clamp((kChanged - float(i)) / (kChanged - kStill), 0.0f, 1.0f);
    return out;
}

} // namespace

cv::Mat difference_about(const cv::Mat& now, const cv::Mat& then) {
    cv::Mat off;
    cv::absdiff(now, then, off);
    cv::blur(off, off, cv::Size(kStillBlock, kStillBlock));
    return off;
}

StripMoment strip_moment(cv::Mat a, cv::Mat b, const StripMatch& match) {
    StripMoment out{std::move(a), std::move(b), {}, {}, {}, match.trust};
    match.parallax.convertTo(out.parallax, CV_16S, StripMoment::kOfColumn);
    match.correlation.convertTo(out.correlation, CV_8U, 255);
    match.same.convertTo(out.same, CV_8U, 255);
    return out;
}

StripMatch match_of(const StripMoment& moment) {
    StripMatch out;
    moment.parallax.convertTo(out.parallax, CV_32F, 1 / StripMoment::kOfColumn);
    moment.correlation.convertTo(out.correlation, CV_32F, 1.0 / 255);
    moment.same.convertTo(out.same, CV_32F, 1.0 / 255);
    out.trust = moment.trust;
    return out;
}

namespace {

using Row = std::vector<float>;

/// Where one row of two moments stood still: `weights` times so much. `own` is the parallax by which b's
/// places are found in a.
void weigh_by_stillness(const std::uint8_t* a_off, const std::uint8_t* b_off, const Row& own,
                        const std::array<float, 256>& still, Row& weights) {
    const int last = int(weights.size()) - 1;
    for (int x = 0; x <= last; ++x)
        weights[std::size_t(x)] *=
            still[b_off[x]] * still[a_off[std::clamp(int(float(x) - own[std::size_t(x)] + 0.5f), 0, last)]];
}

void weighed_mean(const std::vector<Row>& values, const std::vector<Row>& weights, const Row& total,
                  Row& mean) {
    std::fill(mean.begin(), mean.end(), 0.0f);
    for (std::size_t m = 0; m < values.size(); ++m)
        for (std::size_t x = 0; x < mean.size(); ++x) mean[x] += weights[m][x] * values[m][x];
    for (std::size_t x = 0; x < mean.size(); ++x) mean[x] /= total[x];
}

/// Where moments disagree about which of two things is seen, what most of them say: the least value that half
/// of all weight does not exceed. There are few moments, so each is compared with all, many columns side by
/// side.
void weighed_median(const std::vector<Row>& values, const std::vector<Row>& weights, const Row& total,
                    Row& median) {
    const std::size_t columns = median.size();
    Row below(columns);
    std::fill(median.begin(), median.end(), kNever);
    for (const Row& own : values) {
        std::fill(below.begin(), below.end(), 0.0f);
        const float* const __restrict o = own.data();
        float* const __restrict sum = below.data();
        for (std::size_t m = 0; m < values.size(); ++m) {
            const float* const __restrict v = values[m].data(), * const __restrict w = weights[m].data();
            for (std::size_t x = 0; x < columns; ++x) sum[x] += float(v[x] <= o[x]) * w[x];
        }
        const float* const __restrict all = total.data();
        float* const __restrict to = median.data();
        // All of it may come to a little less when it is added up in another order.
        for (std::size_t x = 0; x < columns; ++x)
            to[x] = std::min(to[x], o[x] + float(sum[x] < 0.4999f * all[x]) * kNever);
    }
}

/// The mean that outliers hardly count in (iteratively reweighted, Cauchy's weights; Holland and Welsch
/// 1977). Rows of values and their weights; `total` is the sum of these. Begun at the mean, or where parallax
/// steps at the median: a mean of near and far is neither.
void robust_mean(const std::vector<Row>& values, const std::vector<Row>& weights, const Row& total,
                 bool steps, Row& mean) {
    const std::size_t columns = mean.size();
    if (steps)
        weighed_median(values, weights, total, mean);
    else
        weighed_mean(values, weights, total, mean);
    Row top(columns), low(columns);
    for (int round = 0; round < kSteadyRounds; ++round) {
        std::fill(top.begin(), top.end(), 0.0f);
        std::fill(low.begin(), low.end(), 0.0f);
        for (std::size_t m = 0; m < values.size(); ++m) {
            const float *v = values[m].data(), *w = weights[m].data();
            for (std::size_t x = 0; x < columns; ++x) {
                const float off = (v[x] - mean[x]) * (1 / kOdd), k = w[x] / (1 + off * off);
                top[x] += k * v[x], low[x] += k;
            }
        }
        for (std::size_t x = 0; x < columns; ++x) mean[x] = top[x] / low[x];
    }
}

} // namespace

StripMatch steadied(std::span<const WeighedMoment> moments, bool steps) {
    const StripMoment& now = *moments.back().moment;
    if (moments.size() == 1) return match_of(now);
    const cv::Size size = now.parallax.size();
    StripMatch out{cv::Mat(size, CV_32F), cv::Mat(size, CV_32F), cv::Mat(size, CV_32F), 0};
    const std::size_t others = moments.size() - 1, columns = std::size_t(size.width);
    std::vector<cv::Mat> a_off(others), b_off(others);
    double sum = 0;
    for (const WeighedMoment& m : moments) {
        out.trust += double(m.weight) * m.moment->trust;
        sum += double(m.weight);
    }
    out.trust /= sum;
    for (std::size_t m = 0; m < others; ++m) {
        a_off[m] = difference_about(now.a, moments[m].moment->a);
        b_off[m] = difference_about(now.b, moments[m].moment->b);
    }
    const std::array<float, 256> still = stillness();
    std::vector<Row> weights(moments.size(), Row(columns)), values = weights;
    Row total(columns), mean(columns);
    for (int y = 0; y < size.height; ++y) {
        for (std::size_t m = 0; m < moments.size(); ++m) {
            const std::int16_t* from = moments[m].moment->parallax.ptr<std::int16_t>(y);
            for (std::size_t x = 0; x < columns; ++x)
                values[m][x] = float(from[x]) * float(1 / StripMoment::kOfColumn);
        }
        std::fill(total.begin(), total.end(), 0.0f);
        for (std::size_t m = 0; m < moments.size(); ++m) {
            std::fill(weights[m].begin(), weights[m].end(), moments[m].weight);
            if (m < others)
                weigh_by_stillness(a_off[m].ptr<std::uint8_t>(y), b_off[m].ptr<std::uint8_t>(y),
                                   values[others], still, weights[m]);
            for (std::size_t x = 0; x < columns; ++x) total[x] += weights[m][x];
        }
        const auto weighed = [&](cv::Mat StripMoment::*what, float* to) {
            std::fill(to, to + columns, 0.0f);
            for (std::size_t m = 0; m < moments.size(); ++m) {
                const std::uint8_t* from = (moments[m].moment->*what).ptr<std::uint8_t>(y);
                for (std::size_t x = 0; x < columns; ++x) to[x] += weights[m][x] * float(from[x]);
            }
            for (std::size_t x = 0; x < columns; ++x) to[x] /= 255 * total[x];
        };
        weighed(&StripMoment::correlation, out.correlation.ptr<float>(y));
        weighed(&StripMoment::same, out.same.ptr<float>(y));
        robust_mean(values, weights, total, steps, mean);
        std::copy(mean.begin(), mean.end(), out.parallax.ptr<float>(y));
    }
    return out;
}

} // namespace porb
