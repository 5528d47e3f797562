#include "stereo/measure.h"

#include "base/angle.h"
#include "base/parallel.h"
#include "optics/eye_pairs.h"
#include "picture/transfer.h"
#include "project/orientation.h"
#include "stereo/torn.h"

#include <opencv2/imgproc.hpp>
#include <opencv2/video/tracking.hpp>

#include <algorithm>
#include <cmath>

namespace porb {

namespace {

constexpr int kPatch = 15, kFlat = kPatch + 8; ///< pixels a side, of what is compared and what is cut out
constexpr double kLeastAlike = 0.8, kLeastAhead = 0.03;
constexpr double kLeastDetail = 3;    ///< grey levels, standard deviation of a patch
constexpr double kLeastOfMean = 1e-3; ///< detail over brightness
constexpr double kBackAgain_px = 0.3;
constexpr double kRim_deg = 12;      ///< of a half sphere
constexpr double kBeyond_deg = 0.12; ///< past infinity: more than matching is off by

/// Grey levels, and linear light; where a lens sees.
struct EyePicture {
    cv::Mat grey, light, seen;
};
EyePicture eye_picture(const Picture& p) {
    EyePicture out{cv::Mat(p.height(), p.width(), CV_8U), cv::Mat(p.height(), p.width(), CV_32FC3),
                   cv::Mat(p.height(), p.width(), CV_8U)};
    parallel_ranges(p.height(), 16, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < p.width(); ++x) {
                const Rgba c = pixel_at(p, x, y);
                const float grey = 0.2126f * c.r + 0.7152f * c.g + 0.0722f * c.b;
                out.grey.at<std::uint8_t>(y, x) =
                    cv::saturate_cast<std::uint8_t>(255 * std::clamp(grey, 0.0f, 1.0f));
                out.light.at<cv::Vec3f>(y, x) = {linear_from_encoded(c.r), linear_from_encoded(c.g),
                                                 linear_from_encoded(c.b)};
                out.seen.at<std::uint8_t>(y, x) = c.a > 0.99f ? 255 : 0;
            }
    });
    return out;
}

/// A flat piece of a panorama, upright about a direction, as dense as its horizon.
struct Flat {
    cv::Mat u, v;
    Flat(const Vec3& middle, const cv::Size& panorama, int width, int height) {
        const Vec3 east = Vec3(middle.z(), 0, -middle.x()).normalized(), down = middle.cross(east);
        const double step = 2 * kPi / panorama.width;
        u.create(height, width, CV_32F);
        v.create(height, width, CV_32F);
        for (int j = 0; j < height; ++j)
            for (int i = 0; i < width; ++i) {
                // Along a row by the angle about the vertical, as disparity runs, so that nothing tilts.
                const double turn =
                    step * (i - width / 2) / std::max(0.1, std::hypot(middle.x(), middle.z()));
                const Vec3 d0 = middle + step * (j - height / 2) * down;
                const double c = std::cos(turn), s = std::sin(turn);
                const Vec3 d(c * d0.x() + s * d0.z(), d0.y(), c * d0.z() - s * d0.x());
                u.at<float>(j, i) =
                    float((std::atan2(d.x(), d.z()) / (2 * kPi) + 0.5) * panorama.width - 0.5);
                v.at<float>(j, i) = float((0.5 + std::asin(d.y() / d.norm()) / kPi) * panorama.height - 0.5);
            }
    }
    cv::Mat of(const cv::Mat& panorama) const {
        cv::Mat out;
        cv::remap(panorama, out, u, v, cv::INTER_LINEAR, cv::BORDER_WRAP);
        return out;
    }
};

double detail_of(const cv::Mat& grey) {
    cv::Mat fine;
    cv::Laplacian(grey, fine, CV_32F);
    cv::Scalar mean, deviation;
    cv::meanStdDev(fine, mean, deviation);
    return deviation[0];
}

/// Whether a patch is like nothing beside it along the strip of its own picture; what repeats says nothing.
bool is_unique(const cv::Mat& left, const cv::Mat& own_strip) {
    const cv::Rect middle((left.cols - kPatch) / 2, (left.rows - kPatch) / 2, kPatch, kPatch);
    cv::Mat score;
    cv::matchTemplate(own_strip, left(middle), score, cv::TM_CCOEFF_NORMED);
    const cv::Rect about =
        cv::Rect(score.cols / 2 - 3, score.rows / 2 - 3, 7, 7) & cv::Rect(0, 0, score.cols, score.rows);
    score(about).setTo(-1);
    double next = 0;
    cv::minMaxLoc(score, nullptr, &next);
    return next < kLeastAlike;
}

