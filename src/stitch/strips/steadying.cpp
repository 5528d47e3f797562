#include "stitch/strips/steadying.h"

#include "stitch/strips/steady_kernel.h"

#include <opencv2/imgproc.hpp>

#include <algorithm>
#include <array>

namespace porb {

namespace {

constexpr float kChanged = 4.5f; ///< grey levels: more than noise and coding leave (kStill)
constexpr float kOdd = 0.7f;     ///< columns by which one that counts less is off
constexpr int kSteadyRounds = 2;
constexpr auto kUnit = float(1 / StripMoment::kOfColumn);

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
    constexpr int beside = kStillBlock / 2;
    cv::Mat off, wide, out(now.size(), CV_8U);
    cv::absdiff(now, then, off);
    cv::copyMakeBorder(off, wide, beside, beside, beside, beside + kStillRoom, cv::BORDER_REFLECT_101);
    const auto room = std::size_t(now.cols + beside * 2 + kStillRoom);
    std::vector<std::uint16_t> sums(room);
    std::vector<std::uint8_t> means(room);
    for (int y = 0; y < out.rows; ++y) {
        StillRows rows{{}, out.cols, sums.data(), means.data()};
        for (int k = 0; k < kStillBlock; ++k) rows.rows[k] = wide.ptr<std::uint8_t>(y + k);
        mean_of_block(rows);
        std::copy_n(means.begin(), out.cols, out.ptr<std::uint8_t>(y));
    }
    return out;
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

StripMatch steadied(std::span<const WeighedMoment> moments, bool steps) {
    moments = moments.last(std::min(moments.size(), kMostSteady));
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
    std::vector<std::vector<float>> weights(moments.size(), std::vector<float>(columns));
    std::fill(weights.back().begin(), weights.back().end(), moments.back().weight);
    std::vector<int> in_a(columns); // where b's places are found
    std::vector<SteadyMoment> rows(moments.size());
    for (int y = 0; y < size.height; ++y) {
        const auto* const own = now.parallax.ptr<std::int16_t>(y);
        for (int x = 0; x < size.width; ++x)
            in_a[std::size_t(x)] =
                std::clamp(int(float(x) - float(own[x]) * kUnit + 0.5f), 0, size.width - 1);
        for (std::size_t m = 0; m < others; ++m) {
            const auto *a = a_off[m].ptr<std::uint8_t>(y), *b = b_off[m].ptr<std::uint8_t>(y);
            for (std::size_t x = 0; x < columns; ++x)
                weights[m][x] = moments[m].weight * still[b[x]] * still[a[in_a[x]]];
        }
        for (std::size_t m = 0; m < moments.size(); ++m) {
            const StripMoment& moment = *moments[m].moment;
            rows[m] = {moment.parallax.ptr<std::int16_t>(y), moment.correlation.ptr<std::uint8_t>(y),
                       moment.same.ptr<std::uint8_t>(y), weights[m].data()};
        }
        bring_together({rows, size.width, kUnit, kOdd, kSteadyRounds, steps, out.parallax.ptr<float>(y),
                        out.correlation.ptr<float>(y), out.same.ptr<float>(y)});
    }
    return out;
}

} // namespace porb
