#pragma once

// How pictures are judged against the truth.
#include <opencv2/core.hpp>

namespace porb::bench {

inline constexpr int kBlock = 40, kShift = 8; ///< pixels, of what is laid on the truth, and how far

cv::Mat grey(const cv::Mat& bgr); ///< 32-bit, 0 to 255

/// Structural similarity (Wang et al. 2004: Gaussian window, sigma 1.5) of grey pictures, its mean where
/// `mask` is set.
double ssim(const cv::Mat& a, const cv::Mat& b, const cv::Mat& mask);

/// The six sides of a cube about the viewer, in a row, about as dense as the panorama and with kShift pixels
/// more around each: what is judged is what a head turned anywhere sees. In the panorama itself what lies
/// above and below counts many times over.
cv::Mat cube_sides(const cv::Mat& panorama, int interpolation);

struct Score {
    double ssim = 0, doubled = 0; ///< doubled: percent of strong edges
    cv::Mat where;                ///< what counts as doubled
};
/// Of cube_sides(), where `mask` is set.
Score score(const cv::Mat& made, const cv::Mat& truth, const cv::Mat& mask);

/// Where a panorama has outlines of things that stand at least a fifth nearer than what is behind them, told
/// from true inverse distances (1/m): the pixels on the near side, and how the outline is turned there.
struct Outlines {
    cv::Mat near_side; ///< 255, else 0
    cv::Mat across;    ///< 2 x 32-bit: unit vector from near to far, pixels
};
Outlines outlines_of(const cv::Mat& inverse_m);
/// `mask` within `pixels` of an outline.
cv::Mat beside(const Outlines& outlines, const cv::Mat& mask, int pixels);

/// Root of the mean squared difference of grey pictures where `mask` is set.
double rms(const cv::Mat& a, const cv::Mat& b, const cv::Mat& mask);

/// How ragged outlines are, in pixels. At each pixel of an outline that shows (a contrast of 24 grey levels),
/// the profile across it is laid on the truth's by a shift; an outline that is merely elsewhere has one shift
/// all along and is not ragged. Ragged is how much shifts differ from their own median over seven neighbours
/// along the outline: the mean of that, bounded by 3 pixels a place.
double raggedness(const cv::Mat& made, const cv::Mat& truth, const Outlines& outlines, const cv::Mat& mask);

} // namespace porb::bench
