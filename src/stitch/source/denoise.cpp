#include "stitch/source/denoise.h"

#include "base/parallel.h"
#include "picture/convert_simd.h"

#include <opencv2/imgproc.hpp>
#include <opencv2/video/tracking.hpp>

#include <algorithm>
#include <cmath>

namespace porb {

namespace {

constexpr int kFlowSmaller = 2;      ///< flow is found on pictures half as large
constexpr float kAlike = 2.5f;       ///< noises apart: still the same thing
constexpr double kLeastNoise = 5e-4; ///< less is rounding
constexpr float kReach_px = 2.5f;    ///< of the bilateral filter
constexpr float kInFrame = 4.0f;     ///< noises that it passes over at most
constexpr int kAround_px = 64;       ///< of a part: for flow to see

cv::Mat floats_of(const Picture& p) {
    cv::Mat out(p.height(), p.width(), CV_32FC4);
    parallel_ranges(p.height(), 32, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            simd::floats_from_halves(p.row(y), out.ptr<float>(y), std::size_t(p.width()) * 4);
    });
    return out;
}

cv::Mat grey_of(const cv::Mat& rgba) {
    cv::Mat grey, small;
    cv::cvtColor(rgba, grey, cv::COLOR_RGBA2GRAY);
    grey.convertTo(grey, CV_8U, 255);
    cv::resize(grey, small, {}, 1.0 / kFlowSmaller, 1.0 / kFlowSmaller, cv::INTER_AREA);
    return small;
}

/// `from` as it would look at the moment of `to`.
cv::Mat brought_to(const cv::Mat& from, const cv::Mat& from_grey, const cv::Mat& to_grey) {
    const auto matcher = cv::DISOpticalFlow::create(cv::DISOpticalFlow::PRESET_FAST);
    cv::Mat small, flow, out;
    matcher->calc(to_grey, from_grey, small);
    cv::resize(small, flow, from.size(), 0, 0, cv::INTER_LINEAR);
    for (int y = 0; y < flow.rows; ++y) {
        auto* f = flow.ptr<cv::Vec2f>(y);
        for (int x = 0; x < flow.cols; ++x) f[x] = cv::Vec2f(float(x), float(y)) + f[x] * float(kFlowSmaller);
    }
    cv::remap(from, out, flow, {}, cv::INTER_LINEAR, cv::BORDER_REPLICATE);
    return out;
}

double noise_of_floats(const cv::Mat& rgba) {
    // Second differences both ways: 0 on whatever is straight. The median, since edges are not noise.
    std::vector<float> found;
    const int step = std::max(1, rgba.rows / 300);
    for (int y = 1; y + 1 < rgba.rows; y += step) {
        const auto *a = rgba.ptr<cv::Vec4f>(y - 1), *b = rgba.ptr<cv::Vec4f>(y),
                   *c = rgba.ptr<cv::Vec4f>(y + 1);
        for (int x = 1; x + 1 < rgba.cols; x += step) {
            const float v = a[x - 1][1] - 2 * a[x][1] + a[x + 1][1] - 2 * b[x - 1][1] + 4 * b[x][1] -
                            2 * b[x + 1][1] + c[x - 1][1] - 2 * c[x][1] + c[x + 1][1];
            if (b[x][1] > 0.02f && b[x][1] < 0.98f) found.push_back(std::abs(v)); // neither black nor clipped
        }
    }
    if (found.size() < 100) return 0;
    std::nth_element(found.begin(), found.begin() + std::ptrdiff_t(found.size() / 2), found.end());
    return double(found[found.size() / 2]) / 0.6745 / 6; // 36 = the sum of the weights' squares
}
} // namespace

double noise_of(const Picture& picture) {
    return noise_of_floats(floats_of(picture));
}

