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

/// Two chroma rows blended, wa a + (1 - wa) b, and centred on 0.
void blend_chroma8(const std::uint8_t* a, const std::uint8_t* b, float wa, float centre, int width,
                   float* out);
void blend_chroma16(const std::uint16_t* a, const std::uint16_t* b, float wa, float centre, int width,
                    float* out);
/// `pairs` chroma values to twice as many, interpolated; in[-1] and in[pairs] are read too.
void widen_chroma(const float* in, int pairs, bool centred, float* out);

/// Luma of a row, and its colour differences added to u and v.
struct RgbToYuv {
    float kr, kg, kb, to_u, to_v;
};
void add_yuv(const float* r, const float* g, const float* b, int width, const RgbToYuv& c, float* luma,
             float* u, float* v);
/// Every second value of a row, filtered 1 2 1; in[-1] and in[2 count] are read too.
void thin_chroma(const float* in, int count, float* out);
/// round(in scale + offset), limited to [0, top].
void quantise8(const float* in, int count, float scale, float offset, float top, std::uint8_t* out);
void quantise16(const float* in, int count, float scale, float offset, float top, std::uint16_t* out);

/// RGBA halves to bytes, clamped and rounded. `swap_red_blue` gives B, G, R, A.
void bytes_from_rgba_row(const Half* in, int width, bool swap_red_blue, std::uint8_t* out);

} // namespace porb::simd
