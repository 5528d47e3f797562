// How the kernel of blending finds, samples, tones and stores a segment's pixels; for blend_kernel.cpp alone, which
// includes it once for each kind of processor (hence the guard that switches).
#include "base/angle.h"
#include "picture/transfer.h"
#include "stitch/blend/blend_kernel.h"
#include "stitch/blend/blend_parts.h"

#include <algorithm>
#include <cmath>
#include <vector>

#if defined(PORB_BLEND_SAMPLE_INL) == defined(HWY_TARGET_TOGGLE)
#ifdef PORB_BLEND_SAMPLE_INL
#undef PORB_BLEND_SAMPLE_INL
#else
#define PORB_BLEND_SAMPLE_INL
#endif

#include <hwy/highway.h>

#if HWY_TARGET == HWY_SCALAR
#error "These kernels need vectors of four floats: build for x86-64-v2 or an ARM with NEON"
#endif

#ifndef PORB_BLEND_KERNEL_COMMON
#define PORB_BLEND_KERNEL_COMMON
namespace porb {

/// Filter weights for positions in steps of 1/256 pixel, each repeated for R, G, B and A.
constexpr int kPhases = 256;
struct alignas(64) Taps4 {
    float w[16];
};
struct alignas(32) Taps2 {
    float w[8];
};

inline const Taps4* cubic_taps() {
    static const auto table = [] {
        std::vector<Taps4> t(kPhases + 1);
        for (int p = 0; p <= kPhases; ++p)
            for (std::size_t i = 0; i < 16; ++i)
                t[std::size_t(p)].w[i] = float(catmull_rom(double(p) / kPhases)[i / 4]);
        return t;
    }();
    return table.data();
}

inline const Taps2* linear_taps() {
    static const auto table = [] {
        std::vector<Taps2> t(kPhases + 1);
        for (int p = 0; p <= kPhases; ++p)
            for (int i = 0; i < 8; ++i)
                t[std::size_t(p)].w[i] = i < 4 ? 1 - float(p) / kPhases : float(p) / kPhases;
        return t;
    }();
    return table.data();
}

inline constexpr std::uint32_t kMostShared = 16; // contributions of a segment in which something is hidden

} // namespace porb
#endif

HWY_BEFORE_NAMESPACE();
namespace porb::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

using D4 = hn::FixedTag<float, 4>;
using V4 = hn::Vec<D4>;

template <class D>
HWY_ATTR HWY_INLINE hn::Vec<D> load_halves(D d, const Half* p) {
    return hn::PromoteTo(
        d, hn::LoadU(hn::Rebind<hwy::float16_t, D>(), reinterpret_cast<const hwy::float16_t*>(p)));
}

#if HWY_MAX_BYTES >= 32
HWY_ATTR HWY_INLINE V4 folded(hn::Vec<hn::FixedTag<float, 8>> v) {
    return hn::Add(hn::LowerHalf(D4(), v), hn::UpperHalf(D4(), v));
}
#endif

/// 4 x 4 taps from `p` on; rows are `stride` halves apart.
HWY_ATTR HWY_INLINE V4 cubic_sample(const Half* p, std::ptrdiff_t stride, const Taps4& wx, const Taps4& wy) {
#if HWY_MAX_BYTES >= 64
    const hn::FixedTag<float, 16> d;
    auto sum = hn::Mul(load_halves(d, p), hn::Set(d, wy.w[0]));
    sum = hn::MulAdd(load_halves(d, p + stride), hn::Set(d, wy.w[4]), sum);
    sum = hn::MulAdd(load_halves(d, p + 2 * stride), hn::Set(d, wy.w[8]), sum);
    sum = hn::MulAdd(load_halves(d, p + 3 * stride), hn::Set(d, wy.w[12]), sum);
    sum = hn::Mul(sum, hn::Load(d, wx.w));
    const hn::FixedTag<float, 8> d8;
    return folded(hn::Add(hn::LowerHalf(d8, sum), hn::UpperHalf(d8, sum)));
#elif HWY_MAX_BYTES >= 32
    const hn::FixedTag<float, 8> d;
    auto a = hn::Zero(d), b = hn::Zero(d);
    for (int r = 0; r < 4; ++r, p += stride) {
        const auto w = hn::Set(d, wy.w[4 * r]);
        a = hn::MulAdd(load_halves(d, p), w, a);
        b = hn::MulAdd(load_halves(d, p + 8), w, b);
    }
    return folded(hn::MulAdd(a, hn::Load(d, wx.w), hn::Mul(b, hn::Load(d, wx.w + 8))));
#else
    const D4 d;
    auto total = hn::Zero(d);
    for (int r = 0; r < 4; ++r, p += stride) {
        auto row = hn::Zero(d);
        for (int c = 0; c < 4; ++c) row = hn::MulAdd(load_halves(d, p + 4 * c), hn::Set(d, wx.w[4 * c]), row);
        total = hn::MulAdd(row, hn::Set(d, wy.w[4 * r]), total);
    }
    return total;
#endif
}

