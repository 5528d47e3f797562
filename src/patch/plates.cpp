#include "patch/plates.h"

#include "base/error.h"
#include "base/parallel.h"
#include "project/span.h"
#include "stitch/patches/placement.h"

#include <opencv2/calib3d.hpp>
#include <opencv2/features2d.hpp>
#include <opencv2/imgproc.hpp>

namespace porb {

namespace {

void say(const TellShare& tell, double share) {
    if (tell) tell(share);
}

View square_view(const Shot& shot, const Patch& patch, Seconds time, int side) {
    View view = patch_view(placement_of(shot, patch, place_at(patch, time), time, Eye::mono), side);
    view.patches = false;
    return view;
}

/// The median of each channel over pictures of one size, of those that show something there.
Picture median_of(const std::vector<Picture>& pictures) {
    if (pictures.size() == 1) return pictures.front();
    Picture out(pictures.front().width(), pictures.front().height());
    parallel_ranges(out.height(), 8, [&](int begin, int end) {
        std::vector<Rgba> seen;
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < out.width(); ++x) {
                seen.clear();
                for (const Picture& p : pictures)
                    if (const Rgba c = pixel_at(p, x, y); c.a > 0.5f) seen.push_back(c);
                if (seen.empty()) {
                    set_pixel(out, x, y, {});
                    continue;
                }
                const std::size_t middle = seen.size() / 2;
                const auto of = [&](float Rgba::*channel) {
                    std::nth_element(seen.begin(), seen.begin() + std::ptrdiff_t(middle), seen.end(),
                                     [&](const Rgba& a, const Rgba& b) { return a.*channel < b.*channel; });
                    return seen[middle].*channel;
                };
                set_pixel(out, x, y, {of(&Rgba::r), of(&Rgba::g), of(&Rgba::b), 1});
            }
    });
    return out;
}

/// Colours without their finest detail, so that a pixel's noise or a fraction of a pixel tells nobody apart.
cv::Mat softened(const Picture& p) {
    cv::Mat colours(p.height(), p.width(), CV_32FC3), seen(p.height(), p.width(), CV_32F);
    for (int y = 0; y < p.height(); ++y)
        for (int x = 0; x < p.width(); ++x) {
            const Rgba c = pixel_at(p, x, y);
            colours.at<cv::Vec3f>(y, x) = {c.r, c.g, c.b};
            seen.at<float>(y, x) = c.a;
        }
    const double sigma = 1.5 * p.width() / 1024.0 + 0.4;
    cv::GaussianBlur(colours, colours, {}, sigma);
    cv::GaussianBlur(seen, seen, {}, sigma);
    for (int y = 0; y < p.height(); ++y)
        for (int x = 0; x < p.width(); ++x)
            colours.at<cv::Vec3f>(y, x) /= std::max(seen.at<float>(y, x), 1e-3f);
    return colours;
}

float apart(const cv::Vec3f& a, const cv::Vec3f& b) {
    return std::max({std::abs(a[0] - b[0]), std::abs(a[1] - b[1]), std::abs(a[2] - b[2])});
}

/// How often colours were seen, for telling what a stand looks like from what a floor does.
class ColourCount {
  public:
    ColourCount() : counts_(std::size_t(kBins) * kBins * kBins, 0.0f) {}
    void add(const cv::Vec3f& c) { counts_[index(c)] += 1, total_ += 1; }
    void smooth() {
        std::vector<float> out(counts_.size());
        for (int r = 0; r < kBins; ++r)
            for (int g = 0; g < kBins; ++g)
                for (int b = 0; b < kBins; ++b)
                    for (int dr = -1; dr <= 1; ++dr)
                        for (int dg = -1; dg <= 1; ++dg)
                            for (int db = -1; db <= 1; ++db) {
                                const int x = r + dr, y = g + dg, z = b + db;
                                if (std::min({x, y, z}) < 0 || std::max({x, y, z}) >= kBins) continue;
                                out[std::size_t((r * kBins + g) * kBins + b)] +=
                                    counts_[std::size_t((x * kBins + y) * kBins + z)] / 27;
                            }
        counts_ = std::move(out);
    }
    double likelihood(const cv::Vec3f& c) const { return (counts_[index(c)] + 1e-3) / (total_ + 1); }
    double total() const { return total_; }

