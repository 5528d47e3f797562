#pragma once

// Parallax where nothing was matched; for the files of strips alone.
#include <opencv2/core.hpp>

namespace porb {

/// Gives places that were not matched (`known` 0), `where` asked for (255), the parallax of known ones about
/// them, over some four degrees each way: of those that look alike in `guide` (8-bit, three channels), the
/// nearer by the more. Where a does not see them (`hidden` 255), nearly the farthest of these: it is ground
/// that something near hides from a. Elsewhere the matching went astray, mostly at thin things and where
/// nothing can be told apart, and somewhat farther than the median is taken. Places with nothing known about
/// them stay. `parallax` is 32-bit.
void fill_unmatched(const cv::Mat& guide, const cv::Mat& known, const cv::Mat& hidden, const cv::Mat& where,
                    cv::Mat& parallax);

} // namespace porb
