#pragma once

// Distances near seams over time; for the files of strips and distances alone.
#include "stitch/strips/strip_match.h"

#include <span>

namespace porb {

/// A strip's two pictures at a moment, 8-bit, and what was matched on it. A dozen moments are kept for each
/// of many strips, so this is as small as it may be.
struct StripMoment {
    cv::Mat a, b;
    cv::Mat parallax;          ///< 16-bit, 64 to a column
    cv::Mat correlation, same; ///< 8-bit, 255 for 1
    double trust = 0;
};
StripMoment strip_moment(cv::Mat a, cv::Mat b, const StripMatch& match);
StripMatch match_of(const StripMoment& moment);
/// What is to be matched anew of two pictures of three channels, since it changed since a moment before:
/// places that did, by more than noise, and those within two degrees of them. Nothing to keep (`before`
/// empty) where that is most of the strip.
StripUpdate changed_since(const StripMoment& before, const cv::Mat& a, const cv::Mat& b);
struct WeighedMoment {
    const StripMoment* moment = nullptr;
    float weight = 1;
};

/// What the moments say together of the last of them: where both pictures stood still between another and it,
/// that one counts too, the less the further it is from what they say on the whole. Where everything
/// changed the last counts alone. `steps`: parallax steps at the pictures' edges (StripSearch::to_edges), and
/// is one side's or the other's.
StripMatch steadied(std::span<const WeighedMoment> moments, bool steps = false);

} // namespace porb
