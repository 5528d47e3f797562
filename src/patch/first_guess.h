#pragma once

#include "base/progress.h"

#include <opencv2/core.hpp>

namespace porb {

/// Fills a small hole piece by piece, first where edges run into it, so that what ends at its rim goes on
/// inside (Criminisi, Perez, Toyama 2004): what a completion begins with at its coarsest. `colours` is
/// CV_32FC3 and changed where `hole` (CV_8U) is set; pieces of 2 half + 1 pixels are taken about `sources`,
/// of which a turned one lies wholly in what may be taken. The same seed gives the same picture. Throws
/// Cancelled. About 1 s for a hole of 500 pixels.
void fill_in_order(cv::Mat& colours, const cv::Mat& hole, const std::vector<cv::Point>& sources, int half,
                   bool turned, unsigned seed, const Cancel& cancel);

} // namespace porb
