#include "stitch/strips/steady_kernel.h"

#include <algorithm>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "stitch/strips/steady_kernel.cpp"
#include <hwy/foreach_target.h>
// must come after foreach_target.h
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace porb::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// Columns from x on, as many as a vector has.
template <class D>
HWY_ATTR void TogetherAt(D d, const SteadyRow& row, int x) {
    const hn::RebindToSigned<D> di;
    const hn::Rebind<std::int16_t, D> d16;
    const hn::Rebind<std::uint8_t, D> d8;
    constexpr std::size_t lanes = hn::MaxLanes(D());
    alignas(64) float values[kMostSteady * lanes];
    const std::size_t count = row.moments.size();
    const auto unit = hn::Set(d, row.parallax_unit);
    const auto weight = [&](std::size_t m) HWY_ATTR { return hn::LoadU(d, row.moments[m].weight + x); };
    const auto share = [&](const std::uint8_t* from)
                           HWY_ATTR { return hn::ConvertTo(d, hn::PromoteTo(di, hn::LoadU(d8, from + x))); };
    auto total = hn::Zero(d), alike = total, same = total, sum = total;
    for (std::size_t m = 0; m < count; ++m) {
        const SteadyMoment& moment = row.moments[m];
        const auto w = weight(m);
        const auto v =
            hn::Mul(hn::ConvertTo(d, hn::PromoteTo(di, hn::LoadU(d16, moment.parallax + x))), unit);
        hn::Store(v, d, values + m * lanes);
        total = hn::Add(total, w);
        sum = hn::MulAdd(w, v, sum);
        alike = hn::MulAdd(w, share(moment.correlation), alike);
        same = hn::MulAdd(w, share(moment.same), same);
    }
    const auto per_share = hn::Div(hn::Set(d, 1.0f / 255), total);
    hn::StoreU(hn::Mul(alike, per_share), d, row.alike_to + x);
    hn::StoreU(hn::Mul(same, per_share), d, row.same_to + x);
    auto mean = hn::Div(sum, total);
    if (row.median) {
        // The least value that half of all weight does not exceed; all of it may come to a little less when
        // it is added up in another order. There are few moments, so each is compared with all.
        const auto half = hn::Mul(hn::Set(d, 0.4999f), total);
        mean = hn::Set(d, 1e9f);
        for (std::size_t m = 0; m < count; ++m) {
            const auto own = hn::Load(d, values + m * lanes);
            auto below = hn::Zero(d);
            for (std::size_t k = 0; k < count; ++k)
                below = hn::Add(below,
                                hn::IfThenElseZero(hn::Le(hn::Load(d, values + k * lanes), own), weight(k)));
            mean = hn::IfThenElse(hn::Ge(below, half), hn::Min(mean, own), mean);
        }
    }
    const auto per_odd = hn::Set(d, 1 / row.odd), one = hn::Set(d, 1.0f);
    for (int round = 0; round < row.rounds; ++round) {
        auto top = hn::Zero(d), low = top;
        for (std::size_t m = 0; m < count; ++m) {
            const auto v = hn::Load(d, values + m * lanes), off = hn::Mul(hn::Sub(v, mean), per_odd),
                       k = hn::Div(weight(m), hn::MulAdd(off, off, one));
            top = hn::MulAdd(k, v, top);
            low = hn::Add(low, k);
        }
        mean = hn::Div(top, low);
    }
    hn::StoreU(mean, d, row.to + x);
}

HWY_ATTR void BringTogether(const SteadyRow& row) {
    const hn::ScalableTag<float> d;
    const int lanes = int(hn::Lanes(d));
    if (row.columns >= lanes)
        for (int x = 0; x < row.columns; x += lanes) TogetherAt(d, row, std::min(x, row.columns - lanes));
    else
        for (int x = 0; x < row.columns; ++x) TogetherAt(hn::CappedTag<float, 1>(), row, x);
}

HWY_ATTR void MeanOfBlock(const StillRows& rows) {
    const hn::CappedTag<std::uint16_t, kStillRoom / 2> d;
    const hn::Rebind<std::uint8_t, decltype(d)> d8;
    const hn::RebindToSigned<decltype(d)> signed16;
    const int lanes = int(hn::Lanes(d));
    for (int x = 0; x < rows.columns + kStillBlock - 1; x += lanes) {
        auto sum = hn::Zero(d);
        for (const std::uint8_t* row : rows.rows)
            sum = hn::Add(sum, hn::PromoteTo(d, hn::LoadU(d8, row + x)));
        hn::StoreU(sum, d, rows.sums + x);
    }
    // (s + 12) / 25, of at most 25 x 255
    const auto about_half = hn::Set(d, std::uint16_t(12)), per_place = hn::Set(d, std::uint16_t(5243));
    for (int x = 0; x < rows.columns; x += lanes) {
        auto sum = about_half;
        for (int k = 0; k < kStillBlock; ++k) sum = hn::Add(sum, hn::LoadU(d, rows.sums + x + k));
        const auto mean = hn::ShiftRight<1>(hn::MulHigh(sum, per_place));
        hn::StoreU(hn::DemoteTo(d8, hn::BitCast(signed16, mean)), d8, rows.to + x);
    }
}

} // namespace porb::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace porb {

HWY_EXPORT(BringTogether);
HWY_EXPORT(MeanOfBlock);

void bring_together(const SteadyRow& row) {
    HWY_DYNAMIC_DISPATCH(BringTogether)(row);
}
void mean_of_block(const StillRows& rows) {
    HWY_DYNAMIC_DISPATCH(MeanOfBlock)(rows);
}

} // namespace porb
#endif
