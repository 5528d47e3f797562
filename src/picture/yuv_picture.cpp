#include "picture/yuv_picture.h"

#include "base/parallel.h"

#include <algorithm>
#include <cstring>

namespace porb {

namespace {
constexpr int kBandRows = 16;
constexpr std::size_t kPastEnd = 64; ///< that kernels may read

/// A plane of our own, from the pool.
struct OwnPlane {
    std::shared_ptr<Half> memory;
    std::uint8_t* data = nullptr;
    std::ptrdiff_t stride = 0;
    std::size_t bytes = 0;
};
OwnPlane own_plane(int row_bytes, int rows, BufferPool* pool) {
    OwnPlane out;
    out.stride = (row_bytes + 63) / 64 * 64;
    out.bytes = std::size_t(out.stride) * std::size_t(rows) + kPastEnd;
    const std::size_t halves = (out.bytes + 1) / 2;
    out.memory =
        pool ? pool->take(halves) : std::shared_ptr<Half>(new Half[halves], std::default_delete<Half[]>());
    out.data = reinterpret_cast<std::uint8_t*>(out.memory.get());
    return out;
}

struct Held {
    std::shared_ptr<const void> first, second;
};

template <class Sample>
void side_by_side(const Sample* __restrict u, const Sample* __restrict v, int count, Sample* __restrict out) {
    for (int i = 0; i < count; ++i) {
        out[2 * i] = u[i];
        out[2 * i + 1] = v[i];
    }
}

/// Sums of four samples, `channels` of them side by side, from two rows; `shift` rounds what would be too
/// deep.
template <int channels, class Sample>
void sum_rows(const Sample* __restrict a, const Sample* __restrict b, int width, int shift,
              std::uint16_t* __restrict out) {
    const unsigned rounding = shift > 0 ? 1u << (shift - 1) : 0;
    for (int x = 0; x < width / 2; ++x)
        for (int c = 0; c < channels; ++c) {
            const int p = 2 * channels * x + c, q = p + channels;
            out[channels * x + c] = std::uint16_t((unsigned(a[p]) + a[q] + b[p] + b[q] + rounding) >> shift);
        }
    if (width & 1)
        for (int c = 0; c < channels; ++c) {
            const int p = channels * (width - 1) + c;
            out[channels * (width / 2) + c] =
                std::uint16_t((2 * (unsigned(a[p]) + b[p]) + rounding) >> shift);
        }
}

template <class Sample>
const Sample* row_of(const std::uint8_t* plane, std::ptrdiff_t stride, int y) {
    return reinterpret_cast<const Sample*>(plane + stride * y);
}

template <int channels>
OwnPlane halved_plane(const std::uint8_t* plane, std::ptrdiff_t stride, int width, int height,
                      int sample_bytes, int shift, BufferPool* pool) {
    const int w = (width + 1) / 2, h = (height + 1) / 2;
    OwnPlane out = own_plane(w * channels * 2, h, pool);
    parallel_ranges(h, kBandRows, [&](int begin, int end) {
        for (int y = begin; y < end; ++y) {
            const int below = std::min(2 * y + 1, height - 1);
            auto* to = reinterpret_cast<std::uint16_t*>(out.data + out.stride * y);
            if (sample_bytes == 1)
                sum_rows<channels>(row_of<std::uint8_t>(plane, stride, 2 * y),
                                   row_of<std::uint8_t>(plane, stride, below), width, shift, to);
            else
                sum_rows<channels>(row_of<std::uint16_t>(plane, stride, 2 * y),
                                   row_of<std::uint16_t>(plane, stride, below), width, shift, to);
        }
    });
    return out;
}

/// Samples become `factor` times as large.
void scale_colour(YuvPicture& p, float luma, float chroma) {
    p.colour.y_offset *= luma;
    p.colour.y_scale /= luma;
    p.chroma_centre *= chroma;
    for (float* c : {&p.colour.r_v, &p.colour.g_u, &p.colour.g_v, &p.colour.b_u}) *c /= chroma;
}

/// A row's chroma, centred on 0, brought to the luma's places. Rooms for what lies between are kept.
template <class Sample>
class ChromaRows {
  public:
    explicit ChromaRows(const YuvPicture& in)
        : in_(in), blended_(2 * std::size_t(in.chroma_width)), mid_u_(std::size_t(in.chroma_width) + 2),
          mid_v_(mid_u_.size()), u_(std::size_t(in.width) + 64), v_(u_.size()) {}
    void read(int y) {
        const int cw = in_.chroma_width, ch = in_.chroma_height;
        const float at =
            std::clamp((float(y) + 0.5f) * in_.chroma_scale + in_.chroma_shift_y - 0.5f, 0.0f, float(ch - 1));
        const int upper = int(at), lower = std::min(upper + 1, ch - 1);
        const float share = 1 - (at - float(upper));
        const auto* a = row_of<Sample>(in_.chroma, in_.chroma_stride, upper);
        const auto* b = row_of<Sample>(in_.chroma, in_.chroma_stride, lower);
        if constexpr (sizeof(Sample) == 1)
            simd::blend_chroma8(a, b, share, in_.chroma_centre, 2 * cw, blended_.data());
        else
            simd::blend_chroma16(a, b, share, in_.chroma_centre, 2 * cw, blended_.data());
        for (int i = 0; i < cw; ++i) {
            mid_u_[std::size_t(i) + 1] = blended_[2 * std::size_t(i)];
            mid_v_[std::size_t(i) + 1] = blended_[2 * std::size_t(i) + 1];
        }
        for (auto [mid, to] : {std::pair{&mid_u_, &u_}, {&mid_v_, &v_}}) {
            float* const m = mid->data() + 1;
            m[-1] = m[0];
            m[cw] = m[cw - 1];
            if (in_.chroma_scale == 0.5f) {
                simd::widen_chroma(m, in_.width / 2, in_.chroma_shift_x == 0, to->data());
                if (in_.width & 1) (*to)[std::size_t(in_.width) - 1] = m[cw - 1];
            } else {
                const float f = in_.chroma_shift_x;
                for (int x = 0; x < in_.width; ++x) (*to)[std::size_t(x)] = m[x] + f * (m[x + 1] - m[x]);
            }
        }
    }
    const float* u() const { return u_.data(); }
    const float* v() const { return v_.data(); }

