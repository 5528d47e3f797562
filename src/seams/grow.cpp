#include "seams/grow.h"

#include "base/angle.h"
#include "base/error.h"
#include "stitch/plan/coverage.h"

#include <opencv2/imgproc.hpp>

#include <algorithm>

namespace porb {

namespace {

constexpr int kWindow = 220;      ///< pixels a side of what is looked at
constexpr double kView_deg = 80;  ///< and how wide that is
constexpr double kSure_deg = 1.2; ///< about the click: certainly the subject
constexpr double kMost_deg = 34;  ///< from the click: certainly not
constexpr double kApart_s = 0.5;  ///< of the moments that motion is told from
constexpr int kMoved = 12;        ///< levels of the channel that differs most
constexpr int kRounds = 4;
constexpr double kLeast_deg = 2, kMargin = 1.12;
constexpr double kGrown = 1.5;  ///< times what was sure from the beginning: less has not grown
constexpr double kFills = 0.55; ///< of what could be the subject: more is not one, but the room

cv::Mat bytes_of(const Picture& p) {
    cv::Mat out(p.height(), p.width(), CV_8UC3);
    for (int y = 0; y < p.height(); ++y)
        for (int x = 0; x < p.width(); ++x) {
            const Rgba c = pixel_at(p, x, y);
            const auto byte = [](float v) { return std::uint8_t(std::clamp(v, 0.0f, 1.0f) * 255); };
            out.at<cv::Vec3b>(y, x) = {byte(c.b), byte(c.g), byte(c.r)};
        }
    return out;
}

/// Where two moments differ, noise and single pixels left out.
cv::Mat moved_between(const cv::Mat& a, const cv::Mat& b) {
    cv::Mat off, most;
    cv::absdiff(a, b, off);
    cv::GaussianBlur(off, off, cv::Size(5, 5), 1.2);
    cv::Mat channels[3];
    cv::split(off, channels);
    most = cv::max(channels[0], cv::max(channels[1], channels[2]));
    return most > kMoved;
}

} // namespace

ShelterKey subject_at(const Project& project, const Shot& shot, Seconds time, const Vec3& rig_direction,
                      const std::shared_ptr<MediaLibrary>& library) {
    Shot plain = shot;
    plain.levelling.orientation = {};
    plain.levelling.orientation_keys.clear();
    plain.levelling.steady.reset();
    plain.seams.shelters.clear();
    plain.look.grade = {};
    plain.look.denoise.on = false;
    plain.seams.flow.on = false;
    plain.seams.seam_lines = SeamLines();
    plain.seams.blend.kind = Blending::feathered;
    ShelterKey key;
    key.time = time;
    const Turn to = turn_towards(rig_direction);
    key.yaw_deg = to.yaw_deg, key.pitch_deg = to.pitch_deg;
    View view;
    view.target = window_target(kWindow, kWindow, {key.yaw_deg, key.pitch_deg, 0}, kView_deg);
    view.filter = Filter::linear;
    const auto inside = Coverage(plan_key(plain, view, time)).margin_deg(rig_direction);
    const auto best = std::size_t(std::max_element(inside.begin(), inside.end()) - inside.begin());
    if (inside.empty() || inside[best] <= 0)
        throw Error("No camera looks there", "the click", "Click on a subject that a camera shows");
    for (std::size_t c = 0; c < plain.cameras.size(); ++c) plain.cameras[c].used = c == best;
    Composer composer(library);
    const auto look = [&](Seconds t) { return bytes_of(composer.compose(project, plain, t, view)); };
    const cv::Mat now = look(time);
    const Span span = used_span(project, plain, *library);
    cv::Mat moved = cv::Mat::zeros(now.size(), CV_8U);
    bool first = true; // a place that differs from both moments is the subject, not where it was or will be
    for (const Seconds apart : {Rational::from_double(-kApart_s), Rational::from_double(kApart_s)}) {
        const Seconds t = time + apart;
        if (t < span.in || t >= span.out) continue;
        const cv::Mat between = moved_between(now, look(t));
        moved = first ? between : cv::Mat(moved & between);
        first = false;
    }
    const double focal = kWindow / 2.0 / std::tan(radians(kView_deg / 2));
    cv::Mat labels(now.size(), CV_8U);
    const bool moves = cv::countNonZero(moved(cv::Rect(kWindow / 2 - 4, kWindow / 2 - 4, 9, 9))) > 8;
    for (int y = 0; y < kWindow; ++y)
        for (int x = 0; x < kWindow; ++x) {
            const double off =
                degrees(std::atan(std::hypot(x + 0.5 - kWindow / 2.0, y + 0.5 - kWindow / 2.0) / focal));
            std::uint8_t l = off < kSure_deg ? cv::GC_FGD : off > kMost_deg ? cv::GC_BGD : cv::GC_PR_BGD;
            if (l == cv::GC_PR_BGD && (moves ? moved.at<std::uint8_t>(y, x) > 0 : off < 4 * kSure_deg))
                l = cv::GC_PR_FGD;
            labels.at<std::uint8_t>(y, x) = l;
        }
    cv::Mat behind, before;
    cv::setRNGSeed(1); // the same click grows the same shelter
    cv::grabCut(now, labels, {}, behind, before, kRounds, cv::GC_INIT_WITH_MASK);
    const cv::Mat by_colour = (labels == cv::GC_FGD) | (labels == cv::GC_PR_FGD);
    const auto part_at_click = [&](const cv::Mat& mask) -> cv::Rect {
        cv::Mat closed, parts, stats, middles;
        cv::morphologyEx(mask, closed, cv::MORPH_CLOSE, cv::Mat::ones(7, 7, CV_8U));
        cv::connectedComponentsWithStats(closed, parts, stats, middles);
        const int mine = parts.at<int>(kWindow / 2, kWindow / 2);
        if (mine == 0) return {};
        return {stats.at<int>(mine, cv::CC_STAT_LEFT), stats.at<int>(mine, cv::CC_STAT_TOP),
                stats.at<int>(mine, cv::CC_STAT_WIDTH), stats.at<int>(mine, cv::CC_STAT_HEIGHT)};
    };
    // What moved and has the subject's colours; else either of the two.
    const double possible = std::pow(2 * focal * std::tan(radians(kMost_deg)), 2),
                 seeded = 2 * focal * std::tan(radians(kSure_deg));
    cv::Rect box;
    for (const cv::Mat& mask : {cv::Mat(by_colour & moved), moved, by_colour}) {
        const cv::Rect found = part_at_click(mask | (labels == cv::GC_FGD));
        if (std::min(found.width, found.height) < kGrown * seeded || double(found.area()) > kFills * possible)
            continue;
        box = found;
        break;
    }
    if (box.empty())
        throw Error("Nothing there stands out from what is about it", "the click",
                    "Click on the middle of the subject, or draw the shelter by hand");
    const auto angle = [focal](double px) { return degrees(std::atan((px - kWindow / 2.0) / focal)); };
    const double left = angle(box.x), right = angle(box.x + box.width), top = angle(box.y),
                 low = angle(box.y + box.height);
    key.width_deg = std::clamp(kMargin * (right - left), kLeast_deg, 120.0);
    key.height_deg = std::clamp(kMargin * (low - top), kLeast_deg, 120.0);
    const Vec3 d =
        rotation_of({key.yaw_deg, key.pitch_deg, 0}) *
        Vec3(std::tan(radians((left + right) / 2)), std::tan(radians((top + low) / 2)), 1).normalized();
    const Turn found = turn_towards(d);
    key.yaw_deg = found.yaw_deg, key.pitch_deg = found.pitch_deg;
    return key;
}

} // namespace porb
