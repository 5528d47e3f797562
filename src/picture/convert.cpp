#include "picture/convert.h"

#include "base/parallel.h"
#include "picture/convert_simd.h"

#include <algorithm>
#include <cmath>
#include <memory>

namespace porb {

namespace {

constexpr int kRowsAtATime = 16;

/// Code value = offset + scale * signal, for luma in [0, 1] and chroma in [-0.5, 0.5] (H.273, equations 20 to
/// 31).
struct Levels {
    double y_offset, y_scale, c_offset, c_scale, top;
};
Levels levels_of(int depth, bool full_range) {
    const double unit = std::ldexp(1.0, depth - 8), top = std::ldexp(1.0, depth) - 1;
    if (full_range) return {0, top, 128 * unit, top, top};
    return {16 * unit, 219 * unit, 128 * unit, 224 * unit, top};
}

template <class Sample, class Byte>
auto* plane_row(const YuvPlanes<Byte>& p, int index, int y) {
    using Pointer = std::conditional_t<std::is_const_v<Byte>, const Sample*, Sample*>;
    return reinterpret_cast<Pointer>(p.plane[std::size_t(index)] + p.stride[std::size_t(index)] * y);
}

/// One chroma row brought to luma size: blended with its nearest neighbour row, then along the row.
template <class Sample>
class ChromaRow {
  public:
    ChromaRow(const YuvPlanes<const std::uint8_t>& in, float centre)
        : in_(in), centre_(centre), width_((in.width + (1 << in.chroma_shift_x) - 1) >> in.chroma_shift_x),
          height_((in.height + (1 << in.chroma_shift_y) - 1) >> in.chroma_shift_y),
          blended_(std::size_t(width_) + 2) {}

    void fill(int plane, int y, float* out) {
        const int shift = in_.chroma_shift_y;
        const int near_row = std::min(y >> shift, height_ - 1);
        // 4:2:0 chroma lies half way between its two luma rows: three quarters of the near one.
        const int other_row =
            shift == 0 ? near_row : std::clamp(near_row + ((y & 1) ? 1 : -1), 0, height_ - 1);
        const Sample* a = plane_row<Sample>(in_, plane, near_row);
        const Sample* b = plane_row<Sample>(in_, plane, other_row);
        const float wa = shift == 0 ? 1.0f : 0.75f;
        float* mid = blended_.data() + 1;
        if constexpr (sizeof(Sample) == 1)
            simd::blend_chroma8(a, b, wa, centre_, width_, mid);
        else
            simd::blend_chroma16(a, b, wa, centre_, width_, mid);
        mid[-1] = mid[0];
        mid[width_] = mid[width_ - 1];
        if (in_.chroma_shift_x == 0) {
            std::copy(mid, mid + in_.width, out);
            return;
        }
        simd::widen_chroma(mid, in_.width / 2, in_.chroma_centred, out);
        if (in_.width & 1) out[in_.width - 1] = mid[width_ - 1];
    }