/// A copy of what the right eye shows, as bright and as strong in contrast as the left one's piece: least
/// squares take a difference in brightness for one of place.
cv::Mat as_bright_as(const cv::Mat& left, const cv::Mat& right) {
    cv::Scalar mean_l, deviation_l, mean_r, deviation_r;
    cv::meanStdDev(left, mean_l, deviation_l);
    cv::meanStdDev(right, mean_r, deviation_r);
    const double gain = deviation_l[0] / std::max(1.0, deviation_r[0]);
    cv::Mat out;
    right.convertTo(out, CV_8U, gain, mean_l[0] - gain * mean_r[0]);
    return out;
}

/// Where the right eye shows what the left one has at the middle of `left`, as an offset in pixels from the
/// middle of `right`; nothing where that cannot be told.
std::optional<cv::Point2f> found_in(const cv::Mat& left, const cv::Mat& right) {
    const cv::Rect middle((left.cols - kPatch) / 2, (left.rows - kPatch) / 2, kPatch, kPatch);
    cv::Mat score;
    cv::matchTemplate(right, left(middle), score, cv::TM_CCOEFF_NORMED);
    double best = 0, next = 0;
    cv::Point at;
    cv::minMaxLoc(score, nullptr, &best, nullptr, &at);
    if (!(best >= kLeastAlike) || at.x == 0 || at.y == 0 || at.x == score.cols - 1 || at.y == score.rows - 1)
        return std::nullopt;
    const cv::Rect about = cv::Rect(at.x - 2, at.y - 2, 5, 5) & cv::Rect(0, 0, score.cols, score.rows);
    score(about).setTo(-1);
    cv::minMaxLoc(score, nullptr, &next);
    if (best - next < kLeastAhead) return std::nullopt; // what repeats may be its neighbour
    const cv::Rect there(at.x + kPatch / 2 - left.cols / 2, at.y + kPatch / 2 - left.rows / 2, left.cols,
                         left.rows);
    if ((there & cv::Rect(0, 0, right.cols, right.rows)) != there) return std::nullopt;
    const cv::Mat near = as_bright_as(left, right(there));
    const cv::Point2f from(float(left.cols / 2), float(left.rows / 2)), guess = from;
    std::vector<cv::Point2f> a{from}, b{guess}, back{from};
    std::vector<uchar> ok, ok_back;
    std::vector<float> error;
    const cv::TermCriteria until(cv::TermCriteria::COUNT + cv::TermCriteria::EPS, 30, 0.003);
    const cv::Size window(kPatch, kPatch);
    cv::calcOpticalFlowPyrLK(left, near, a, b, ok, error, window, 0, until, cv::OPTFLOW_USE_INITIAL_FLOW,
                             1e-3);
    if (!ok[0] || cv::norm(b[0] - guess) > 1.5) return std::nullopt;
    cv::calcOpticalFlowPyrLK(near, left, b, back, ok_back, error, window, 0, until,
                             cv::OPTFLOW_USE_INITIAL_FLOW, 1e-3);
    if (!ok_back[0] || cv::norm(back[0] - from) > kBackAgain_px) return std::nullopt;
    return b[0] + cv::Point2f(float(there.x - right.cols / 2), float(there.y - right.rows / 2));
}

double quantile(std::vector<double>& v, double share) {
    if (v.empty()) return 0;
    const auto n = std::min(v.size() - 1, std::size_t(share * double(v.size())));
    std::nth_element(v.begin(), v.begin() + std::ptrdiff_t(n), v.end());
    return v[n];
}

