#pragma once

// How alike two places of a guide picture are; for the files of distances alone.
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

} // namespace porb
