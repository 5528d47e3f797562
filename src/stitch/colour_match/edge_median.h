#pragma once

// Steps of parallax brought to a picture's edges; for the files of strips and distances alone.
#include <opencv2/core.hpp>

namespace porb {

/// Beside steps of `parallax` (32-bit, columns), `where` asked for (255), each value becomes the median of
/// those about it (to a quarter of a column), weighted by how much each counts (`confidence`, 32-bit, over 0)
/// and by how alike the guide is (8-bit, grey or colours). So the step comes to lie where the picture has an
/// edge, what was matched as a blob about a thing takes the thing's outline, and noise goes (weighted median
/// filter; Ma et al. 2013, "Constant time weighted median filtering for stereo matching"). A limb that curves
/// away loses a column.
void median_along_edges(const cv::Mat& guide, const cv::Mat& where, cv::Mat& parallax,
                        const cv::Mat& confidence);

} // namespace porb