/// Every place that could be told, wrong ones included.
EyeMoment places_of(const Picture& left_picture, const Picture& right_picture, const EyeMeasuring& how) {
    const EyePicture left = eye_picture(left_picture), right = eye_picture(right_picture);
    const cv::Size size = left.grey.size();
    const double pixel_deg = 360.0 / size.width;
    const int wide = 2 * int(std::ceil(how.widest_deg / pixel_deg)) + kFlat,
              tall = 2 * int(std::ceil(how.tallest_deg / pixel_deg)) + kFlat;
    std::vector<Vec3> directions;
    for (double lat = -how.highest_deg; lat <= how.highest_deg; lat += how.apart_deg) {
        const double c = std::cos(radians(lat)), s = std::sin(radians(lat));
        for (double lon = -180; lon < 180; lon += how.apart_deg / c)
            directions.push_back({c * std::sin(radians(lon)), -s, c * std::cos(radians(lon))});
    }
    EyeMoment out;
    std::vector<std::optional<EyePlace>> places(directions.size());
    std::vector<char> tried(directions.size(), 0);
    parallel_ranges(int(directions.size()), 16, [&](int begin, int end) {
        for (int i = begin; i < end; ++i) {
            const Vec3& d = directions[std::size_t(i)];
            const Flat patch(d, size, kFlat, kFlat);
            const cv::Mat a = patch.of(left.grey);
            cv::Mat seen = patch.of(left.seen);
            if (cv::countNonZero(seen < 255) > 0) continue;
            cv::Scalar mean, deviation;
            cv::meanStdDev(a, mean, deviation);
            if (deviation[0] < kLeastDetail) continue;
            const Flat strip(d, size, wide, tall);
            const auto off = found_in(a, strip.of(right.grey));
            if (!off) {
                tried[std::size_t(i)] = is_unique(a, strip.of(left.grey));
                continue;
            }
            tried[std::size_t(i)] = 1;
            EyePlace place;
            place.direction = d;
            const double horizon = std::hypot(d.x(), d.z());
            // A disparity is an angle about the vertical; near the poles a step along a row is a wide one.
            place.horizontal_deg = float(-off->x * pixel_deg / std::max(0.1, horizon));
            place.vertical_deg = float(off->y * pixel_deg);
            const double turn = radians(-double(place.horizontal_deg)),
                         tilt = radians(double(place.vertical_deg));
            const double lat = std::asin(std::clamp(d.y(), -1.0, 1.0)) + tilt,
                         lon = std::atan2(d.x(), d.z()) + turn;
            const Flat there({std::cos(lat) * std::sin(lon), std::sin(lat), std::cos(lat) * std::cos(lon)},
                             size, kFlat, kFlat);
            seen = there.of(right.seen);
            if (cv::countNonZero(seen < 255) > 0) continue;
            const cv::Scalar light_a = cv::mean(patch.of(left.light)),
                             light_b = cv::mean(there.of(right.light));
            for (int c = 0; c < 3; ++c)
                place.ev[std::size_t(c)] =
                    float(std::log2(std::max(1e-4, light_b[c]) / std::max(1e-4, light_a[c])));
            // Detail against brightness: a darker eye is not a softer one.
            const cv::Mat b = there.of(right.grey);
            const double detail_a = detail_of(a) / std::max(1.0, mean[0]),
                         detail_b = detail_of(b) / std::max(1.0, cv::mean(b)[0]);
            place.sharper =
                float(std::log2(std::max(kLeastOfMean, detail_b) / std::max(kLeastOfMean, detail_a)));
            places[std::size_t(i)] = place;
        }
    });
    for (std::size_t i = 0; i < directions.size(); ++i) {
        if (tried[i]) out.tried.push_back(directions[i]);
        if (places[i]) out.places.push_back(*places[i]);
    }
    return out;
}

/// Drops places whose vertical disparity has nothing to do with that of those around them: they were taken
/// for something else.
void drop_mismatches(EyeMoment& moment) {
    constexpr double kAround_deg = 13, kApart_deg = 0.4;
    constexpr std::size_t kFew = 3;
    const double cos_around = std::cos(radians(kAround_deg));
    std::vector<EyePlace> kept;
    std::vector<double> about;
    for (const EyePlace& p : moment.places) {
        about.clear();
        for (const EyePlace& q : moment.places)
            if (&q != &p && q.direction.dot(p.direction) > cos_around)
                about.push_back(double(q.vertical_deg));
        if (about.size() < kFew || std::abs(quantile(about, 0.5) - double(p.vertical_deg)) < kApart_deg)
            kept.push_back(p);
    }
    moment.places = std::move(kept);
}

