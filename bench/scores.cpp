#include "scores.h"

#include "base/angle.h"
#include "optics/target.h"

#include <opencv2/imgproc.hpp>

#include <algorithm>
#include <cmath>

namespace porb::bench {

cv::Mat grey(const cv::Mat& m) {
    cv::Mat g, f;
    cv::cvtColor(m, g, cv::COLOR_BGR2GRAY);
    g.convertTo(f, CV_32F);
    return f;
}

double ssim(const cv::Mat& a, const cv::Mat& b, const cv::Mat& mask) {
    const auto blur = [](const cv::Mat& m) {
        cv::Mat out;
        cv::GaussianBlur(m, out, cv::Size(11, 11), 1.5);
        return out;
    };
    const cv::Mat ma = blur(a), mb = blur(b);
    const cv::Mat va = blur(a.mul(a)) - ma.mul(ma), vb = blur(b.mul(b)) - mb.mul(mb),
                  ab = blur(a.mul(b)) - ma.mul(mb);
    cv::Mat map;
    cv::divide((2 * ma.mul(mb) + 6.5025).mul(2 * ab + 58.5225),
               (ma.mul(ma) + mb.mul(mb) + 6.5025).mul(va + vb + 58.5225), map);
    return cv::mean(map, mask)[0];
}

namespace {
struct DoubledEdges {
    double extra = 0, all = 0; ///< pixels
};
/// Strong edges in overlaps, and those of them that the truth has not within 1.5 pixels, once each block was
/// laid on the truth as well as it can be: what is shown twice or broken counts, what is merely elsewhere
/// does not. Those that count are set in `where`.
DoubledEdges doubled_edges(const cv::Mat& made, const cv::Mat& truth, const cv::Mat& mask, cv::Mat& where) {
    constexpr float kEdge = 40; // Sobel of bytes / 4
    const auto edges = [](const cv::Mat& m) {
        cv::Mat s, gx, gy, mag;
        cv::GaussianBlur(m, s, cv::Size(5, 5), 0.9);
        cv::Sobel(s, gx, CV_32F, 1, 0, 3, 0.5);
        cv::Sobel(s, gy, CV_32F, 0, 1, 3, 0.5);
        cv::magnitude(gx, gy, mag);
        return mag;
    };
    const cv::Mat em = edges(made), et = edges(truth);
    cv::Mat allowed = et > 0.35f * kEdge;
    cv::dilate(allowed, allowed, cv::getStructuringElement(cv::MORPH_ELLIPSE, cv::Size(5, 5)));
    double extra = 0, all = 0;
    where = cv::Mat::zeros(made.size(), CV_8U);
    for (int y = kShift; y + kBlock + kShift <= made.rows; y += kBlock)
        for (int x = kShift; x + kBlock + kShift <= made.cols; x += kBlock) {
            const cv::Rect block(x, y, kBlock, kBlock);
            if (cv::countNonZero(mask(block)) < kBlock * kBlock / 2) continue;
            cv::Mat score; // by what is judged alone: where no lens looks there is nothing to lay on anything
            cv::matchTemplate(
                truth(cv::Rect(x - kShift, y - kShift, kBlock + 2 * kShift, kBlock + 2 * kShift)),
                made(block), score, cv::TM_SQDIFF, mask(block));
            cv::Point best;
            cv::minMaxLoc(score, nullptr, nullptr, &best, nullptr);
            const cv::Mat near = allowed(cv::Rect(x - kShift + best.x, y - kShift + best.y, kBlock, kBlock));
            for (int j = 0; j < kBlock; ++j)
                for (int i = 0; i < kBlock; ++i) {
                    if (!mask.at<std::uint8_t>(y + j, x + i) || em.at<float>(y + j, x + i) < kEdge) continue;
                    ++all;
                    if (near.at<std::uint8_t>(j, i)) continue;
                    ++extra;
                    where.at<std::uint8_t>(y + j, x + i) = 255;
                }
        }
    return {extra, all};
}
} // namespace

cv::Mat cube_sides(const cv::Mat& panorama, int interpolation) {
    const TargetMap target(equirect_target(panorama.cols));
    const int inner = int(std::lround(panorama.cols / kPi / kBlock)) * kBlock, side = inner + 2 * kShift;
    cv::Mat u(side, 6 * side, CV_32F), v(side, 6 * side, CV_32F), out;
    for (int s = 0; s < 6; ++s) {
        const Mat3 turn = rotation_of({s < 4 ? 90.0 * s : 0, s < 4 ? 0 : s == 4 ? 90.0 : -90.0, 0});
        for (int y = 0; y < side; ++y)
            for (int x = 0; x < side; ++x) {
                const auto along = [&](int i) { return 2 * (i + 0.5 - kShift) / inner - 1; };
                const Vec2 px = *target.pixel(turn * Vec3(along(x), along(y), 1).normalized());
                u.at<float>(y, s * side + x) = float(px.x() - 0.5);
                v.at<float>(y, s * side + x) = float(std::clamp(px.y() - 0.5, 0.0, panorama.rows - 1.0));
            }
    }
    cv::remap(panorama, out, u, v, interpolation, cv::BORDER_WRAP);
    return out;
}

Score score(const cv::Mat& made, const cv::Mat& truth, const cv::Mat& mask) {
    const cv::Mat a = grey(made), b = grey(truth);
    const int side = made.rows;
    cv::Mat judged = cv::Mat::zeros(mask.size(), CV_8U);
    DoubledEdges sum;
    Score out;
    out.where = cv::Mat::zeros(made.size(), CV_8U);
    for (int s = 0; s < 6; ++s) {
        const cv::Rect one(s * side, 0, side, side),
            inner(s * side + kShift, kShift, side - 2 * kShift, side - 2 * kShift);
        mask(inner).copyTo(judged(inner));
        cv::Mat where;
        const DoubledEdges found = doubled_edges(a(one).clone(), b(one).clone(), mask(one), where);
        sum.extra += found.extra, sum.all += found.all;
        where.copyTo(out.where(one));
    }
    out.ssim = ssim(a, b, judged);
    out.doubled = sum.all > 0 ? 100 * sum.extra / sum.all : 0;
    return out;
}

Outlines outlines_of(const cv::Mat& inverse_m) {
    constexpr float kNearer = 1.25f;
    const int rows = inverse_m.rows, columns = inverse_m.cols;
    Outlines out{cv::Mat::zeros(inverse_m.size(), CV_8U),
                 cv::Mat(inverse_m.size(), CV_32FC2, cv::Scalar(0, 0))};
    for (int y = 1; y + 1 < rows; ++y)
        for (int x = 0; x < columns; ++x) {
            const float here = inverse_m.at<float>(y, x);
            cv::Vec2f away(0, 0);
            for (int j = -1; j <= 1; ++j)
                for (int i = -1; i <= 1; ++i)
                    if (here > kNearer * inverse_m.at<float>(y + j, (x + i + columns) % columns))
                        away += cv::Vec2f(float(i), float(j));
            if (away == cv::Vec2f(0, 0)) continue;
            out.near_side.at<std::uint8_t>(y, x) = 255;
            out.across.at<cv::Vec2f>(y, x) = away;
        }
    cv::Mat soft; // over the steps of the pixels
    cv::GaussianBlur(out.across, soft, cv::Size(7, 7), 1.5);
    for (int y = 0; y < rows; ++y)
        for (int x = 0; x < columns; ++x) {
            const cv::Vec2f v = soft.at<cv::Vec2f>(y, x);
            const float length = std::hypot(v[0], v[1]);
            out.across.at<cv::Vec2f>(y, x) = length > 0 ? v / length : cv::Vec2f(0, 0);
        }
    return out;
}

cv::Mat beside(const Outlines& outlines, const cv::Mat& mask, int pixels) {
    cv::Mat out;
    cv::dilate(outlines.near_side, out,
               cv::getStructuringElement(cv::MORPH_ELLIPSE, cv::Size(2 * pixels + 1, 2 * pixels + 1)));
    return out & mask;
}

double rms(const cv::Mat& a, const cv::Mat& b, const cv::Mat& mask) {
    const cv::Mat off = a - b;
    return std::sqrt(cv::mean(off.mul(off), mask)[0]);
}

double raggedness(const cv::Mat& made, const cv::Mat& truth, const Outlines& outlines, const cv::Mat& mask) {
    constexpr float kContrast = 24, kBound = 3, kStep = 0.25f;
    constexpr int kReach = 3, kAlong = 3; // pixels
    const auto read = [](const cv::Mat& m, float x, float y) {
        const int ix = int(std::floor(x)), iy = int(std::floor(y));
        if (iy < 0 || iy + 1 >= m.rows || ix < 0 || ix + 1 >= m.cols) return 0.0f;
        const float fx = x - float(ix), fy = y - float(iy);
        const auto at = [&](int i, int j) { return m.at<float>(j, i); };
        return (1 - fy) * ((1 - fx) * at(ix, iy) + fx * at(ix + 1, iy)) +
               fy * ((1 - fx) * at(ix, iy + 1) + fx * at(ix + 1, iy + 1));
    };
    constexpr float kNone = 1e9f;
    cv::Mat shift(made.size(), CV_32F, cv::Scalar(kNone));
    for (int y = 0; y < made.rows; ++y)
        for (int x = 0; x < made.cols; ++x) {
            if (!outlines.near_side.at<std::uint8_t>(y, x) || !mask.at<std::uint8_t>(y, x)) continue;
            const cv::Vec2f n = outlines.across.at<cv::Vec2f>(y, x);
            const auto along = [&](const cv::Mat& m, float t) {
                return read(m, float(x) + t * n[0], float(y) + t * n[1]);
            };
            if (std::abs(along(truth, -2) - along(truth, 3)) < kContrast) continue;
            float least = 1e30f, best = 0;
            for (float s = -kBound; s <= kBound; s += kStep) {
                float sum = 1e-3f * s * s; // of equals the one that moves least
                for (float t = -kReach; t <= kReach + 1; t += 0.5f) {
                    const float d = along(made, t + s) - along(truth, t);
                    sum += d * d;
                }
                if (sum < least) least = sum, best = s;
            }
            shift.at<float>(y, x) = best;
        }
    double sum = 0;
    int count = 0;
    for (int y = kAlong; y + kAlong < made.rows; ++y)
        for (int x = kAlong; x + kAlong < made.cols; ++x) {
            const float here = shift.at<float>(y, x);
            if (here == kNone) continue;
            const cv::Vec2f n = outlines.across.at<cv::Vec2f>(y, x);
            std::vector<float> about;
            for (int j = -kAlong; j <= kAlong; ++j)
                for (int i = -kAlong; i <= kAlong; ++i)
                    if (const float v = shift.at<float>(y + j, x + i);
                        v != kNone && outlines.across.at<cv::Vec2f>(y + j, x + i).dot(n) > 0.5f)
                        about.push_back(v);
            if (about.size() < 5) continue;
            std::nth_element(about.begin(), about.begin() + std::ptrdiff_t(about.size() / 2), about.end());
            sum += double(std::abs(here - about[about.size() / 2]));
            ++count;
        }
    return count > 0 ? sum / count : 0;
}

} // namespace porb::bench