  private:
    static constexpr int kBins = 24;
    static std::size_t index(const cv::Vec3f& c) {
        const auto bin = [](float v) { return std::clamp(int(v * kBins), 0, kBins - 1); };
        return std::size_t((bin(c[0]) * kBins + bin(c[1])) * kBins + bin(c[2]));
    }
    std::vector<float> counts_;
    double total_ = 0;
};

cv::Mat grey8(const Picture& p) {
    cv::Mat out(p.height(), p.width(), CV_8U);
    for (int y = 0; y < p.height(); ++y)
        for (int x = 0; x < p.width(); ++x) {
            const Rgba c = pixel_at(p, x, y);
            out.at<std::uint8_t>(y, x) = cv::saturate_cast<std::uint8_t>(255 * (c.r + 2 * c.g + c.b) / 4);
        }
    return out;
}
cv::Mat seen8(const Picture& p) {
    cv::Mat out(p.height(), p.width(), CV_8U);
    for (int y = 0; y < p.height(); ++y)
        for (int x = 0; x < p.width(); ++x)
            out.at<std::uint8_t>(y, x) = pixel_at(p, x, y).a > 0.99f ? 255 : 0;
    return out;
}

} // namespace

Picture moment_plate(Composer& composer, const Project& project, const Shot& shot, const Patch& patch,
                     Seconds time, const Cancel& cancel) {
    return composer.compose_ungraded(project, shot, time, square_view(shot, patch, time, patch.resolution),
                                     cancel);
}

std::vector<Seconds> plate_times(Seconds in, Seconds out, FrameRate rate, std::size_t count) {
    std::vector<Seconds> times;
    const Seconds last = std::max(in, out - Rational(1) / rate);
    count = std::clamp(count, std::size_t(1), kMostPlateTimes);
    for (std::size_t i = 0; i < count; ++i) {
        const double share = count > 1 ? double(i) / double(count - 1) : 0.5;
        const Seconds at =
            nearest_frame_time(in + Rational::from_double(share * (last - in).to_double()), rate);
        if (times.empty() || times.back() < at) times.push_back(at);
    }
    return times;
}

Picture median_plate(Composer& composer, const Project& project, const Shot& shot, const Patch& patch,
                     std::span<const Seconds> times, const TellShare& tell, const Cancel& cancel) {
    std::vector<Picture> pictures;
    for (const Seconds t : times) {
        pictures.push_back(moment_plate(composer, project, shot, patch, t, cancel));
        say(tell, double(pictures.size()) / double(times.size()));
    }
    if (pictures.empty()) throw Error("has no moments", "the plate", "Choose a part of the shot");
    return median_of(pictures);
}