HWY_ATTR HWY_INLINE V4 linear_sample(const Half* p, std::ptrdiff_t stride, const Taps2& wx, const Taps2& wy) {
#if HWY_MAX_BYTES >= 32
    const hn::FixedTag<float, 8> d;
    auto sum = hn::Mul(load_halves(d, p), hn::Set(d, wy.w[0]));
    sum = hn::MulAdd(load_halves(d, p + stride), hn::Set(d, wy.w[4]), sum);
    return folded(hn::Mul(sum, hn::Load(d, wx.w)));
#else
    const D4 d;
    const auto row = [&](const Half* q) HWY_ATTR {
        return hn::MulAdd(load_halves(d, q), hn::Set(d, wx.w[0]),
                          hn::Mul(load_halves(d, q + 4), hn::Set(d, wx.w[4])));
    };
    return hn::MulAdd(row(p), hn::Set(d, wy.w[0]), hn::Mul(row(p + stride), hn::Set(d, wy.w[4])));
#endif
}

using DS = hn::CappedTag<float, kSegment>; ///< a segment's pixels side by side, or some of them
using DSI = hn::RebindToSigned<DS>;
using VS = hn::Vec<DS>;
using VSI = hn::Vec<DSI>;

/// Where a segment's pixels lie in a source, continuous coordinates.
struct alignas(64) Spots {
    float u[kSegment], v[kSegment];
    float rim[kSegment]; ///< what undoing the falloff multiplies a tone's scale by
};

/// Of pictures in the working format: offset of the first tap in pixels, and the filter phases.
struct alignas(64) Taps {
    std::int32_t offset[kSegment], phase_u[kSegment], phase_v[kSegment];
};

/// A segment's pixels, channel by channel.
struct alignas(64) Channels {
    float r[kSegment], g[kSegment], b[kSegment], a[kSegment];
};

template <Filter filter>
inline constexpr int kTapsBefore = filter == Filter::cubic ? 1 : 0;
template <Filter filter>
inline constexpr int kTapsRead = filter == Filter::cubic ? 4 : 2;

/// Where each of a segment's pixels lies; with a tone, what its rim does there too.
/// `nearer` is how much nearer than the agree distance each pixel is (1/m), or nullptr.
HWY_ATTR HWY_INLINE void find_spots(const BlendPlan& plan, const Contribution& c, const float* nearer,
                                    const CameraTone& tone, Spots& spots) {
    const DS d;
    // Lagrange's parabola through pixel offsets 0, 7.5 and 15.
    constexpr float kBend = 1 / 112.5f, kSlope = 1 / 15.0f;
    const float a_u = (c.u[2] - 2 * c.u[1] + c.u[0]) * kBend, a_v = (c.v[2] - 2 * c.v[1] + c.v[0]) * kBend;
    const float b_u = (c.u[2] - c.u[0]) * kSlope - 15 * a_u, b_v = (c.v[2] - c.v[0]) * kSlope - 15 * a_v;
    const Parallax* parallax = nullptr;
    if (nearer && c.parallax != Contribution::kNone) parallax = &plan.parallaxes[c.parallax];
    for (std::size_t i = 0; i < kSegment; i += hn::Lanes(d)) {
        hn::Vec<decltype(d)> u, v;
        if (c.exact) {
            u = hn::LoadU(d, plan.positions.data() + c.positions + i);
            v = hn::LoadU(d, plan.positions.data() + c.positions + kSegment + i);
        } else {
            const auto t = hn::Iota(d, float(i));
            u = hn::MulAdd(hn::MulAdd(hn::Set(d, a_u), t, hn::Set(d, b_u)), t, hn::Set(d, c.u[0]));
            v = hn::MulAdd(hn::MulAdd(hn::Set(d, a_v), t, hn::Set(d, b_v)), t, hn::Set(d, c.v[0]));
        }
        if (parallax) {
            const auto t = hn::Iota(d, float(i));
            const auto along = [&](const float* n) HWY_ATTR {
                const float a = (n[2] - 2 * n[1] + n[0]) * kBend, b = (n[2] - n[0]) * kSlope - 15 * a;
                return hn::MulAdd(hn::MulAdd(hn::Set(d, a), t, hn::Set(d, b)), t, hn::Set(d, n[0]));
            };
            const auto rho = hn::Min(hn::Max(hn::Load(d, nearer + i), hn::Set(d, parallax->low)),
                                     hn::Set(d, parallax->high));
            u = hn::MulAdd(hn::MulAdd(along(parallax->u2), rho, along(parallax->u1)), rho, u);
            v = hn::MulAdd(hn::MulAdd(along(parallax->v2), rho, along(parallax->v1)), rho, v);
        }
        if (!tone.plain) {
            const auto du = hn::Sub(u, hn::Set(d, tone.centre_u)), dv = hn::Sub(v, hn::Set(d, tone.centre_v));
            const auto q = hn::Min(hn::Mul(hn::MulAdd(du, du, hn::Mul(dv, dv)), hn::Set(d, tone.per_radius2)),
                                   hn::Set(d, kFarthestQ));
            auto rim = hn::MulAdd(q, hn::Set(d, tone.rim[2]), hn::Set(d, tone.rim[1]));
            rim = hn::MulAdd(q, rim, hn::Set(d, tone.rim[0]));
            hn::Store(hn::MulAdd(q, rim, hn::Set(d, 1.0f)), d, spots.rim + i);
        }
        hn::Store(u, d, spots.u + i);
        hn::Store(v, d, spots.v + i);
    }
}

