#include "patch/light.h"

#include "base/error.h"
#include "picture/transfer.h"
#include "project/span.h"
#include "stitch/patches/placement.h"

#include <opencv2/imgproc.hpp>

namespace porb {

namespace {

constexpr int kEdgeSide = 320; ///< pixels a side of the square that edges are looked at in

/// The square at a moment: the footage below, and the patch alone as it is drawn.
struct Square {
    Picture footage, patch;
};

class Squares {
  public:
    Squares(Composer& composer, const Project& project, const Shot& shot, std::size_t index)
        : composer_(composer), project_(project), shot_(shot) {
        if (index >= shot.patches.size())
            throw Error("is not there", "the patch", "Choose one of the shot's");
        patch_ = shot.patches[index];
        alone_ = shot;
        // Below it lie those that come before it.
        below_ = shot;
        below_.patches.clear();
        for (std::size_t i = 0; i < index; ++i) below_.patches.push_back(shot.patches[i]);
        Patch shown = patch_;
        shown.on = true;
        shown.from = shown.to = std::nullopt;
        for (PatchKey& k : shown.keys) k.opacity = 1;
        alone_.patches = {shown};
    }
    const Patch& patch() const { return patch_; }
    Square at(Seconds time, bool own_light, const Cancel& cancel) {
        if (!own_light) alone_.patches[0].follows_light = false;
        View view =
            patch_view(placement_of(shot_, patch_, place_at(patch_, time), time, Eye::mono), kEdgeSide);
        view.patches = true;
        return {composer_.compose_ungraded(project_, below_, time, view, cancel),
                composer_.patches_alone(project_, alone_, time, view, cancel)};
    }
    /// The patch's colours wherever it has any, also where it does not show.
    Picture whole(Seconds time, const Cancel& cancel) {
        Shot all = alone_;
        all.patches[0].mask = {};
        all.patches[0].disc = false;
        all.patches[0].feather_deg = 0;
        View view =
            patch_view(placement_of(shot_, patch_, place_at(patch_, time), time, Eye::mono), kEdgeSide);
        return composer_.patches_alone(project_, all, time, view, cancel);
    }