/// Drops places that stand alone with a disparity that no distance about them gives: they were taken for
/// their like elsewhere. Where several beside each other say so, eyes drawn from different lenses do show it.
/// `inverse_m` is the left eye's.
void drop_undrawn(EyeMoment& moment, const Shot& shot, const SphereGrid& inverse_m) {
    constexpr double kAbout_deg = 1.6, kApart_deg = 0.5, kShare = 0.15;
    constexpr double kBeside_deg = 9, kAlike_deg = 0.3;
    const Mat3 to_rig = orientation_at(shot, moment.time).transpose();
    const EyeRays left = eye_rays_of(shot, Eye::left, moment.time);
    const double step = std::tan(radians(kAbout_deg / 2));
    const auto is_drawn = [&](const EyePlace& p) {
        const Vec3 across = Vec3(0, 1, 0).cross(p.direction).normalized(), up = p.direction.cross(across);
        const double h = double(p.horizontal_deg);
        for (int j = -2; j <= 2; ++j)
            for (int i = -2; i <= 2; ++i) {
                const Vec3 d = (p.direction + step * (i * across + j * up)).normalized();
                const double drawn =
                    drawn_disparity_deg(shot, moment.time, d, inverse_m.at(to_rig * left.looks(d)));
                if (std::abs(h - drawn) <= std::max(kApart_deg, kShare * std::abs(h))) return true;
            }
        return false;
    };
    const auto has_company = [&](const EyePlace& p) {
        const double alike = kAlike_deg + kShare * std::abs(double(p.horizontal_deg));
        return std::any_of(moment.places.begin(), moment.places.end(), [&](const EyePlace& q) {
            return &q != &p && q.direction.dot(p.direction) > std::cos(radians(kBeside_deg)) &&
                   std::abs(double(q.horizontal_deg - p.horizontal_deg)) < alike &&
                   std::abs(double(q.vertical_deg - p.vertical_deg)) < kAlike_deg;
        });
    };
    std::vector<EyePlace> kept;
    for (const EyePlace& p : moment.places)
        if (is_drawn(p) || has_company(p))
            kept.push_back(p);
        else
            std::erase_if(moment.tried, [&](const Vec3& d) { return d == p.direction; });
    moment.places = std::move(kept);
}

/// Of a pair that stands where it stands, parallax runs along the planes through both entrance pupils, which
/// are not the rows of a sphere away from the middle: what counts is by how much a place is off its plane.
void off_the_baseline(EyeMoment& moment, const Shot& shot, Seconds time) {
    if (!is_half_sphere_pair(shot.rig)) return;
    const Camera *left = &shot.rig.cameras[0], *right = &shot.rig.cameras[1];
    if (left->eyes == Eyes::right) std::swap(left, right);
    const Vec3 along = orientation_at(shot, time) * (right->pose.position_m - left->pose.position_m) *
                       (shot.stereo.swap ? -1 : 1);
    if (along.norm() < 1e-4) return;
    const EyeRays left_rays = eye_rays_of(shot, Eye::left, time),
                  right_rays = eye_rays_of(shot, Eye::right, time);
    constexpr double kLeastAcross = 0.3; // beside the baseline itself planes come together
    std::erase_if(moment.places, [&](EyePlace& p) {
        const double lon = std::atan2(p.direction.x(), p.direction.z()) - radians(double(p.horizontal_deg)),
                     lat = std::asin(p.direction.y()) + radians(double(p.vertical_deg));
        const Vec3 there(std::cos(lat) * std::sin(lon), std::sin(lat), std::cos(lat) * std::cos(lon));
        const Vec3 across = along.normalized().cross(left_rays.looks(p.direction));
        if (across.norm() < kLeastAcross) return true;
        const double off = degrees(std::asin(right_rays.looks(there).dot(across.normalized())));
        p.vertical_deg = float(across.y() < 0 ? -off : off);
        return false;
    });
}

} // namespace

EyeMoment compared_eyes(const Picture& left, const Picture& right, const EyeMeasuring& how) {
    EyeMoment out = places_of(left, right, how);
    drop_mismatches(out);
    return out;
}

EyeMoment measure_eyes(Composer& composer, const Project& project, const Shot& shot, Seconds time,
                       const EyeMeasuring& how, const Cancel& cancel) {
    View view;
    view.target = equirect_target(how.width);
    Shot plain = shot;
    plain.look.grade = Grade(); // what a grade does it does to both
    view.eye = Eye::left;
    const Picture left = composer.compose(project, plain, time, view, cancel);
    view.eye = Eye::right;
    const Picture right = composer.compose(project, plain, time, view, cancel);
    cancel.check();
    EyeMoment out = places_of(left, right, how);
    out.time = time;
    if (shot.stereo.from == EyesFrom::cameras) off_the_baseline(out, shot, time);
    if (shot.stereo.from == EyesFrom::distances)
        if (const SphereGrid found = composer.distances(project, plain, time, Eye::left, cancel);
            !found.empty())
            drop_undrawn(out, shot, found);
    drop_mismatches(out);
    if (how.torn) out.torn = torn_in_one_eye(composer, project, plain, time, how.width, cancel);
    return out;
}

double drawn_disparity_deg(const Shot& shot, Seconds time, const Vec3& direction, double inverse_m) {
    const EyeRays left = eye_rays_of(shot, Eye::left, time), right = eye_rays_of(shot, Eye::right, time);
    const Vec3 from_left = left.looks(direction.normalized()), left_m = left.origin_m(from_left);
    Vec3 from_right = from_left; // where a ray begins depends on where it looks
    constexpr int kRounds = 3;
    for (int round = 0; round < kRounds; ++round)
        from_right = (from_left + inverse_m * (left_m - right.origin_m(from_right))).normalized();
    const Vec3 there = right.shown(from_right);
    return degrees(
        std::remainder(std::atan2(direction.x(), direction.z()) - std::atan2(there.x(), there.z()), 2 * kPi));
}

