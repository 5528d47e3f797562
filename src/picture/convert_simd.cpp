#include "picture/convert_simd.h"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "picture/convert_simd.cpp"
#include <hwy/foreach_target.h>
// must come after foreach_target.h
#include <hwy/highway.h>

#include <algorithm>

#if HWY_TARGET == HWY_SCALAR
#error "These kernels need vectors of four floats: build for x86-64-v2 or an ARM with NEON"
#endif

HWY_BEFORE_NAMESPACE();
namespace porb::simd::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

using Df = hn::ScalableTag<float>;
using Dh = hn::Rebind<hwy::float16_t, Df>;

HWY_ATTR inline hn::Vec<Df> load_halves(const Half* p) {
    return hn::PromoteTo(Df(), hn::LoadU(Dh(), reinterpret_cast<const hwy::float16_t*>(p)));
}
HWY_ATTR inline void store_halves(hn::Vec<Df> v, Half* p) {
    hn::StoreU(hn::DemoteTo(Dh(), v), Dh(), reinterpret_cast<hwy::float16_t*>(p));
}

HWY_ATTR void FloatsFromHalves(const Half* in, float* out, std::size_t count) {
    const std::size_t n = hn::Lanes(Df());
    std::size_t i = 0;
    for (; i + n <= count; i += n) hn::StoreU(load_halves(in + i), Df(), out + i);
    if (i < count) {
        Half padded[64] = {};
        float result[64];
        std::copy(in + i, in + count, padded);
        hn::StoreU(load_halves(padded), Df(), result);
        std::copy(result, result + (count - i), out + i);
    }
}

HWY_ATTR void HalvesFromFloats(const float* in, Half* out, std::size_t count) {
    const std::size_t n = hn::Lanes(Df());
    std::size_t i = 0;
    for (; i + n <= count; i += n) store_halves(hn::LoadU(Df(), in + i), out + i);
    if (i < count) {
        float padded[64] = {};
        Half result[64];
        std::copy(in + i, in + count, padded);
        store_halves(hn::LoadU(Df(), padded), result);
        std::copy(result, result + (count - i), out + i);
    }
}

HWY_ATTR void HalveRows(const Half* upper, const Half* lower, int width, Half* out) {
    const hn::CappedTag<float, 4> d;
    const hn::Rebind<hwy::float16_t, decltype(d)> dh;
    const auto pixel = [&](const Half* p) HWY_ATTR {
        return hn::PromoteTo(d, hn::LoadU(dh, reinterpret_cast<const hwy::float16_t*>(p)));
    };
    const auto quarter = hn::Set(d, 0.25f);
    for (int x = 0; x < width; x += 2) {
        const int a = x * 4, b = std::min(x + 1, width - 1) * 4;
        const auto sum =
            hn::Add(hn::Add(pixel(upper + a), pixel(upper + b)), hn::Add(pixel(lower + a), pixel(lower + b)));
        hn::StoreU(hn::DemoteTo(dh, hn::Mul(sum, quarter)), dh,
                   reinterpret_cast<hwy::float16_t*>(out + x * 2));
    }
}