  private:
    const YuvPlanes<const std::uint8_t>& in_;
    float centre_;
    int width_, height_;
    std::vector<float> blended_;
};

template <class Sample>
void rgba_from_yuv_of(const YuvPlanes<const std::uint8_t>& in, Picture& out) {
    const simd::YuvToRgb c = yuv_to_rgb(in.matrix, in.depth, in.full_range);
    parallel_ranges(in.height, kRowsAtATime, [&](int begin, int end) {
        ChromaRow<Sample> chroma(in, chroma_centre(in.depth));
        std::vector<float> u(std::size_t(in.width) + 64), v(std::size_t(in.width) + 64);
        for (int y = begin; y < end; ++y) {
            chroma.fill(1, y, u.data());
            chroma.fill(2, y, v.data());
            const Sample* luma = plane_row<Sample>(in, 0, y);
            if constexpr (sizeof(Sample) == 1)
                simd::rgba_row_from_yuv8(luma, u.data(), v.data(), in.width, c, out.row(y));
            else
                simd::rgba_row_from_yuv16(luma, u.data(), v.data(), in.width, c, out.row(y));
        }
    });
}

struct FloatRow {
    explicit FloatRow(int width) : r(std::size_t(width) + 64), g(r.size()), b(r.size()) {}
    std::vector<float> r, g, b;
};

template <class Sample>
void quantise(const float* in, int count, float scale, float offset, float top, Sample* out) {
    if constexpr (sizeof(Sample) == 1)
        simd::quantise8(in, count, scale, offset, top, out);
    else
        simd::quantise16(in, count, scale, offset, top, out);
}

/// `row_at(y)` gives the three float rows of a row.
template <class Sample, class RowAt>
void yuv_rows_of(int w, int height, const RowAt& row_at, const YuvPlanes<std::uint8_t>& out, int first_row,
                 int end_row) {
    const Levels l = levels_of(out.depth, out.full_range);
    const float kr = float(out.matrix.kr), kb = float(out.matrix.kb), kg = 1 - kr - kb;
    const simd::RgbToYuv c{kr, kg, kb, 0.5f / (1 - kb), 0.5f / (1 - kr)};
    const int sx = out.chroma_shift_x, sy = out.chroma_shift_y;
    const int begin = first_row >> sy, end = (end_row + (1 << sy) - 1) >> sy,
              chroma_width = (w + (1 << sx) - 1) >> sx;
    const std::size_t n = std::size_t(w) + 66;
    const auto scratch = std::make_unique_for_overwrite<float[]>(4 * n);
    float *const luma = scratch.get(), *const u = luma + n, *const v = u + n, *const thin = v + n;
    for (int cy = begin; cy < end; ++cy) {
        std::fill_n(u, w + 2, 0.0f);
        std::fill_n(v, w + 2, 0.0f);
        const int first = cy << sy, count = std::min(1 << sy, height - first);
        for (int y = first; y < first + count; ++y) {
            const FloatRows row = row_at(y);
            simd::add_yuv(row.r, row.g, row.b, w, c, luma, u + 1, v + 1);
            quantise(luma, w, float(l.y_scale), float(l.y_offset), float(l.top),
                     plane_row<Sample>(out, 0, y));
        }
        int plane = 1;
        for (float* chroma : {u, v}) {
            float* mid = chroma + 1;
            mid[-1] = mid[0];
            mid[w] = mid[w - 1];
            const float scale = float(l.c_scale) / float(count);
            const float* source = mid;
            if (sx == 1) {
                simd::thin_chroma(mid, chroma_width, thin);
                source = thin;
            }
            quantise(source, chroma_width, scale, float(l.c_offset), float(l.top),
                     plane_row<Sample>(out, plane++, cy));
        }
    }
}

} // namespace

simd::YuvToRgb yuv_to_rgb(const YuvMatrix& matrix, int depth, bool full_range) {
    const Levels l = levels_of(depth, full_range);
    const double kr = matrix.kr, kb = matrix.kb, kg = 1 - kr - kb;
    return {float(l.y_offset),
            float(1 / l.y_scale),
            float(2 * (1 - kr) / l.c_scale),
            float(-2 * kb * (1 - kb) / kg / l.c_scale),
            float(-2 * kr * (1 - kr) / kg / l.c_scale),
            float(2 * (1 - kb) / l.c_scale)};
}
float chroma_centre(int depth) {
    return float(128 << (depth - 8));
}

void rgba_from_yuv(const YuvPlanes<const std::uint8_t>& in, Picture& out) {
    if (in.depth == 8)
        rgba_from_yuv_of<std::uint8_t>(in, out);
    else
        rgba_from_yuv_of<std::uint16_t>(in, out);
}

void yuv_rows_from_floats(const FloatRows& in, const YuvPlanes<std::uint8_t>& out, int begin, int end) {
    const auto row_at = [&](int y) {
        const std::ptrdiff_t at = (y - begin) * in.stride;
        return FloatRows{in.r + at, in.g + at, in.b + at, in.stride};
    };
    if (out.depth == 8)
        yuv_rows_of<std::uint8_t>(out.width, out.height, row_at, out, begin, end);
    else
        yuv_rows_of<std::uint16_t>(out.width, out.height, row_at, out, begin, end);
}

void yuv_rows_from_rgba(const Picture& in, const YuvPlanes<std::uint8_t>& out, int begin, int end) {
    FloatRow row(in.width());
    const auto row_at = [&](int y) {
        simd::planes_from_rgba_row(in.row(y), in.width(), row.r.data(), row.g.data(), row.b.data());
        return FloatRows{row.r.data(), row.g.data(), row.b.data(), 0};
    };
    if (out.depth == 8)
        yuv_rows_of<std::uint8_t>(in.width(), in.height(), row_at, out, begin, end);
    else
        yuv_rows_of<std::uint16_t>(in.width(), in.height(), row_at, out, begin, end);
}

void yuv_from_rgba(const Picture& in, const YuvPlanes<std::uint8_t>& out) {
    parallel_ranges((in.height() + 1) / 2, kRowsAtATime / 2, [&](int begin, int end) {
        yuv_rows_from_rgba(in, out, 2 * begin, std::min(2 * end, in.height()));
    });
}

void bytes_from_rgba(const Picture& in, bool swap_red_blue, std::uint8_t* out, std::ptrdiff_t stride) {
    parallel_ranges(in.height(), kRowsAtATime, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            simd::bytes_from_rgba_row(in.row(y), in.width(), swap_red_blue, out + stride * y);
    });
}

void words_from_rgba(const Picture& in, std::uint16_t* out, std::ptrdiff_t stride_words) {
    parallel_ranges(in.height(), kRowsAtATime, [&](int begin, int end) {
        std::vector<float> row(std::size_t(in.width()) * 4);
        for (int y = begin; y < end; ++y) {
            simd::floats_from_halves(in.row(y), row.data(), row.size());
            std::uint16_t* to = out + stride_words * y;
            for (std::size_t i = 0; i < row.size(); i += 4) {
                const float a = std::clamp(row[i + 3], 0.0f, 1.0f), back = a > 1e-6f ? 1 / a : 0;
                for (std::size_t c = 0; c < 3; ++c)
                    to[i + c] = std::uint16_t(std::clamp(row[i + c] * back, 0.0f, 1.0f) * 65535 + 0.5f);
                to[i + 3] = std::uint16_t(a * 65535 + 0.5f);
            }
        }
    });
}

void rgba_from_words(const std::uint16_t* in, std::ptrdiff_t stride_words, Picture& out) {
    parallel_ranges(out.height(), kRowsAtATime, [&](int begin, int end) {
        std::vector<float> row(std::size_t(out.width()) * 4);
        for (int y = begin; y < end; ++y) {
            const std::uint16_t* from = in + stride_words * y;
            for (std::size_t i = 0; i < row.size(); i += 4) {
                const float a = float(from[i + 3]) / 65535;
                for (std::size_t c = 0; c < 3; ++c) row[i + c] = float(from[i + c]) / 65535 * a;
                row[i + 3] = a;
            }
            simd::halves_from_floats(row.data(), out.row(y), row.size());
        }
    });
}

} // namespace porb
