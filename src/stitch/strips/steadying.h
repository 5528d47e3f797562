#pragma once

// Distances near seams over time; for the files of strips and distances alone.
#include "stitch/strips/strip_match.h"

#include <span>

namespace porb {

/// A strip's two pictures at a moment, 8-bit, and what was matched on it. A dozen moments are kept for each
/// of many strips, so this is as small as it may be.
struct StripMoment {
    static constexpr double kOfColumn = 64; ///< of parallax
    cv::Mat a, b;
    cv::Mat parallax;          ///< 16-bit, kOfColumn to a column
    cv::Mat correlation, same; ///< 8-bit, 255 for 1
    double trust = 0;
};
StripMoment strip_moment(cv::Mat a, cv::Mat b, const StripMatch& match);
StripMatch match_of(const StripMoment& moment);
/// By how much two moments of a strip's picture differ about each place, grey levels; up to so many are noise
/// and coding.
cv::Mat difference_about(const cv::Mat& now, const cv::Mat& then);
inline constexpr float kStill = 2.5f;

struct WeighedMoment {
    const StripMoment* moment = nullptr;
    float weight = 1;
};

/// What the moments (the last 64 at most) say together of the last of them: where both pictures stood still
/// between another and it, that one counts too, the less the further it is from what they say on the whole.
/// Where everything changed the last counts alone. `steps`: parallax steps at the pictures' edges
/// (StripSearch::to_edges), and is one side's or the other's.
StripMatch steadied(std::span<const WeighedMoment> moments, bool steps = false);

} // namespace porb