std::vector<Seconds> eye_times(Seconds in, Seconds out, FrameRate rate, double step_s) {
    const auto frames = std::max<std::int64_t>(1, ((out - in) * rate).round());
    auto step = std::max<std::int64_t>(1, std::int64_t(std::llround(step_s * rate.to_double())));
    step = std::max(step, (frames + kMostEyeTimes - 1) / kMostEyeTimes);
    std::vector<Seconds> times;
    for (std::int64_t n = 0; n < frames; n += step) times.push_back(in + frame_time(n, rate));
    return times;
}

double parallel_disparity_deg(const Shot& shot, Seconds time, double horizontal_deg) {
    const double turn =
        eye_rays_of(shot, Eye::left, time).turn_deg - eye_rays_of(shot, Eye::right, time).turn_deg;
    return horizontal_deg + turn;
}

EyeRegion region_of(const Vec3& direction) {
    constexpr double kBand_deg = 30;
    const double down = degrees(std::asin(std::clamp(direction.normalized().y(), -1.0, 1.0)));
    if (std::abs(down) > kBand_deg) return down > 0 ? EyeRegion::below : EyeRegion::above;
    const double yaw = degrees(std::atan2(direction.x(), direction.z()));
    return EyeRegion((int(std::floor((yaw + 45) / 90)) + 4) % 4);
}

std::array<EyeSummary, 6> by_region(std::span<const EyeMoment> moments, const Shot& shot) {
    std::array<EyeMoment, 6> parts;
    for (const EyeMoment& m : moments) {
        const auto part = [&](const Vec3& d) -> EyeMoment& { return parts[std::size_t(region_of(d))]; };
        for (const EyePlace& p : m.places) part(p.direction).places.push_back(p);
        for (const Vec3& d : m.tried) part(d).tried.push_back(d);
        for (const TornEdge& t : m.torn) part(t.direction).torn.push_back(t);
    }
    std::array<EyeSummary, 6> out;
    for (std::size_t i = 0; i < parts.size(); ++i) out[i] = summary_of(parts[i], shot);
    return out;
}

EyeSummary summary_of(const EyeMoment& moment, const Shot& shot) {
    EyeSummary out;
    out.time = moment.time;
    out.places = moment.places.size();
    out.told = moment.tried.empty() ? 0 : double(moment.places.size()) / double(moment.tried.size());
    for (const TornEdge& t : moment.torn) out.torn_px += t.length_px;
    if (moment.places.empty()) return out;
    std::vector<double> vertical, horizontal, sharper, ev[3];
    int outside = 0, beyond = 0, at_rim = 0, cut = 0;
    const bool half = is_half_sphere_pair(shot.rig);
    const double turn = parallel_disparity_deg(shot, moment.time, 0);
    const ComfortBudget& budget = shot.stereo.comfort;
    for (const EyePlace& p : moment.places) {
        const double h = double(p.horizontal_deg);
        horizontal.push_back(h);
        outside += h > budget.near_deg || h < -budget.far_deg;
        beyond += h + turn < -kBeyond_deg;
        if (half && p.direction.z() > 0 && p.direction.z() < std::sin(radians(kRim_deg)))
            ++at_rim, cut += h > kBeyond_deg;
        sharper.push_back(double(p.sharper));
        for (std::size_t c = 0; c < 3; ++c) ev[c].push_back(double(p.ev[c]));
        if (degrees(std::asin(std::abs(p.direction.y()))) <= kEyeHorizon_deg)
            vertical.push_back(std::abs(double(p.vertical_deg)));
    }
    double sum = 0;
    for (const double v : vertical) sum += v;
    const double mean = vertical.empty() ? 0 : sum / double(vertical.size());
    out.vertical_px = mean / kEyePx_deg;
    out.vertical_arcmin = mean * 60;
    out.vertical_95_px = quantile(vertical, 0.95) / kEyePx_deg;
    out.nearest_deg = quantile(horizontal, 0.99);
    out.farthest_deg = quantile(horizontal, 0.01);
    out.outside = double(outside) / double(moment.places.size());
    out.beyond_infinity = double(beyond) / double(moment.places.size());
    out.cut_near = at_rim > 0 ? double(cut) / at_rim : 0;
    out.sharper = quantile(sharper, 0.5);
    for (std::size_t c = 0; c < 3; ++c) out.ev[c] = quantile(ev[c], 0.5);
    return out;
}

} // namespace porb