  private:
    Composer& composer_;
    const Project& project_;
    const Shot& shot_;
    Patch patch_;
    Shot alone_, below_;
};

/// How much each pixel belongs to the edge: where alpha passes from 0 to 1, and a little about it.
cv::Mat edge_of(const Picture& patch) {
    cv::Mat alpha(patch.height(), patch.width(), CV_32F), out(alpha.size(), CV_32F, cv::Scalar(0));
    for (int y = 0; y < alpha.rows; ++y)
        for (int x = 0; x < alpha.cols; ++x) alpha.at<float>(y, x) = pixel_at(patch, x, y).a;
    cv::Mat least, most;
    const cv::Mat disc = cv::getStructuringElement(cv::MORPH_ELLIPSE, {9, 9});
    cv::erode(alpha, least, disc);
    cv::dilate(alpha, most, disc);
    for (int y = 1; y < alpha.rows - 1; ++y)
        for (int x = 1; x < alpha.cols - 1; ++x)
            if (most.at<float>(y, x) > 0.3f && least.at<float>(y, x) < 0.7f) out.at<float>(y, x) = 1;
    return out;
}

/// Differences without fine detail: means over what of a neighbourhood belongs to the edge.
cv::Mat smooth_on(const cv::Mat& values, const cv::Mat& weights, double sigma) {
    cv::Mat sums, norm;
    cv::GaussianBlur(values.mul(weights), sums, {}, sigma);
    cv::GaussianBlur(weights, norm, {}, sigma);
    return sums / cv::max(norm, 1e-3);
}

std::vector<PatchLightKey> smoothed(const std::vector<PatchLightKey>& keys) {
    constexpr double kSigma_s = 0.35;
    std::vector<PatchLightKey> out = keys;
    for (PatchLightKey& k : out) {
        Vec3 gain = Vec3::Zero(), offset = Vec3::Zero();
        // A straight line through the neighbourhood, so that even changes of light keep their pace to the
        // ends.
        double w0 = 0, w1 = 0, w2 = 0;
        Vec3 g0 = Vec3::Zero(), g1 = Vec3::Zero();
        for (const PatchLightKey& o : keys) {
            const double dt = (o.time - k.time).to_double(),
                         w = std::exp(-dt * dt / (2 * kSigma_s * kSigma_s));
            if (w < 1e-4) continue;
            w0 += w, w1 += w * dt, w2 += w * dt * dt;
            for (int c = 0; c < 3; ++c) {
                const double v = std::log(std::max(o.gain[c], 1e-3));
                g0[c] += w * v, g1[c] += w * v * dt;
            }
            offset += w * o.offset;
        }
        const double det = w0 * w2 - w1 * w1;
        for (int c = 0; c < 3; ++c) {
            gain[c] = det > 1e-12 * w0 * w0 ? (w2 * g0[c] - w1 * g1[c]) / det : g0[c] / w0;
            k.gain[c] = std::exp(gain[c]);
        }
        k.offset = offset / w0;
    }
    return out;
}

} // namespace

std::vector<Seconds> light_times(Seconds in, Seconds out, FrameRate rate, double step_s) {
    const Seconds last = std::max(in, out - Rational(1) / rate);
    const double length = (last - in).to_double();
    const auto n = std::clamp(std::size_t(std::ceil(length / step_s)), std::size_t(1), kMostLightTimes - 1);
    std::vector<Seconds> times;
    for (std::size_t i = 0; i <= n; ++i) {
        const Seconds at = nearest_frame_time(
            std::min(last, in + Rational::from_double(length * double(i) / double(n))), rate);
        if (times.empty() || times.back() < at) times.push_back(at);
    }
    return times;
}

std::vector<EdgeStep> edge_steps(Composer& composer, const Project& project, const Shot& shot,
                                 std::size_t patch, std::span<const Seconds> times, const TellShare& tell,
                                 const Cancel& cancel) {
    Squares squares(composer, project, shot, patch);
    std::vector<EdgeStep> out;
    for (const Seconds time : times) {
        cancel.check();
        const Square now = squares.at(time, true, cancel);
        const Picture whole = squares.whole(time, cancel);
        cv::Mat edge = edge_of(now.patch);
        EdgeStep step;
        step.time = time;
        std::array<cv::Mat, 3> difference;
        for (auto& d : difference) d = cv::Mat(edge.size(), CV_32F, cv::Scalar(0));
        for (int y = 0; y < edge.rows; ++y)
            for (int x = 0; x < edge.cols; ++x) {
                if (edge.at<float>(y, x) == 0) continue;
                const Rgba p = pixel_at(whole, x, y), f = pixel_at(now.footage, x, y);
                if (p.a < 0.5f || f.a < 0.99f) {
                    edge.at<float>(y, x) = 0; // nothing to compare
                    continue;
                }
                difference[0].at<float>(y, x) = p.r / p.a - f.r;
                difference[1].at<float>(y, x) = p.g / p.a - f.g;
                difference[2].at<float>(y, x) = p.b / p.a - f.b;
            }
        const double n = cv::sum(edge)[0];
        if (n < 20)
            throw Error("has no edge against the footage", squares.patch().name,
                        "Let it show something, and its mask end inside its square");
        std::vector<float> sizes;
        double squared = 0;
        // A stretch that the eye joins; over less, grain passes for a step.
        constexpr double kStretch_deg = 2.5;
        const double stretch =
            std::clamp(kStretch_deg * kEdgeSide / place_at(squares.patch(), time).width_deg, 4.0, 40.0);
        std::array<cv::Mat, 3> soft;
        for (std::size_t c = 0; c < 3; ++c) {
            soft[c] = smooth_on(difference[c], edge, stretch);
            step.mean[c] = cv::sum(difference[c].mul(edge))[0] / n;
        }
        for (int y = 0; y < edge.rows; ++y)
            for (int x = 0; x < edge.cols; ++x) {
                if (edge.at<float>(y, x) == 0) continue;
                // Brightness, as an eye weighs it: what shows of a step.
                constexpr float kLuma[] = {0.2126f, 0.7152f, 0.0722f};
                float luma = 0;
                for (std::size_t c = 0; c < 3; ++c) luma += kLuma[c] * soft[c].at<float>(y, x);
                sizes.push_back(std::abs(luma));
                squared += double(luma) * luma;
            }
        step.step = std::sqrt(squared / double(sizes.size()));
        const auto at = sizes.begin() + std::ptrdiff_t(double(sizes.size()) * 0.95);
        std::nth_element(sizes.begin(), at, sizes.end());
        step.worst = *at;
        out.push_back(step);
        if (tell) tell(double(out.size()) / double(times.size()));
    }
    return out;
}

std::vector<PatchLightKey> followed_light(Composer& composer, const Project& project, const Shot& shot,
                                          std::size_t patch, std::span<const Seconds> times,
                                          const TellShare& tell, const Cancel& cancel) {
    Squares squares(composer, project, shot, patch);
    std::vector<PatchLightKey> keys;
    for (const Seconds time : times) {
        cancel.check();
        const Square now = squares.at(time, false, cancel);
        const Picture whole = squares.whole(time, cancel);
        const cv::Mat edge = edge_of(now.patch);
        PatchLightKey key;
        key.time = time;
        struct Pair {
            double p, f;
        };
        bool told = true;
        for (int c = 0; c < 3; ++c) {
            std::vector<Pair> pairs;
            for (int y = 0; y < edge.rows; ++y)
                for (int x = 0; x < edge.cols; ++x) {
                    if (edge.at<float>(y, x) == 0) continue;
                    const Rgba p = pixel_at(whole, x, y), f = pixel_at(now.footage, x, y);
                    if (p.a < 0.5f || f.a < 0.99f) continue;
                    const float pc = (c == 0   ? p.r
                                      : c == 1 ? p.g
                                               : p.b) /
                                     p.a,
                                fc = c == 0   ? f.r
                                     : c == 1 ? f.g
                                              : f.b;
                    pairs.push_back({linear_from_encoded(pc), linear_from_encoded(fc)});
                }
            if (pairs.size() < 20) {
                told = false;
                break;
            }
            // Begins with the gain in the middle of all: part of the edge may be of something else.
            std::vector<double> ratios;
            for (const Pair& q : pairs)
                if (q.p > 0.002) ratios.push_back(q.f / q.p);
            double gain = 1, offset = 0, scale = 0.02;
            if (!ratios.empty()) {
                const auto half = ratios.begin() + std::ptrdiff_t(ratios.size() / 2);
                std::nth_element(ratios.begin(), half, ratios.end());
                gain = *half;
            }
            // Then weights again and again less for what does not fit, and none for what fits not at all.
            constexpr double kOut = 5;
            for (int round = 0; round < 8; ++round) {
                double w0 = 0, wp = 0, wf = 0, wpp = 0, wpf = 0;
                std::vector<double> sizes;
                for (const Pair& q : pairs) {
                    const double r = std::abs(gain * q.p + offset - q.f);
                    sizes.push_back(r);
                    const double w = r <= scale ? 1 : r < kOut * scale ? scale / r : 0;
                    w0 += w, wp += w * q.p, wf += w * q.f, wpp += w * q.p * q.p, wpf += w * q.p * q.f;
                }
                // The offset is held at 0 as if a tenth of all were known to have none of 0.02.
                const double hold = 0.1 * w0 / (0.02 * 0.02) * (scale * scale);
                const double a = wpp, b = wp, d = w0 + hold, det = a * d - b * b;
                if (std::abs(det) > 1e-12) {
                    gain = (d * wpf - b * wf) / det;
                    offset = (a * wf - b * wpf) / det;
                }
                const auto middle = sizes.begin() + std::ptrdiff_t(sizes.size() / 2);
                std::nth_element(sizes.begin(), middle, sizes.end());
                scale = std::clamp(1.5 * *middle, 0.001, 0.05);
            }
            key.gain[c] = std::clamp(gain, 0.02, 50.0);
            key.offset[c] = std::clamp(offset, -0.2, 0.2);
        }
        if (told) keys.push_back(key);
        if (tell) tell(double(keys.size()) / double(times.size()));
    }
    if (keys.empty())
        throw Error("has no edge against the footage", squares.patch().name,
                    "Let it show something, and its mask end inside its square");
    return smoothed(keys);
}

TileImage shadow_reference(Composer& composer, const Project& project, const Shot& shot, const Patch& patch,
                           std::span<const Seconds> times, const TellShare& tell, const Cancel& cancel) {
    Patch small = patch;
    small.resolution = 256;
    Picture p = median_plate(composer, project, shot, small, times, tell, cancel);
    while (p.width() > kReferenceSide) p = halved(p);
    return tiles_of(p);
}

} // namespace porb
