#pragma once

#include "picture/picture.h"

#include <functional>

namespace porb {

/// Peak signal-to-noise ratio in dB over R, G and B, both clamped to [0, 1] (peak 1), over the pixels that
/// `where` accepts (all of them without it). Pictures of one size. Identical pictures give 200.
double psnr_db(const Picture& a, const Picture& b, const std::function<bool(int x, int y)>& where = {});

/// The share of pixels whose alpha lies below `least`.
double hole_share(const Picture& picture, double least = 0.999);

} // namespace porb
