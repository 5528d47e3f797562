#include "stitch/strips/changed_match.h"

#include "stitch/colour_match/guide.h"

#include <opencv2/imgproc.hpp>

#include <algorithm>
#include <cmath>
#include <vector>

namespace porb {

namespace {

constexpr int kChangedColumns = 12, kChangedRows = 8; ///< about what changed: two degrees
constexpr double kMostChanged = 0.6;                  ///< of a strip: beyond it all is matched anew
constexpr double kMostInParts = 0.8;                  ///< likewise: parts that come to more are one
constexpr int kBeside = 16; ///< columns and rows beside what is asked for, which windows read
constexpr int kAligned =
    16; ///< parts begin where the whole strip's blocks do, of pictures half as large, too

/// A part of a strip, and what is asked for in it: places of the strip with one of these labels.
struct Part {
    cv::Rect within;
    std::vector<int> labels;
};

/// With what has to be seen to match it: a shows things up to `disparities` columns before b does. Where a
/// strip goes all the way round, what lies at its ends is seen best in all rows.
cv::Rect surroundings(const cv::Rect& box, const StripSearch& search, const cv::Size& strip) {
    const auto down = [](int v) { return std::max(0, v / kAligned * kAligned); };
    const int left = down(box.x - search.disparities - kBeside),
              right = std::min(strip.width, box.br().x + kBeside);
    int top = down(box.y - kBeside), bottom = std::min(strip.height, box.br().y + kBeside);
    if (search.round && (top == 0 || bottom == strip.height)) top = 0, bottom = strip.height;
    return {left, top, right - left, bottom - top};
}

/// Things that changed apart from each other, those together that one part holds more cheaply.
std::vector<Part> parts_of(const cv::Mat& labels, const cv::Mat& stats, const StripSearch& search) {
    std::vector<Part> parts;
    for (int i = 1; i < stats.rows; ++i)
        parts.push_back(
            {surroundings({stats.at<int>(i, cv::CC_STAT_LEFT), stats.at<int>(i, cv::CC_STAT_TOP),
                           stats.at<int>(i, cv::CC_STAT_WIDTH), stats.at<int>(i, cv::CC_STAT_HEIGHT)},
                          search, labels.size()),
             {i}});
    const auto join = [&](std::size_t i, std::size_t j) {
        parts[i].within |= parts[j].within;
        parts[i].labels.insert(parts[i].labels.end(), parts[j].labels.begin(), parts[j].labels.end());
        parts.erase(parts.begin() + std::ptrdiff_t(j));
    };
    for (bool joined = true; joined;) {
        joined = false;
        for (std::size_t i = 0; i < parts.size(); ++i)
            for (std::size_t j = parts.size() - 1; j > i; --j)
                if ((parts[i].within | parts[j].within).area() <=
                    parts[i].within.area() + parts[j].within.area())
                    join(i, j), joined = true;
    }
    double all = 0;
    for (const Part& p : parts) all += p.within.area();
    while (all > kMostInParts * double(labels.total()) && parts.size() > 1) join(0, parts.size() - 1);
    return parts;
}

StripMask part_of(const StripMask& mask, const cv::Rect& within) {
    return {mask.seen(within), mask.per_share(within)};
}

} // namespace

StripUpdate changed_since(const StripMoment& before, const cv::Mat& a, const cv::Mat& b) {
    const cv::Mat about = cv::Mat::ones(2 * kChangedRows + 1, 2 * kChangedColumns + 1, CV_8U);
    const auto changed = [&](const cv::Mat& now, const cv::Mat& then) {
        cv::Mat out = difference_about(brightness_of(now), then) > kStill;
        cv::dilate(out, out, about);
        return out;
    };
    StripUpdate out{&before, changed(a, before.a), changed(b, before.b)};
    if (cv::countNonZero(out.of_b) > kMostChanged * double(out.of_b.total())) return {};
    // a shows what b does at another place: where it was, or where a itself changed.
    cv::Mat shown(a.size(), CV_8U, cv::Scalar(0));
    for (int y = 0; y < shown.rows; ++y) {
        const auto* const parallax = before.parallax.ptr<std::int16_t>(y);
        const std::uint8_t* const anew = out.of_b.ptr<std::uint8_t>(y);
        for (int x = 0; x < shown.cols; ++x)
            if (anew[x])
                shown.at<std::uint8_t>(y,
                                       std::clamp(x - int(std::lround(parallax[x] / StripMoment::kOfColumn)),
                                                  0, shown.cols - 1)) = 255;
    }
    cv::dilate(shown, shown, about);
    out.of_a |= shown;
    return out;
}

StripMatch match_changed(const cv::Mat& a, const cv::Mat& b, const StripMask& a_mask, const StripMask& b_mask,
                         const StripSearch& search, const StripUpdate& update) {
    StripMatch out = match_of(*update.before);
    cv::Mat labels, stats, middles;
    cv::connectedComponentsWithStats(update.of_b, labels, stats, middles, 8, CV_32S);
    const cv::Range columns = search.columns == cv::Range::all() ? cv::Range(0, a.cols) : search.columns;
    const cv::Scalar gains = colour_gains(a, b, a_mask.seen & b_mask.seen);
    for (const Part& part : parts_of(labels, stats, search)) {
        const cv::Rect& in = part.within;
        cv::Mat asked(in.size(), CV_8U);
        std::vector<std::uint8_t> is_of(std::size_t(stats.rows), 0);
        for (const int label : part.labels) is_of[std::size_t(label)] = 255;
        for (int y = 0; y < in.height; ++y) {
            const int* const from = labels.ptr<int>(in.y + y) + in.x;
            std::uint8_t* const to = asked.ptr<std::uint8_t>(y);
            for (int x = 0; x < in.width; ++x) to[x] = is_of[std::size_t(from[x])];
        }
        StripSearch here = search;
        here.round = search.round && in.height == a.rows;
        here.columns = cv::Range(std::clamp(columns.start - in.x, 0, in.width),
                                 std::clamp(columns.end - in.x, 0, in.width));
        const StripMatch anew = match_strip(a(in), b(in), part_of(a_mask, in), part_of(b_mask, in), here,
                                            {update.of_a(in), asked, gains});
        anew.parallax.copyTo(out.parallax(in), asked);
        anew.correlation.copyTo(out.correlation(in), asked);
        anew.same.copyTo(out.same(in), asked);
        out.trust += cv::countNonZero(asked) / double(a.total()) * (anew.trust - update.before->trust);
    }
    return out;
}

} // namespace porb