/// A place along one side: the whole pixel of the first tap, and how far past the tap before it that is.
struct Place {
    VSI first;
    VS fraction;
};
/// Clamped so that no sample outside the picture is read whatever the plan says of pixels with weight 0.
template <Filter filter>
HWY_ATTR HWY_INLINE Place place(VS at, int size) {
    const DS d;
    const DSI di;
    at = hn::Min(hn::Max(hn::Sub(at, hn::Set(d, 0.5f)), hn::Set(d, float(kTapsBefore<filter>))),
                 hn::Set(d, float(size - kTapsRead<filter> + kTapsBefore<filter>)));
    const auto whole = hn::ConvertTo(di, at); // at >= 0: truncation is the floor
    return {hn::Sub(whole, hn::Set(di, kTapsBefore<filter>)), hn::Sub(at, hn::ConvertTo(d, whole))};
}

template <Filter filter>
HWY_ATTR HWY_INLINE void find_taps(const Spots& spots, int width, int height, Taps& taps) {
    const DS d;
    const DSI di;
    const auto phases = hn::Set(d, float(kPhases)), half = hn::Set(d, 0.5f);
    for (std::size_t i = 0; i < kSegment; i += hn::Lanes(d)) {
        const Place x = place<filter>(hn::Load(d, spots.u + i), width),
                    y = place<filter>(hn::Load(d, spots.v + i), height);
        hn::Store(hn::ConvertTo(di, hn::MulAdd(x.fraction, phases, half)), di, taps.phase_u + i);
        hn::Store(hn::ConvertTo(di, hn::MulAdd(y.fraction, phases, half)), di, taps.phase_v + i);
        hn::Store(hn::Add(hn::Mul(y.first, hn::Set(di, width)), x.first), di, taps.offset + i);
    }
}

template <Filter filter>
HWY_ATTR HWY_INLINE V4 sample(const Half* base, std::ptrdiff_t stride, const Taps& s, int i,
                              const Taps4* cubic, const Taps2* linear) {
    const Half* p = base + std::ptrdiff_t(s.offset[i]) * 4;
    if constexpr (filter == Filter::cubic)
        return cubic_sample(p, stride, cubic[s.phase_u[i]], cubic[s.phase_v[i]]);
    else
        return linear_sample(p, stride, linear[s.phase_u[i]], linear[s.phase_v[i]]);
}

