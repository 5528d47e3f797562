#pragma once

#include "picture/convert_simd.h"
#include "picture/picture.h"

#include <array>
#include <cstddef>

namespace porb {

/// Luma weights of R and B, Kr and Kb of ITU-T H.273 table 4.
struct YuvMatrix {
    double kr = 0.2126, kb = 0.0722;
};
inline constexpr YuvMatrix kRec709{0.2126, 0.0722}, kRec601{0.299, 0.114}, kRec2020{0.2627, 0.0593};

/// Planar Y'CbCr as decoders give and encoders take it; 8-bit samples in bytes, deeper ones in 16-bit words.
template <class Byte>
struct YuvPlanes {
    int width = 0, height = 0;
    std::array<Byte*, 3> plane{};
    std::array<std::ptrdiff_t, 3> stride{}; ///< in bytes
    int chroma_shift_x = 1, chroma_shift_y = 1;
    int depth = 8;
    YuvMatrix matrix;
    bool full_range = false;
    bool chroma_centred = false; ///< between the luma columns (JPEG) rather than on the left one (MPEG)
};

/// What turns code values of that depth, chroma less `chroma_centre`, into R', G' and B' (H.273, equations 20
/// to 31 and 38 to 46).
simd::YuvToRgb yuv_to_rgb(const YuvMatrix& matrix, int depth, bool full_range);
float chroma_centre(int depth);

/// Chroma is interpolated linearly at its true siting. Runs in parallel over rows.
void rgba_from_yuv(const YuvPlanes<const std::uint8_t>& in, Picture& out);

/// The way back, chroma filtered before it is thinned out. Alpha is dropped: transparent is black.
void yuv_from_rgba(const Picture& in, const YuvPlanes<std::uint8_t>& out);
/// R, G and B of rows apart; rows are `stride` floats apart, and a row's memory reaches 16 floats past it.
struct FloatRows {
    float *r = nullptr, *g = nullptr, *b = nullptr;
    std::ptrdiff_t stride = 0;
};
/// Of rows [begin, end) that lie in `in`, the first of them first; otherwise like the next.
void yuv_rows_from_floats(const FloatRows& in, const YuvPlanes<std::uint8_t>& out, int begin, int end);
/// Of rows [begin, end) alone, on this thread; `begin` is even where chroma is coarser.
void yuv_rows_from_rgba(const Picture& in, const YuvPlanes<std::uint8_t>& out, int begin, int end);

/// To 8-bit R, G, B, A (or B, G, R, A), `stride` bytes from row to row; still premultiplied.
void bytes_from_rgba(const Picture& in, bool swap_red_blue, std::uint8_t* out, std::ptrdiff_t stride);

/// 16-bit R, G, B, A words, straight (not premultiplied) alpha, host byte order.
void words_from_rgba(const Picture& in, std::uint16_t* out, std::ptrdiff_t stride_words);
void rgba_from_words(const std::uint16_t* in, std::ptrdiff_t stride_words, Picture& out);

} // namespace porb
