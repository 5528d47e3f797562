#pragma once

#include "picture/picture.h"

#include <opencv2/core.hpp>

namespace porb {

/// R, G and B as CV_32FC3, not multiplied by alpha; 0 where nothing is.
cv::Mat colours_of(const Picture& picture);

} // namespace porb