NeighbourPlate neighbour_plate(Composer& composer, const Project& project, const Shot& shot,
                               const Patch& patch, std::span<const Seconds> times, const TellShare& tell,
                               const Cancel& cancel) {
    constexpr float kAlike = 0.05f; ///< of full scale, softened
    const int side = patch.resolution;
    std::vector<SurfaceView> by_camera = surface_views(composer, project, shot, patch, times, side, cancel);
    say(tell, 0.7);
    if (by_camera.empty())
        throw Error("no camera sees this place on its surface", patch.name,
                    "Set the patch's surface and distance, or take its plate from the footage");
    std::vector<Picture> views;
    std::vector<cv::Mat> soft;
    std::vector<const std::vector<float>*> seen;
    for (SurfaceView& view : by_camera) {
        cancel.check();
        views.push_back(median_of(view.pictures));
        view.pictures.clear();
        soft.push_back(softened(views.back()));
        seen.push_back(&view.quality);
    }
    const std::size_t n = views.size();
    const auto at = [&](int x, int y) { return std::size_t(y) * std::size_t(side) + std::size_t(x); };
    NeighbourPlate out{Picture(side, side), std::vector<float>(at(0, side)),
                       std::vector<std::uint8_t>(at(0, side))};
    // Who agrees with whom: the largest group wins, by how well its members see. Two who differ are told
    // apart afterwards, by what stands and floors were seen to look like elsewhere.
    const auto group_of = [&](int x, int y, std::size_t i) {
        std::uint32_t group = 0;
        for (std::size_t j = 0; j < n && j < 32; ++j)
            if ((*seen[j])[at(x, y)] > 0 &&
                apart(soft[i].at<cv::Vec3f>(y, x), soft[j].at<cv::Vec3f>(y, x)) < kAlike)
                group |= 1u << j;
        return group;
    };
    const auto settle = [&](int x, int y, std::uint32_t group) {
        double sum = 0, r = 0, g = 0, b = 0;
        for (std::size_t j = 0; j < n && j < 32; ++j) {
            if (!(group >> j & 1)) continue;
            const double w = std::pow(double((*seen[j])[at(x, y)]), 3) + 1e-4;
            const Rgba c = pixel_at(views[j], x, y);
            sum += w, r += w * c.r, g += w * c.g, b += w * c.b;
        }
        set_pixel(out.plate, x, y, {float(r / sum), float(g / sum), float(b / sum), 1});
    };
    ColourCount stands, floors;
    std::mutex mutex;
    parallel_ranges(side, 16, [&](int begin, int end) {
        std::vector<cv::Vec3f> stood, floor;
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < side; ++x) {
                std::uint32_t best = 0, all = 0;
                double most = 0;
                int seeing = 0;
                for (std::size_t i = 0; i < n && i < 32; ++i) {
                    if ((*seen[i])[at(x, y)] <= 0) continue;
                    ++seeing, all |= 1u << i;
                    const std::uint32_t group = group_of(x, y, i);
                    double weight = 0;
                    for (std::size_t j = 0; j < n && j < 32; ++j)
                        if (group >> j & 1) weight += 0.2 + (*seen[j])[at(x, y)];
                    if (weight > most) most = weight, best = group;
                }
                set_pixel(out.plate, x, y, {});
                if (seeing == 0) continue;
                const int agree = std::popcount(best);
                out.agreeing[at(x, y)] = std::uint8_t(agree);
                if (seeing > 1) out.obstructed[at(x, y)] = float(seeing - agree) / float(seeing);
                if (agree >= 2 || seeing == 1) settle(x, y, best);
                if (agree < 2 || (x + y) % 3 != 0) continue;
                if (agree == seeing)
                    floor.push_back(soft[std::size_t(std::countr_zero(best))].at<cv::Vec3f>(y, x));
                for (std::size_t j = 0; agree >= 2 && j < n && j < 32; ++j)
                    if ((all & ~best) >> j & 1) stood.push_back(soft[j].at<cv::Vec3f>(y, x));
            }
        const std::lock_guard lock(mutex);
        for (const auto& c : stood) stands.add(c);
        for (const auto& c : floor) floors.add(c);
    });
    say(tell, 0.9);
    cancel.check();
    if (stands.total() < 50 || floors.total() < 50) return out;
    stands.smooth(), floors.smooth();
    const auto odds = [&](const cv::Vec3f& c) {
        return std::log(stands.likelihood(c) / floors.likelihood(c));
    };
    // Where something stands before much of what lies about a pixel, most cameras may see nothing else: one
    // that sees the floor counts for more than several that see what stands there. Which one is decided for
    // a neighbourhood, so that no hairs are left along what it looks past.
    cv::Mat crowd(side, side, CV_32F);
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x) crowd.at<float>(y, x) = out.obstructed[at(x, y)] > 0 ? 1.0f : 0.0f;
    const double unit = side / 1024.0;
    const auto odd = [&](double pixels) { return std::max(3, int(pixels * unit)) | 1; };
    cv::boxFilter(crowd, crowd, CV_32F, {odd(24), odd(24)});
    cv::dilate(crowd, crowd, cv::Mat::ones(odd(9), odd(9), CV_8U));
    std::vector<cv::Mat> stand_like;
    for (std::size_t i = 0; i < n; ++i) {
        cv::Mat like(side, side, CV_32F);
        for (int y = 0; y < side; ++y)
            for (int x = 0; x < side; ++x)
                like.at<float>(y, x) = float(std::clamp(odds(soft[i].at<cv::Vec3f>(y, x)), -2.0, 4.0));
        cv::dilate(like, like, cv::Mat::ones(odd(5), odd(5), CV_8U));
        cv::GaussianBlur(like, like, {}, 2.5 * unit + 0.3);
        stand_like.push_back(like);
    }
    parallel_ranges(side, 16, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < side; ++x) {
                constexpr float kCrowded = 0.3f;
                const bool split = out.agreeing[at(x, y)] <= 1 && out.obstructed[at(x, y)] > 0;
                if (!split && crowd.at<float>(y, x) < kCrowded) continue;
                std::size_t best = n;
                float least = 1e30f;
                for (std::size_t i = 0; i < n && i < 32; ++i) {
                    const float q = (*seen[i])[at(x, y)];
                    if (q <= 0) continue;
                    const float v = stand_like[i].at<float>(y, x) + 0.5f * (1 - q);
                    if (v < least) least = v, best = i;
                }
                if (best == n) continue;
                std::uint32_t group = group_of(x, y, best);
                for (std::size_t j = 0; j < n && j < 32; ++j)
                    if ((group >> j & 1) && stand_like[j].at<float>(y, x) > least + 0.7f) group &= ~(1u << j);
                settle(x, y, group | 1u << best);
            }
    });
    say(tell, 1);
    return out;
}