  private:
    const YuvPicture& in_;
    std::vector<float> blended_, mid_u_, mid_v_, u_, v_;
};

template <class Sample>
void convert_rows(const YuvPicture& in, int begin, int end, Picture& out) {
    ChromaRows<Sample> chroma(in);
    for (int y = begin; y < end; ++y) {
        chroma.read(y);
        const auto* luma = row_of<Sample>(in.luma, in.luma_stride, y);
        if constexpr (sizeof(Sample) == 1)
            simd::rgba_row_from_yuv8(luma, chroma.u(), chroma.v(), in.width, in.colour, out.row(y));
        else
            simd::rgba_row_from_yuv16(luma, chroma.u(), chroma.v(), in.width, in.colour, out.row(y));
    }
}

template <class Sample>
void brightness_of_rows(const YuvPicture& in, int begin, int end, float* out) {
    ChromaRows<Sample> chroma(in);
    const simd::YuvToRgb& c = in.colour;
    const float by_u = (2 * c.g_u + c.b_u) / 4, by_v = (c.r_v + 2 * c.g_v) / 4,
                black = -c.y_offset * c.y_scale;
    for (int y = begin; y < end; ++y, out += in.width) {
        chroma.read(y);
        const auto* luma = row_of<Sample>(in.luma, in.luma_stride, y);
        const float *u = chroma.u(), *v = chroma.v();
        for (int x = 0; x < in.width; ++x)
            out[x] = black + c.y_scale * float(luma[x]) + by_u * u[x] + by_v * v[x];
    }
}
} // namespace

YuvPicture yuv_picture(const YuvPlanes<const std::uint8_t>& in, std::shared_ptr<const void> memory,
                       BufferPool* pool) {
    YuvPicture out;
    out.width = in.width;
    out.height = in.height;
    out.chroma_width = (in.width + 1) / 2;
    out.chroma_height = (in.height + 1) / 2;
    out.sample_bytes = in.depth > 8 ? 2 : 1;
    out.depth = out.chroma_depth = in.depth;
    out.luma = in.plane[0];
    out.luma_stride = in.stride[0];
    out.colour = yuv_to_rgb(in.matrix, in.depth, in.full_range);
    out.chroma_centre = chroma_centre(in.depth);
    out.chroma_shift_x = in.chroma_centred ? 0.0f : 0.25f;
    OwnPlane chroma = own_plane(out.chroma_width * 2 * out.sample_bytes, out.chroma_height, pool);
    parallel_ranges(out.chroma_height, kBandRows, [&](int begin, int end) {
        for (int y = begin; y < end; ++y) {
            const std::uint8_t *u = in.plane[1] + in.stride[1] * y, *v = in.plane[2] + in.stride[2] * y;
            std::uint8_t* to = chroma.data + chroma.stride * y;
            if (out.sample_bytes == 1)
                side_by_side(u, v, out.chroma_width, to);
            else
                side_by_side(reinterpret_cast<const std::uint16_t*>(u),
                             reinterpret_cast<const std::uint16_t*>(v), out.chroma_width,
                             reinterpret_cast<std::uint16_t*>(to));
        }
    });
    out.chroma = chroma.data;
    out.chroma_stride = chroma.stride;
    out.bytes = std::size_t(in.stride[0]) * std::size_t(in.height) * 3 / 2 + chroma.bytes;
    out.memory = std::make_shared<const Held>(Held{std::move(memory), std::move(chroma.memory)});
    return out;
}

YuvPicture halved(const YuvPicture& in, BufferPool* pool) {
    YuvPicture out = in;
    out.width = (in.width + 1) / 2;
    out.height = (in.height + 1) / 2;
    out.sample_bytes = 2;
    const auto deeper = [](int depth) { return std::min(depth + 2, YuvPicture::kMostDepth); };
    out.depth = deeper(in.depth);
    const int shift = 2 - (out.depth - in.depth);
    const float grows = float(1 << (out.depth - in.depth));
    OwnPlane luma =
        halved_plane<1>(in.luma, in.luma_stride, in.width, in.height, in.sample_bytes, shift, pool);
    out.luma = luma.data;
    out.luma_stride = luma.stride;
    out.bytes = luma.bytes;
    if (in.chroma_scale < 1) { // it is as fine as the new luma
        out.chroma_scale = 1;
        scale_colour(out, grows, 1);
        OwnPlane chroma = own_plane(in.chroma_width * 4, in.chroma_height, pool); // so that the rest can go
        for (int y = 0; y < in.chroma_height; ++y) {
            const std::uint8_t* from = in.chroma + in.chroma_stride * y;
            std::uint8_t* to = chroma.data + chroma.stride * y;
            if (in.sample_bytes == 2)
                std::memcpy(to, from, std::size_t(in.chroma_width) * 4);
            else
                std::copy_n(from, 2 * in.chroma_width, reinterpret_cast<std::uint16_t*>(to));
        }
        out.chroma = chroma.data;
        out.chroma_stride = chroma.stride;
        out.bytes += chroma.bytes;
        out.memory = std::make_shared<const Held>(Held{std::move(luma.memory), std::move(chroma.memory)});
        return out;
    }
    out.chroma_depth = deeper(in.chroma_depth);
    const int chroma_grows = out.chroma_depth - in.chroma_depth;
    OwnPlane chroma = halved_plane<2>(in.chroma, in.chroma_stride, in.chroma_width, in.chroma_height,
                                      in.sample_bytes, 2 - chroma_grows, pool);
    out.chroma = chroma.data;
    out.chroma_stride = chroma.stride;
    out.chroma_width = (in.chroma_width + 1) / 2;
    out.chroma_height = (in.chroma_height + 1) / 2;
    out.chroma_shift_x = in.chroma_shift_x / 2;
    scale_colour(out, grows, float(1 << chroma_grows));
    out.bytes += chroma.bytes;
    out.memory = std::make_shared<const Held>(Held{std::move(luma.memory), std::move(chroma.memory)});
    return out;
}

Picture picture_of(const YuvPicture& in, BufferPool* pool) {
    Picture out(in.width, in.height, pool);
    parallel_ranges(in.height, kBandRows, [&](int begin, int end) {
        if (in.sample_bytes == 1)
            convert_rows<std::uint8_t>(in, begin, end, out);
        else
            convert_rows<std::uint16_t>(in, begin, end, out);
    });
    return out;
}

void brightness_rows(const SourcePicture& picture, int begin, int end, float* out) {
    if (const YuvPicture* in = picture.yuv()) {
        if (in->sample_bytes == 1)
            brightness_of_rows<std::uint8_t>(*in, begin, end, out);
        else
            brightness_of_rows<std::uint16_t>(*in, begin, end, out);
        return;
    }
    const Picture& in = *picture.picture();
    const auto width = std::size_t(in.width());
    std::vector<float> r(width), b(width);
    for (int y = begin; y < end; ++y, out += width) {
        simd::planes_from_rgba_row(in.row(y), in.width(), r.data(), out, b.data());
        for (std::size_t x = 0; x < width; ++x) out[x] = 0.25f * r[x] + 0.5f * out[x] + 0.25f * b[x];
    }
}

SourcePicture halved(const SourcePicture& picture, BufferPool* pool) {
    if (picture.yuv()) return halved(*picture.yuv(), pool);
    return halved(*picture.picture(), pool);
}

} // namespace porb