template <class Sample>
HWY_ATTR void RgbaRowFromYuv(const Sample* y, const float* u, const float* v, int width, const YuvToRgb& c,
                             Half* out) {
    const Df d;
    const hn::Rebind<Sample, Df> ds;
    const hn::Rebind<std::uint16_t, Df> d16;
    const int n = static_cast<int>(hn::Lanes(d));
    const auto bits = [&](hn::Vec<Df> value) HWY_ATTR { return hn::BitCast(d16, hn::DemoteTo(Dh(), value)); };
    const auto alpha = hn::Set(d16, std::uint16_t(0x3C00)); // 1.0
    const auto y_scale = hn::Set(d, c.y_scale), y_shift = hn::Set(d, -c.y_offset * c.y_scale);
    const auto r_v = hn::Set(d, c.r_v), g_u = hn::Set(d, c.g_u), g_v = hn::Set(d, c.g_v),
               b_u = hn::Set(d, c.b_u);
    const auto convert = [&](const Sample* yp, const float* up, const float* vp, Half* op) HWY_ATTR {
        const auto samples = hn::PromoteTo(hn::Rebind<std::int32_t, Df>(), hn::LoadU(ds, yp));
        const auto luma = hn::MulAdd(hn::ConvertTo(d, samples), y_scale, y_shift);
        const auto cu = hn::LoadU(d, up), cv = hn::LoadU(d, vp);
        const auto r = hn::MulAdd(cv, r_v, luma);
        const auto g = hn::MulAdd(cv, g_v, hn::MulAdd(cu, g_u, luma));
        const auto b = hn::MulAdd(cu, b_u, luma);
        hn::StoreInterleaved4(bits(r), bits(g), bits(b), alpha, d16, op);
    };
    int x = 0;
    for (; x + n <= width; x += n) convert(y + x, u + x, v + x, out + x * 4);
    if (x < width) {
        Sample py[64] = {};
        float pu[64] = {}, pv[64] = {};
        Half po[256];
        const int rest = width - x;
        std::copy(y + x, y + width, py);
        std::copy(u + x, u + width, pu);
        std::copy(v + x, v + width, pv);
        convert(py, pu, pv, po);
        std::copy(po, po + rest * 4, out + x * 4);
    }
}
HWY_ATTR void RgbaRowFromYuv8(const std::uint8_t* y, const float* u, const float* v, int width,
                              const YuvToRgb& c, Half* out) {
    RgbaRowFromYuv(y, u, v, width, c, out);
}
HWY_ATTR void RgbaRowFromYuv16(const std::uint16_t* y, const float* u, const float* v, int width,
                               const YuvToRgb& c, Half* out) {
    RgbaRowFromYuv(y, u, v, width, c, out);
}

HWY_ATTR void PlanesFromRgbaRow(const Half* in, int width, float* r, float* g, float* b) {
    const Df d;
    const hn::Rebind<std::uint16_t, Df> d16;
    const int n = static_cast<int>(hn::Lanes(d));
    const auto wide = [&](hn::Vec<decltype(d16)> bits)
                          HWY_ATTR { return hn::PromoteTo(d, hn::BitCast(Dh(), bits)); };
    const auto convert = [&](const Half* ip, float* rp, float* gp, float* bp) HWY_ATTR {
        hn::Vec<decltype(d16)> hr, hg, hb, ha;
        hn::LoadInterleaved4(d16, ip, hr, hg, hb, ha);
        hn::StoreU(wide(hr), d, rp);
        hn::StoreU(wide(hg), d, gp);
        hn::StoreU(wide(hb), d, bp);
    };
    int x = 0;
    for (; x + n <= width; x += n) convert(in + x * 4, r + x, g + x, b + x);
    if (x < width) {
        Half pi[256] = {};
        float pr[64], pg[64], pb[64];
        const int rest = width - x;
        std::copy(in + x * 4, in + width * 4, pi);
        convert(pi, pr, pg, pb);
        std::copy(pr, pr + rest, r + x);
        std::copy(pg, pg + rest, g + x);
        std::copy(pb, pb + rest, b + x);
    }
}

HWY_ATTR void BytesFromRgbaRow(const Half* in, int width, bool swap_red_blue, std::uint8_t* out) {
    const hn::CappedTag<float, 4> d;
    const hn::Rebind<hwy::float16_t, decltype(d)> dh;
    const hn::Rebind<std::int32_t, decltype(d)> di;
    const hn::Rebind<std::uint8_t, decltype(d)> d8;
    const int red = swap_red_blue ? 2 : 0;
    const auto zero = hn::Zero(d), top = hn::Set(d, 255.0f), half = hn::Set(d, 0.5f);
    for (int x = 0; x < width; ++x) {
        auto v = hn::PromoteTo(d, hn::LoadU(dh, reinterpret_cast<const hwy::float16_t*>(in + x * 4)));
        v = hn::Min(hn::Max(hn::Mul(v, top), zero), top);
        const auto whole = hn::ConvertTo(di, hn::Add(v, half));
        std::uint8_t px[4] = {};
        hn::StoreU(hn::DemoteTo(d8, whole), d8, px);
        out[x * 4] = px[red];
        out[x * 4 + 1] = px[1];
        out[x * 4 + 2] = px[2 - red];
        out[x * 4 + 3] = px[3];
    }
}