/// Weights of the taps about each place (catmull_rom() in blend_parts.h, or linear).
template <Filter filter>
HWY_ATTR HWY_INLINE void weigh_taps(VS t, VS* w) {
    const DS d;
    const auto one = hn::Set(d, 1.0f);
    if constexpr (filter == Filter::linear) {
        w[0] = hn::Sub(one, t);
        w[1] = t;
    } else {
        const auto half = hn::Set(d, 0.5f), t2 = hn::Mul(t, t);
        w[0] = hn::Mul(hn::MulSub(hn::NegMulAdd(half, t, one), t, half), t);
        w[1] = hn::MulAdd(hn::MulSub(hn::Set(d, 1.5f), t, hn::Set(d, 2.5f)), t2, one);
        w[2] =
            hn::Mul(hn::MulAdd(hn::MulSub(hn::Set(d, 2.0f), t, hn::Mul(hn::Set(d, 1.5f), t2)), one, half), t);
        w[3] = hn::Mul(hn::MulSub(half, t, half), t2);
    }
}

/// Of 32 bits at each place the bytes or words from the lowest on.
template <int bits, int which>
HWY_ATTR HWY_INLINE VS part_of(VSI read) {
    const DS d;
    const hn::RebindToUnsigned<DSI> du;
    auto v = hn::ShiftRight<bits * which>(hn::BitCast(du, read));
    if constexpr (bits * (which + 1) < 32) v = hn::And(v, hn::Set(du, (1u << bits) - 1));
    return hn::ConvertTo(d, hn::BitCast(DSI(), v));
}

/// The weighed sum of a row's taps at each place, `at` bytes past `base`.
template <Filter filter, int sample_bytes>
HWY_ATTR HWY_INLINE VS row_sum(const std::uint8_t* base, VSI at, const VS* w) {
    const DSI di;
    const auto* from = reinterpret_cast<const std::int32_t*>(base);
    const auto low = hn::GatherOffset(di, from, at);
    constexpr int kBits = 8 * sample_bytes;
    auto sum = hn::MulAdd(part_of<kBits, 1>(low), w[1], hn::Mul(part_of<kBits, 0>(low), w[0]));
    if constexpr (filter == Filter::cubic) {
        if constexpr (sample_bytes == 1) {
            sum = hn::MulAdd(part_of<kBits, 2>(low), w[2], sum);
            sum = hn::MulAdd(part_of<kBits, 3>(low), w[3], sum);
        } else {
            const auto high = hn::GatherOffset(di, from, hn::Add(at, hn::Set(di, 4)));
            sum = hn::MulAdd(part_of<kBits, 0>(high), w[2], sum);
            sum = hn::MulAdd(part_of<kBits, 1>(high), w[3], sum);
        }
    }
    return sum;
}

/// Samples planes of Y', Cb and Cr at a segment's places and makes colours of what was found: luma by the
/// filter, chroma linearly.
template <Filter filter, int sample_bytes>
HWY_ATTR HWY_INLINE void sample_planes(const YuvPicture& in, const Spots& spots, Channels& out) {
    const DS d;
    const DSI di;
    const simd::YuvToRgb& c = in.colour;
    const auto luma_stride = hn::Set(di, std::int32_t(in.luma_stride)),
               chroma_stride = hn::Set(di, std::int32_t(in.chroma_stride));
    const auto scale = hn::Set(d, in.chroma_scale), one = hn::Set(d, 1.0f);
    for (std::size_t i = 0; i < kSegment; i += hn::Lanes(d)) {
        const auto u = hn::Load(d, spots.u + i), v = hn::Load(d, spots.v + i);
        const Place x = place<filter>(u, in.width), y = place<filter>(v, in.height);
        VS wx[4], wy[4];
        weigh_taps<filter>(x.fraction, wx);
        weigh_taps<filter>(y.fraction, wy);
        auto at = hn::Add(hn::Mul(y.first, luma_stride), hn::ShiftLeft<sample_bytes - 1>(x.first));
        auto luma = hn::Mul(row_sum<filter, sample_bytes>(in.luma, at, wx), wy[0]);
        for (int r = 1; r < kTapsRead<filter>; ++r) {
            at = hn::Add(at, luma_stride);
            luma = hn::MulAdd(row_sum<filter, sample_bytes>(in.luma, at, wx), wy[r], luma);
        }
        const Place cx = place<Filter::linear>(hn::MulAdd(u, scale, hn::Set(d, in.chroma_shift_x)),
                                               in.chroma_width),
                    cy = place<Filter::linear>(hn::MulAdd(v, scale, hn::Set(d, in.chroma_shift_y)),
                                               in.chroma_height);
        const auto right = cx.fraction, left = hn::Sub(one, right);
        auto chroma_at = hn::Add(hn::Mul(cy.first, chroma_stride), hn::ShiftLeft<sample_bytes>(cx.first));
        VS cb[2], cr[2];
        for (int r = 0; r < 2; ++r) {
            const auto* from = reinterpret_cast<const std::int32_t*>(in.chroma);
            const auto first = hn::GatherOffset(di, from, chroma_at);
            if constexpr (sample_bytes == 1) {
                cb[r] = hn::MulAdd(part_of<8, 2>(first), right, hn::Mul(part_of<8, 0>(first), left));
                cr[r] = hn::MulAdd(part_of<8, 3>(first), right, hn::Mul(part_of<8, 1>(first), left));
            } else {
                const auto second = hn::GatherOffset(di, from, hn::Add(chroma_at, hn::Set(di, 4)));
                cb[r] = hn::MulAdd(part_of<16, 0>(second), right, hn::Mul(part_of<16, 0>(first), left));
                cr[r] = hn::MulAdd(part_of<16, 1>(second), right, hn::Mul(part_of<16, 1>(first), left));
            }
            chroma_at = hn::Add(chroma_at, chroma_stride);
        }
        const auto centre = hn::Set(d, in.chroma_centre);
        const auto blue = hn::Sub(hn::MulAdd(hn::Sub(cb[1], cb[0]), cy.fraction, cb[0]), centre),
                   red = hn::Sub(hn::MulAdd(hn::Sub(cr[1], cr[0]), cy.fraction, cr[0]), centre);
        luma = hn::Mul(hn::Sub(luma, hn::Set(d, c.y_offset)), hn::Set(d, c.y_scale));
        hn::Store(hn::MulAdd(red, hn::Set(d, c.r_v), luma), d, out.r + i);
        hn::Store(hn::MulAdd(red, hn::Set(d, c.g_v), hn::MulAdd(blue, hn::Set(d, c.g_u), luma)), d,
                  out.g + i);
        hn::Store(hn::MulAdd(blue, hn::Set(d, c.b_u), luma), d, out.b + i);
        hn::Store(one, d, out.a + i);
    }
}

