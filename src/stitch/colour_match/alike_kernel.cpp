#include "stitch/colour_match/alike_kernel.h"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "stitch/colour_match/alike_kernel.cpp"
#include <hwy/foreach_target.h>
// must come after foreach_target.h
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace porb::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

using Bytes = hn::CappedTag<std::uint8_t, kAlikeRoom>;
using Floats = hn::CappedTag<float, kAlikeColumns>;
using Ints = hn::RebindToSigned<Floats>;

template <class D, class V = hn::Vec<D>>
HWY_ATTR inline V Apart(D d, const std::uint8_t* from, V own) {
    const V there = hn::LoadU(d, from);
    return hn::Or(hn::SaturatedSub(there, own), hn::SaturatedSub(own, there));
}

HWY_ATTR float WeighAlike(const AlikePlaces& places, const AlikeRow* rows, int row_count, AlikeColour own,
                          int column, const float* alike, int most_levels, float* weights) {
    const Bytes d;
    const auto r = hn::Set(d, own.r), g = hn::Set(d, own.g), b = hn::Set(d, own.b),
               most = hn::Set(d, std::uint8_t(most_levels));
    alignas(64) std::uint8_t levels[kAlikeRoom], mask_bytes[8];
    float sum = 0;
    for (int row = 0; row < row_count; ++row)
        for (int i = rows[row].first; i < rows[row].end; i += int(hn::Lanes(d))) {
            const auto apart = hn::Max(Apart(d, places.r + i, r),
                                       hn::Max(Apart(d, places.g + i, g), Apart(d, places.b + i, b)));
            hn::StoreU(apart, d, levels);
            mask_bytes[0] = mask_bytes[1] = mask_bytes[2] = mask_bytes[3] = 0;
            hn::StoreMaskBits(d, hn::Eq(hn::Min(apart, most), apart), mask_bytes);
            std::uint32_t bits = std::uint32_t(mask_bytes[0]) | std::uint32_t(mask_bytes[1]) << 8 |
                                 std::uint32_t(mask_bytes[2]) << 16 | std::uint32_t(mask_bytes[3]) << 24;
            if (const int left = rows[row].end - i; left < 32) bits &= (1u << left) - 1;
            for (; bits; bits &= bits - 1) {
                const int k = __builtin_ctz(bits), at = i + k;
                const int away = places.column[at] - column;
                const float w = rows[row].near[away < 0 ? -away : away] * alike[levels[k]];
                weights[places.bin[at]] += w;
                sum += w;
            }
        }
    return sum;
}

HWY_ATTR int MedianBin(const AlikeBlock& block, AlikeColour own, const float* alike, float least,
                       float per_unit, int bins) {
    const Floats d;
    const Ints di;
    const hn::Rebind<std::uint8_t, Floats> d8;
    const auto r = hn::Set(d8, own.r), g = hn::Set(d8, own.g), b = hn::Set(d8, own.b);
    const auto low = hn::Set(d, least), scale = hn::Set(d, per_unit);
    const auto last = hn::Set(di, bins - 1);
    constexpr int kMost = kAlikeColumns * kAlikeRows;
    alignas(64) float weights[kMost];
    alignas(64) std::int32_t at[kMost];
    const int n = block.rows * kAlikeColumns;
    auto all = hn::Zero(d);
    for (int row = 0; row < block.rows; ++row)
        for (int i = 0; i < kAlikeColumns; i += int(hn::Lanes(d))) {
            const std::ptrdiff_t from = row * block.stride + i;
            const auto apart = hn::Max(Apart(d8, block.r + from, r),
                                       hn::Max(Apart(d8, block.g + from, g), Apart(d8, block.b + from, b)));
            const auto weight =
                hn::IfThenElseZero(hn::FirstN(d, std::size_t(block.columns > i ? block.columns - i : 0)),
                                   hn::Mul(hn::LoadU(d, block.weight + from),
                                           hn::GatherIndex(d, alike, hn::PromoteTo(di, apart))));
            const auto bin =
                hn::ConvertTo(di, hn::Mul(hn::Sub(hn::LoadU(d, block.value + from), low), scale));
            all = hn::Add(all, weight);
            hn::StoreU(weight, d, weights + row * kAlikeColumns + i);
            hn::StoreU(hn::Min(bin, last), di, at + row * kAlikeColumns + i);
        }
    const float half = hn::GetLane(hn::SumOfLanes(d, all)) / 2;
    int begin = 0, end = bins - 1;
    while (begin < end) {
        const int mid = (begin + end) / 2;
        const auto bound = hn::Set(di, mid);
        auto sum = hn::Zero(d);
        for (int i = 0; i < n; i += int(hn::Lanes(d))) {
            const auto over = hn::RebindMask(d, hn::Gt(hn::LoadU(di, at + i), bound));
            sum = hn::Add(sum, hn::IfThenZeroElse(over, hn::LoadU(d, weights + i)));
        }
        if (hn::GetLane(hn::SumOfLanes(d, sum)) < half)
            begin = mid + 1;
        else
            end = mid;
    }
    return begin;
}

} // namespace porb::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace porb {

HWY_EXPORT(WeighAlike);
HWY_EXPORT(MedianBin);

float weigh_alike(const AlikePlaces& places, const AlikeRow* rows, int row_count, AlikeColour own, int column,
                  const float* alike, int most_levels, float* weights) {
    return HWY_DYNAMIC_DISPATCH(WeighAlike)(places, rows, row_count, own, column, alike, most_levels,
                                            weights);
}
int median_bin(const AlikeBlock& block, AlikeColour own, const float* alike, float least, float per_unit,
               int bins) {
    return HWY_DYNAMIC_DISPATCH(MedianBin)(block, own, alike, least, per_unit, bins);
}

} // namespace porb
#endif