// Plain loops: the compiler makes vectors of them, for each target's own width.

template <class Sample>
HWY_ATTR void BlendChroma(const Sample* __restrict a, const Sample* __restrict b, float wa, float centre,
                          int width, float* __restrict out) {
    const float wb = 1 - wa;
    for (int i = 0; i < width; ++i) out[i] = wa * float(a[i]) + wb * float(b[i]) - centre;
}
HWY_ATTR void BlendChroma8(const std::uint8_t* a, const std::uint8_t* b, float wa, float centre, int width,
                           float* out) {
    BlendChroma(a, b, wa, centre, width, out);
}
HWY_ATTR void BlendChroma16(const std::uint16_t* a, const std::uint16_t* b, float wa, float centre, int width,
                            float* out) {
    BlendChroma(a, b, wa, centre, width, out);
}

HWY_ATTR void WidenChroma(const float* __restrict in, int pairs, bool centred, float* __restrict out) {
    if (centred)
        for (int i = 0; i < pairs; ++i) {
            out[2 * i] = 0.75f * in[i] + 0.25f * in[i - 1];
            out[2 * i + 1] = 0.75f * in[i] + 0.25f * in[i + 1];
        }
    else
        for (int i = 0; i < pairs; ++i) {
            out[2 * i] = in[i];
            out[2 * i + 1] = 0.5f * (in[i] + in[i + 1]);
        }
}

HWY_ATTR void AddYuv(const float* __restrict r, const float* __restrict g, const float* __restrict b,
                     int width, const RgbToYuv& c, float* __restrict luma, float* __restrict u,
                     float* __restrict v) {
    const RgbToYuv k = c;
    for (int x = 0; x < width; ++x) {
        const float value = k.kr * r[x] + k.kg * g[x] + k.kb * b[x];
        luma[x] = value;
        u[x] += (b[x] - value) * k.to_u;
        v[x] += (r[x] - value) * k.to_v;
    }
}

HWY_ATTR void ThinChroma(const float* __restrict in, int count, float* __restrict out) {
    for (int i = 0; i < count; ++i) out[i] = 0.25f * in[2 * i - 1] + 0.5f * in[2 * i] + 0.25f * in[2 * i + 1];
}

template <class Sample>
HWY_ATTR void Quantise(const float* in, int count, float scale, float offset, float top, Sample* out) {
    const Df d;
    const hn::Rebind<std::int32_t, Df> di;
    const hn::Rebind<Sample, Df> ds;
    const int n = static_cast<int>(hn::Lanes(d));
    const auto vs = hn::Set(d, scale), vo = hn::Set(d, offset), high = hn::Set(d, top),
               half = hn::Set(d, 0.5f);
    int i = 0;
    for (; i + n <= count; i += n) {
        const auto v = hn::Min(hn::Max(hn::MulAdd(hn::LoadU(d, in + i), vs, vo), hn::Zero(d)), high);
        hn::StoreU(hn::DemoteTo(ds, hn::ConvertTo(di, hn::Add(v, half))), ds, out + i);
    }
    for (; i < count; ++i)
        out[i] = static_cast<Sample>(
            static_cast<int>(std::min(std::max(in[i] * scale + offset, 0.0f), top) + 0.5f));
}
HWY_ATTR void Quantise8(const float* in, int count, float scale, float offset, float top, std::uint8_t* out) {
    Quantise(in, count, scale, offset, top, out);
}
HWY_ATTR void Quantise16(const float* in, int count, float scale, float offset, float top,
                         std::uint16_t* out) {
    Quantise(in, count, scale, offset, top, out);
}

} // namespace porb::simd::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace porb::simd {
HWY_EXPORT(FloatsFromHalves);
HWY_EXPORT(HalvesFromFloats);
HWY_EXPORT(HalveRows);
HWY_EXPORT(RgbaRowFromYuv8);
HWY_EXPORT(RgbaRowFromYuv16);
HWY_EXPORT(PlanesFromRgbaRow);
HWY_EXPORT(BytesFromRgbaRow);
HWY_EXPORT(BlendChroma8);
HWY_EXPORT(BlendChroma16);
HWY_EXPORT(WidenChroma);
HWY_EXPORT(AddYuv);
HWY_EXPORT(ThinChroma);
HWY_EXPORT(Quantise8);
HWY_EXPORT(Quantise16);

