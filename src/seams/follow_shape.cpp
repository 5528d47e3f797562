#include "seams/follow_shape.h"

#include "base/error.h"
#include "seams/thinned_keys.h"

#include <opencv2/calib3d.hpp>
#include <opencv2/imgproc.hpp>
#include <opencv2/video/tracking.hpp>

#include <algorithm>
#include <cmath>

namespace porb {

namespace {

constexpr double kStep_s = 0.1; ///< between looks
constexpr int kMostCornersSeen = 120, kFewest = 6;
constexpr double kAgree_px = 2; ///< of a corner with how most of them move
constexpr double kThin = 0.008; ///< radii: keys that others stand for as closely are left away
constexpr int kLongest = 1000;  ///< pixels of the picture that is followed on

struct Observation {
    cv::Mat grey;
    double scale = 1; ///< its pixels for one of the source
};
std::optional<Observation> observation_at(MediaLibrary& library, const MediaRef& ref, Seconds t,
                                          const Lens& lens) {
    int level = 0;
    while (std::max(lens.width, lens.height) >> level > kLongest) ++level;
    const auto p = library.picture(ref, t, level);
    if (!p) return std::nullopt;
    Observation out;
    out.scale = 1.0 / (1 << level);
    out.grey.create(p->height(), p->width(), CV_8U);
    for (int y = 0; y < p->height(); ++y)
        for (int x = 0; x < p->width(); ++x)
            out.grey.at<std::uint8_t>(y, x) =
                std::uint8_t(std::clamp(pixel_at(*p, x, y).g, 0.0f, 1.0f) * 255);
    return out;
}

std::vector<cv::Point2f> corners_in(const Observation& s, const std::vector<ShapeCorner>& shape,
                                    const Lens& lens) {
    std::vector<cv::Point> outline;
    for (const Vec2& p : outline_of(shape)) {
        const Vec2 px = (lens.circle.center_px + p * lens.circle.radius_px) * s.scale;
        outline.emplace_back(int(px.x()), int(px.y()));
    }
    cv::Mat mask = cv::Mat::zeros(s.grey.size(), CV_8U);
    cv::fillPoly(mask, std::vector<std::vector<cv::Point>>{outline}, 255);
    std::vector<cv::Point2f> found;
    cv::goodFeaturesToTrack(s.grey, found, kMostCornersSeen, 0.01, 4, mask);
    return found;
}

/// The shape after its surroundings moved as most corners did; nothing when too few agree.
std::optional<std::vector<ShapeCorner>> moved(const Observation& from, const Observation& to,
                                              const std::vector<ShapeCorner>& shape, const Lens& lens) {
    const auto seen = corners_in(from, shape, lens);
    if (int(seen.size()) < kFewest) return std::nullopt;
    std::vector<cv::Point2f> there, back;
    std::vector<std::uint8_t> ok, ok_back;
    std::vector<float> off;
    cv::calcOpticalFlowPyrLK(from.grey, to.grey, seen, there, ok, off, cv::Size(21, 21), 4);
    cv::calcOpticalFlowPyrLK(to.grey, from.grey, there, back, ok_back, off, cv::Size(21, 21), 4);
    std::vector<cv::Point2f> a, b;
    for (std::size_t i = 0; i < seen.size(); ++i)
        if (ok[i] && ok_back[i] && cv::norm(back[i] - seen[i]) < 1)
            a.push_back(seen[i]), b.push_back(there[i]);
    if (int(a.size()) < kFewest) return std::nullopt;
    std::vector<std::uint8_t> agree;
    const cv::Mat m = cv::estimateAffinePartial2D(a, b, agree, cv::RANSAC, kAgree_px);
    if (m.empty() || std::count(agree.begin(), agree.end(), 1) <
                         std::max<std::ptrdiff_t>(kFewest, std::ptrdiff_t(a.size()) / 3))
        return std::nullopt;
    const double r = lens.circle.radius_px * from.scale;
    const Vec2 centre = lens.circle.center_px * from.scale;
    const Vec2 x(m.at<double>(0, 0), m.at<double>(1, 0)), y(m.at<double>(0, 1), m.at<double>(1, 1)),
        shift(m.at<double>(0, 2), m.at<double>(1, 2));
    const auto turned = [&](const Vec2& v) { return Vec2(x * v.x() + y * v.y()); };
    std::vector<ShapeCorner> out;
    for (const ShapeCorner& c : shape)
        out.push_back({(turned(centre + c.at * r) + shift - centre) / r, turned(c.before), turned(c.after)});
    return out;
}

double apart(const std::vector<ShapeCorner>& a, const std::vector<ShapeCorner>& b) {
    double most = 0;
    for (std::size_t i = 0; i < a.size(); ++i) most = std::max(most, (a[i].at - b[i].at).norm());
    return most;
}

/// How far a key's corners are from where even movement from one key to another has them at its time.
double off_movement(const ShapeKey& from, const ShapeKey& to, const ShapeKey& key) {
    Shape line;
    line.keys = {from, to};
    return apart(corners_at(line, key.time), key.corners);
}

} // namespace

FollowedShape follow_shape(const Project& project, const Shot& shot, const ShotCamera& use,
                           const Shape& shape, Seconds start, Seconds end,
                           const std::shared_ptr<MediaLibrary>& library,
                           const std::function<void(double)>& progress, const Cancel& cancel) {
    const Media* media = find_media(project, use.media);
    if (!media) throw Error("has no source", "camera " + use.camera, "Assign one to it");
    const Lens& lens = find_camera(shot.rig, use.camera)->lens;
    const auto frames = std::max<std::int64_t>(1, std::llround(kStep_s * shot.timing.rate.to_double()));
    const Seconds step = Rational(frames) / shot.timing.rate;
    const auto look = [&](Seconds t) {
        return observation_at(*library, media->ref, shown_time(use, t, shot.timing.rate), lens);
    };
    const ShapeKey first{start, corners_at(shape, start)};
    const auto begin = look(start);
    if (!begin)
        throw Error("has no picture at this moment", "camera " + use.camera, "Go to where its source runs");
    if (int(corners_in(*begin, first.corners, lens).size()) < kFewest)
        throw Error("shows nothing that could be followed", "the shape at its present moment",
                    "Put it over something with detail, or set its keys by hand");
    FollowedShape out;
    std::vector<ShapeKey> before, after;
    const double whole = std::max(1e-9, (end - shot.timing.in).to_double());
    double done = 0;
    for (const bool onward : {true, false}) {
        std::optional<Observation> last = begin;
        ShapeKey now = first;
        while (true) {
            cancel.check();
            const Seconds t = onward ? now.time + step : now.time - step;
            if (onward ? t >= end : t < shot.timing.in) break;
            auto next = look(t);
            const auto corners = next ? moved(*last, *next, now.corners, lens) : std::nullopt;
            if (!corners) {
                out.lost = true;
                break;
            }
            now = {t, *corners};
            (onward ? after : before).push_back(now);
            last = std::move(next);
            done += step.to_double();
            if (progress) progress(std::min(1.0, done / whole));
        }
    }
    std::vector<ShapeKey> all(before.rbegin(), before.rend());
    all.push_back(first);
    all.insert(all.end(), after.begin(), after.end());
    out.keys = thinned_keys(all, kThin, off_movement);
    return out;
}

} // namespace porb