namespace {
/// `noise`: of the whole picture, whatever part this is.
Picture cleaned(const Picture& now, std::span<const Picture> before, const Denoise& settings, float noise,
                BufferPool* pool) {
    const cv::Mat own = floats_of(now);
    cv::Mat sum = own.clone();
    if (settings.over_time > 0 && !before.empty()) {
        const cv::Mat grey = grey_of(own);
        cv::Mat weights(own.size(), CV_32F, 1.0f);
        for (const Picture& b : before) {
            if (b.width() != now.width() || b.height() != now.height()) continue;
            const cv::Mat raw = floats_of(b), other = brought_to(raw, grey_of(raw), grey);
            cv::Mat apart, mean;
            cv::absdiff(own, other, apart);
            cv::transform(apart, apart, cv::Matx14f(1 / 3.f, 1 / 3.f, 1 / 3.f, 0));
            cv::blur(apart, mean, cv::Size(5, 5));
            parallel_ranges(own.rows, 32, [&](int begin, int end) {
                for (int y = begin; y < end; ++y) {
                    const float* m = mean.ptr<float>(y);
                    const auto* o = other.ptr<cv::Vec4f>(y);
                    auto* s = sum.ptr<cv::Vec4f>(y);
                    float* w = weights.ptr<float>(y);
                    for (int x = 0; x < own.cols; ++x) {
                        const float off = m[x] / (kAlike * noise);
                        const float share = float(settings.over_time) * std::exp(-off * off);
                        s[x] += share * o[x];
                        w[x] += share;
                    }
                }
            });
        }
        parallel_ranges(own.rows, 32, [&](int begin, int end) {
            for (int y = begin; y < end; ++y) {
                auto* s = sum.ptr<cv::Vec4f>(y);
                const float* w = weights.ptr<float>(y);
                for (int x = 0; x < own.cols; ++x) s[x] *= 1 / w[x];
            }
        });
    }
    if (settings.in_frame > 0) {
        cv::Mat rgb, smooth;
        cv::cvtColor(sum, rgb, cv::COLOR_RGBA2RGB);
        cv::bilateralFilter(rgb, smooth, 5, double(kInFrame * noise) * settings.in_frame, double(kReach_px),
                            cv::BORDER_REPLICATE);
        cv::cvtColor(smooth, sum, cv::COLOR_RGB2RGBA);
    }
    Picture out(now.width(), now.height(), pool);
    parallel_ranges(now.height(), 32, [&](int begin, int end) {
        for (int y = begin; y < end; ++y) {
            auto* s = sum.ptr<cv::Vec4f>(y);
            const auto* o = own.ptr<cv::Vec4f>(y);
            for (int x = 0; x < own.cols; ++x) s[x][3] = o[x][3];
            simd::halves_from_floats(sum.ptr<float>(y), out.row(y), std::size_t(out.width()) * 4);
        }
    });
    return out;
}

float least_noise_of(const Picture& picture) {
    return float(std::max(noise_of(picture), kLeastNoise));
}
} // namespace

Picture denoised(const Picture& now, std::span<const Picture> before, const Denoise& settings,
                 BufferPool* pool) {
    return cleaned(now, before, settings, least_noise_of(now), pool);
}

Picture denoised_part(const Picture& now, std::span<const Picture> before, const Denoise& settings,
                      const Region& part) {
    const int x = std::max(0, part.x - kAround_px), y = std::max(0, part.y - kAround_px),
              width = std::min(now.width(), part.x + part.width + kAround_px) - x,
              height = std::min(now.height(), part.y + part.height + kAround_px) - y;
    std::vector<Picture> parts;
    for (const Picture& b : before)
        if (b.width() == now.width() && b.height() == now.height())
            parts.push_back(cropped(b, x, y, width, height));
    const Picture clean =
        cleaned(cropped(now, x, y, width, height), parts, settings, least_noise_of(now), nullptr);
    return cropped(clean, part.x - x, part.y - y, part.width, part.height);
}

std::optional<Picture> Cleaner::picture(MediaLibrary& library, const MediaRef& ref, Seconds t, Seconds frame,
                                        int level, const Denoise& settings) {
    if (auto kept = kept_.find({ref, t, settings, level})) return kept;
    auto clean = level == 0 ? std::nullopt : kept_.find({ref, t, settings, 0});
    if (!clean) {
        const Frames had = raw_.find(ref).value_or(Frames());
        Frames frames; // this one last
        for (int back = ref.kind == MediaKind::still ? 0 : kBefore; back >= 0; --back) {
            const Seconds at = t - Rational(back) * frame;
            const auto known =
                std::find_if(had.begin(), had.end(), [&](const auto& f) { return f.first == at; });
            auto p = known != had.end() ? std::optional(known->second) : library.picture(ref, at, 0);
            if (!p && back == 0) return std::nullopt;
            if (p) frames.emplace_back(at, std::move(*p));
        }
        std::vector<Picture> before;
        for (std::size_t i = frames.size() - 1; i-- > 0;) before.push_back(frames[i].second);
        clean = denoised(frames.back().second, before, settings, library.pool());
        std::size_t bytes = 0;
        for (const auto& f : frames) bytes += f.second.bytes();
        raw_.keep(ref, std::move(frames), bytes);
        kept_.keep({ref, t, settings, 0}, *clean, clean->bytes());
    }
    if (level == 0) return clean;
    Picture out = *clean;
    for (int l = 0; l < level; ++l) out = halved(out, library.pool());
    kept_.keep({ref, t, settings, level}, out, out.bytes());
    return out;
}

} // namespace porb