void floats_from_halves(const Half* in, float* out, std::size_t count) {
    HWY_DYNAMIC_DISPATCH(FloatsFromHalves)(in, out, count);
}
void halves_from_floats(const float* in, Half* out, std::size_t count) {
    HWY_DYNAMIC_DISPATCH(HalvesFromFloats)(in, out, count);
}
void halve_rows(const Half* upper, const Half* lower, int width, Half* out) {
    HWY_DYNAMIC_DISPATCH(HalveRows)(upper, lower, width, out);
}
void rgba_row_from_yuv8(const std::uint8_t* y, const float* u, const float* v, int width, const YuvToRgb& c,
                        Half* out) {
    HWY_DYNAMIC_DISPATCH(RgbaRowFromYuv8)(y, u, v, width, c, out);
}
void rgba_row_from_yuv16(const std::uint16_t* y, const float* u, const float* v, int width, const YuvToRgb& c,
                         Half* out) {
    HWY_DYNAMIC_DISPATCH(RgbaRowFromYuv16)(y, u, v, width, c, out);
}
void planes_from_rgba_row(const Half* in, int width, float* r, float* g, float* b) {
    HWY_DYNAMIC_DISPATCH(PlanesFromRgbaRow)(in, width, r, g, b);
}
void bytes_from_rgba_row(const Half* in, int width, bool swap_red_blue, std::uint8_t* out) {
    HWY_DYNAMIC_DISPATCH(BytesFromRgbaRow)(in, width, swap_red_blue, out);
}
void blend_chroma8(const std::uint8_t* a, const std::uint8_t* b, float wa, float centre, int width,
                   float* out) {
    HWY_DYNAMIC_DISPATCH(BlendChroma8)(a, b, wa, centre, width, out);
}
void blend_chroma16(const std::uint16_t* a, const std::uint16_t* b, float wa, float centre, int width,
                    float* out) {
    HWY_DYNAMIC_DISPATCH(BlendChroma16)(a, b, wa, centre, width, out);
}
void widen_chroma(const float* in, int pairs, bool centred, float* out) {
    HWY_DYNAMIC_DISPATCH(WidenChroma)(in, pairs, centred, out);
}
void add_yuv(const float* r, const float* g, const float* b, int width, const RgbToYuv& c, float* luma,
             float* u, float* v) {
    HWY_DYNAMIC_DISPATCH(AddYuv)(r, g, b, width, c, luma, u, v);
}
void thin_chroma(const float* in, int count, float* out) {
    HWY_DYNAMIC_DISPATCH(ThinChroma)(in, count, out);
}
void quantise8(const float* in, int count, float scale, float offset, float top, std::uint8_t* out) {
    HWY_DYNAMIC_DISPATCH(Quantise8)(in, count, scale, offset, top, out);
}
void quantise16(const float* in, int count, float scale, float offset, float top, std::uint16_t* out) {
    HWY_DYNAMIC_DISPATCH(Quantise16)(in, count, scale, offset, top, out);
}
} // namespace porb::simd
#endif
