#pragma once

#include "picture/picture.h"

namespace porb::simd {

// The row loops behind convert.h and picture.h. Each picks the widest instructions of the machine at run
// time.

void floats_from_halves(const Half* in, float* out, std::size_t count);
void halves_from_floats(const float* in, Half* out, std::size_t count);

/// Two rows of `width` RGBA pixels to one of (width + 1) / 2, each pixel the mean of four.
void halve_rows(const Half* upper, const Half* lower, int width, Half* out);

/// R' = y + r_v V, G' = y + g_u U + g_v V, B' = y + b_u U with y = (Y - y_offset) y_scale and U, V already
/// centred and scaled by the caller through the coefficients.
struct YuvToRgb {
    float y_offset, y_scale, r_v, g_u, g_v, b_u;
};
/// `u` and `v` hold one float for each pixel, centred on 0.
void rgba_row_from_yuv8(const std::uint8_t* y, const float* u, const float* v, int width, const YuvToRgb& c,
                        Half* out);
void rgba_row_from_yuv16(const std::uint16_t* y, const float* u, const float* v, int width, const YuvToRgb& c,
                         Half* out);

/// RGBA halves to separate float rows; alpha is not returned (encoders show transparent as black).
void planes_from_rgba_row(const Half* in, int width, float* r, float* g, float* b);

/// RGBA halves to bytes, clamped and rounded. `swap_red_blue` gives B, G, R, A.
void bytes_from_rgba_row(const Half* in, int width, bool swap_red_blue, std::uint8_t* out);

} // namespace porb::simd
