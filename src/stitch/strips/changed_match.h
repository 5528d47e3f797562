#pragma once

// Matching a strip again where it changed; for the files of strips and distances alone.
#include "stitch/strips/steadying.h"

namespace porb {

/// What was matched at a moment before, to be kept where the pictures did not change since, and what is
/// matched anew (255, else 0), by either camera's places.
struct StripUpdate {
    const StripMoment* before = nullptr;
    cv::Mat of_a, of_b;
};

/// What is to be matched anew of two pictures of three channels, since it changed since a moment before:
/// places that did, by more than noise, and those within two degrees of them. Nothing to keep (`before`
/// empty) where that is most of the strip.
StripUpdate changed_since(const StripMoment& before, const cv::Mat& a, const cv::Mat& b);

/// As match_strip() to edges, of what an update asks for; the rest is what it was. Things that changed apart
/// from each other are matched in parts of the strip of their own, so that the cost goes with what changed.
StripMatch match_changed(const cv::Mat& a, const cv::Mat& b, const StripMask& a_mask, const StripMask& b_mask,
                         const StripSearch& search, const StripUpdate& update);

} // namespace porb