RegisteredPlate registered(const Picture& other, const Picture& here) {
    constexpr int kFewest = 12;
    constexpr double kWithin_px = 2.5, kClearlyBest = 0.8;
    const auto sift = cv::SIFT::create(4000, 3, 0.02);
    std::vector<cv::KeyPoint> ka, kb;
    cv::Mat da, db;
    sift->detectAndCompute(grey8(other), seen8(other), ka, da);
    sift->detectAndCompute(grey8(here), seen8(here), kb, db);
    const auto too_little = [&](int n) {
        return Error(fmt::format("the two pictures of the ground have {} features in common: {} are needed",
                                 n, kFewest),
                     "registering", "Widen the patch, or take the plate from a shot that sees this ground");
    };
    if (da.rows < kFewest || db.rows < kFewest) throw too_little(std::min(da.rows, db.rows));
    std::vector<cv::Point2f> from, to;
    // The two nearest by exhaustive search; clearly nearer than the next.
    cv::Mat products = da * db.t();
    for (int i = 0; i < da.rows; ++i) {
        int best = -1;
        float first = 1e30f, second = 1e30f;
        const float own = float(da.row(i).dot(da.row(i)));
        for (int j = 0; j < db.rows; ++j) {
            const float d = own + float(db.row(j).dot(db.row(j))) - 2 * products.at<float>(i, j);
            if (d < first)
                second = first, first = d, best = j;
            else if (d < second)
                second = d;
        }
        if (best >= 0 && first < kClearlyBest * kClearlyBest * second)
            from.push_back(ka[std::size_t(i)].pt), to.push_back(kb[std::size_t(best)].pt);
    }
    std::vector<std::uint8_t> inliers;
    cv::Mat h;
    if (int(from.size()) >= kFewest)
        h = cv::findHomography(from, to, cv::RANSAC, kWithin_px, inliers, 4000, 0.999);
    const int matches = h.empty() ? 0 : int(cv::countNonZero(inliers));
    if (matches < kFewest) throw too_little(matches);
    RegisteredPlate out;
    out.matches = matches;
    double sum = 0;
    for (int r = 0; r < 3; ++r)
        for (int c = 0; c < 3; ++c) out.other_to_this(r, c) = h.at<double>(r, c);
    for (std::size_t i = 0; i < from.size(); ++i) {
        if (!inliers[i]) continue;
        const Vec3 p = out.other_to_this * Vec3(from[i].x, from[i].y, 1);
        sum += std::pow(p.x() / p.z() - to[i].x, 2) + std::pow(p.y() / p.z() - to[i].y, 2);
    }
    out.residual_px = std::sqrt(sum / matches);
    // OpenCV's pixels have their centres at whole numbers.
    Mat3 shift = Mat3::Identity();
    shift(0, 2) = shift(1, 2) = 0.5;
    out.other_to_this = shift * out.other_to_this * shift.inverse();
    cv::Mat colours(other.height(), other.width(), CV_32FC4);
    for (int y = 0; y < other.height(); ++y)
        for (int x = 0; x < other.width(); ++x) {
            const Rgba c = pixel_at(other, x, y);
            colours.at<cv::Vec4f>(y, x) = {c.r, c.g, c.b, c.a};
        }
    cv::Mat moved;
    cv::warpPerspective(colours, moved, h, {here.width(), here.height()}, cv::INTER_CUBIC);
    out.plate = Picture(here.width(), here.height());
    for (int y = 0; y < here.height(); ++y)
        for (int x = 0; x < here.width(); ++x) {
            const auto c = moved.at<cv::Vec4f>(y, x);
            set_pixel(out.plate, x, y, {c[0], c[1], c[2], std::clamp(c[3], 0.0f, 1.0f)});
        }
    return out;
}

RegisteredPlate shot_plate(Composer& composer, const Project& project, const Shot& shot, const Patch& patch,
                           Seconds time, const Shot& other, std::span<const Seconds> times,
                           const TellShare& tell, const Cancel& cancel) {
    // Seen twice as wide, so that there is ground to register by, and the place itself may lie elsewhere.
    Patch wide = patch;
    wide.hold = PatchHold::world;
    constexpr double kWidest = 130;
    const double own = place_at(patch, time).width_deg;
    for (PatchKey& k : wide.keys) k.width_deg = std::min(kWidest, std::max(2 * own, 90.0));
    const Picture there = median_plate(
        composer, project, other, wide, times, [&](double s) { say(tell, 0.7 * s); }, cancel);
    const Picture here = moment_plate(composer, project, shot, patch, time, cancel);
    cancel.check();
    RegisteredPlate out = registered(there, here);
    say(tell, 1);
    return out;
}

} // namespace porb
