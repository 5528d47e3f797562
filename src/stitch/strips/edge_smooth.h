#pragma once

// Smoothing that stops at a picture's edges; for the files of strips and distances alone.
#include <opencv2/core.hpp>

namespace porb {

/// Makes each value (32-bit, in place) a mean of those about it, weighted by `confidence` (32-bit, over 0;
/// smoothed likewise), over as far as `guide` (8-bit, grey or colours) stays alike. What is minimised is
/// squared change plus `strength` times the squared differences of neighbours, each weighted by exp(-their
/// difference in the guide / levels), for values times confidence and for confidence, whose quotient is the
/// mean. Rows and columns in turn, each solved exactly (Min et al. 2014, "Fast global image smoothing based
/// on weighted least squares"). All three have one size.
void smooth_along_edges(const cv::Mat& guide, cv::Mat& values, cv::Mat& confidence, double strength,
                        double levels);

} // namespace porb
