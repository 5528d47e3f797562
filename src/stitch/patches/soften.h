#pragma once

#include "picture/picture.h"

namespace porb {

/// A square of footage in which what `hidden` covers (0 to 1, row by row, as many as pixels) is replaced by
/// what lies about it: smooth, by ever wider means of what is not covered (pull and push; Gortler,
/// Grzeszczuk, Szeliski, Cohen 1996). Where everything is covered it is left as it is. A few milliseconds for
/// 256 x 256.
Picture smoothed_over(const Picture& footage, const std::vector<float>& hidden);
/// A square of footage whose inside, within `radius` (in halves of its side), shows what lies as far outside
/// that circle as a place lies within it. What is outside the square is that at its edge.
Picture mirrored_inwards(const Picture& footage, double radius);

} // namespace porb