/// A source as the inner loop wants it: planes, or pixels of the working format.
struct Pixels {
    const YuvPicture* planes = nullptr;
    const Half* base = nullptr;
    std::ptrdiff_t stride = 0; ///< in halves
    int width = 0, height = 0;
    CameraTone tone{};
};

/// One channel with its camera's tone (stitch/source/tone.h).
HWY_ATTR HWY_INLINE VS toned(VS e, float scale, VS rim) {
    const DS d;
    const VS s = hn::Mul(rim, hn::Set(d, scale)), foot = hn::Set(d, kCurveFoot);
    const VS curve = hn::MulSub(s, hn::Add(e, foot), foot);
    const VS slope = hn::MulAdd(hn::Set(d, kCurveFoot / kFootEnd), hn::Sub(s, hn::Set(d, 1.0f)), s);
    return hn::IfThenElse(hn::Lt(e, hn::Set(d, kFootEnd)), hn::Mul(slope, e), curve);
}
HWY_ATTR HWY_INLINE void tone_channels(const CameraTone& tone, const float* rim, Channels& c) {
    const DS d;
    for (std::size_t i = 0; i < kSegment; i += hn::Lanes(d)) {
        const VS r = hn::Load(d, rim + i);
        hn::Store(toned(hn::Load(d, c.r + i), tone.scale[0], r), d, c.r + i);
        hn::Store(toned(hn::Load(d, c.g + i), tone.scale[1], r), d, c.g + i);
        hn::Store(toned(hn::Load(d, c.b + i), tone.scale[2], r), d, c.b + i);
    }
}

HWY_ATTR HWY_INLINE void store_channels(const Channels& c, int count, Half* to) {
    const DS d;
    const hn::Rebind<hwy::float16_t, DS> dh;
    const hn::Rebind<std::uint16_t, DS> d16;
    const auto bits = [&](const float* from)
                          HWY_ATTR { return hn::BitCast(d16, hn::DemoteTo(dh, hn::Load(d, from))); };
    alignas(64) Half whole[kSegment * 4];
    Half* const out = count == kSegment ? to : whole;
    for (std::size_t i = 0; i < kSegment; i += hn::Lanes(d))
        hn::StoreInterleaved4(bits(c.r + i), bits(c.g + i), bits(c.b + i), bits(c.a + i), d16, out + 4 * i);
    if (out != to) std::copy_n(whole, 4 * count, to);
}

} // namespace porb::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();
#endif
