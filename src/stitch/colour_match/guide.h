#pragma once

// What strips' colours say of two places, and their brightness; for the files of strips and distances alone.
#include <opencv2/core.hpp>

#include <algorithm>
#include <cmath>

namespace porb {

/// Grey levels between two places: of colours, of the channel in which they differ most.
inline int levels_between(std::uint8_t a, std::uint8_t b) {
    return std::abs(int(a) - int(b));
}
inline int levels_between(const cv::Vec3b& a, const cv::Vec3b& b) {
    return std::max({levels_between(a[0], b[0]), levels_between(a[1], b[1]), levels_between(a[2], b[2])});
}

/// Colours as one channel, red and blue counting half of green each (strip_bytes() does the same); what has
/// one channel is returned as it is.
inline cv::Mat brightness_of(const cv::Mat& picture) {
    if (picture.channels() == 1) return picture;
    cv::Mat out;
    cv::transform(picture, out, cv::Matx13f(0.25f, 0.5f, 0.25f));
    return out;
}

} // namespace porb
