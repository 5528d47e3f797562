#include "stitch/colour_match/match_kernel.h"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "stitch/colour_match/match_kernel.cpp"
#include <hwy/foreach_target.h>
// must come after foreach_target.h
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace porb::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

using B8 = hn::CappedTag<std::uint8_t, kMatchRoom>;
using W16 = hn::CappedTag<MatchCost, kMatchLanes>;
using Eight = hn::CappedTag<MatchCost, 8>;
using VB = hn::Vec<B8>;
using VW = hn::Vec<W16>;
using VE = hn::Vec<Eight>;

HWY_ATTR inline VB Levels(VB a, VB b) {
    return hn::Or(hn::SaturatedSub(a, b), hn::SaturatedSub(b, a));
}

// Loops that are written plainly are made vectors of by the compiler.
void AddOrder(const std::uint8_t* own, const std::uint8_t* other, int width,
              std::uint8_t* HWY_RESTRICT bits) {
    for (int x = 0; x < width; ++x)
        bits[x] = std::uint8_t(std::uint8_t(bits[x] << 1) | std::uint8_t(own[x] < other[x] ? 1 : 0));
}

inline std::uint8_t More(std::uint8_t a, std::uint8_t b) {
    return a > b ? a : b;
}
inline std::uint8_t LevelsBetween(std::uint8_t a, std::uint8_t b) {
    return std::uint8_t(a > b ? a - b : b - a);
}

void RowLevels(const MatchRow& a, const MatchRow& b, int width, std::uint8_t* HWY_RESTRICT to) {
    const std::uint8_t *ar = a.r, *ag = a.g, *ab = a.b, *br = b.r, *bg = b.g, *bb = b.b;
    for (int x = 0; x < width; ++x)
        to[x] =
            More(LevelsBetween(ar[x], br[x]), More(LevelsBetween(ag[x], bg[x]), LevelsBetween(ab[x], bb[x])));
}

/// Bytes written past a place are those of the next, which come after it.
HWY_ATTR void RowCostsOf(const RowCosts& row, std::uint8_t* HWY_RESTRICT to) {
    const B8 d;
    const VB most = hn::Set(d, std::uint8_t(row.most_apart));
    for (int x = 0; x < row.width; ++x) {
        const int count = row.counts.reach[x / kHeldPlaces];
        const std::ptrdiff_t first = std::ptrdiff_t(row.step) * x;
        const VB r = hn::Set(d, row.own.r[x]), g = hn::Set(d, row.own.g[x]), b = hn::Set(d, row.own.b[x]),
                 o0 = hn::Set(d, row.own.order[0][x]), o1 = hn::Set(d, row.own.order[1][x]),
                 o2 = hn::Set(d, row.own.order[2][x]);
        std::uint8_t* const place = to + std::ptrdiff_t(x) * row.stride;
        for (int k = 0; k < count; k += int(hn::Lanes(d))) {
            const std::ptrdiff_t at = first + k;
            const auto load = [&](const std::uint8_t* from) HWY_ATTR { return hn::LoadU(d, from + at); };
            const VB orders = hn::Add(hn::Add(hn::PopulationCount(hn::Xor(load(row.other.order[0]), o0)),
                                              hn::PopulationCount(hn::Xor(load(row.other.order[1]), o1))),
                                      hn::PopulationCount(hn::Xor(load(row.other.order[2]), o2)));
            const VB levels =
                hn::SaturatedAdd(hn::SaturatedAdd(Levels(load(row.other.r), r), Levels(load(row.other.g), g)),
                                 Levels(load(row.other.b), b));
            const VB apart = hn::Min(hn::ShiftRight<1>(levels), most);
            hn::StoreU(hn::Add(orders, hn::Add(apart, hn::ShiftRight<1>(apart))), d, place + k);
        }
    }
}

HWY_ATTR inline void MeanOfPlace(const ThreeRows& rows, std::ptrdiff_t at, int count, std::uint8_t* to) {
    const W16 d;
    const hn::Rebind<std::uint8_t, W16> d8;
    const VW third = hn::Set(d, MatchCost(171));
    for (int k = 0; k < count; k += int(hn::Lanes(d))) {
        const auto load = [&](const std::uint8_t* costs)
                              HWY_ATTR { return hn::PromoteTo(d, hn::LoadU(d8, costs + at + k)); };
        const VW sum = hn::Add(hn::Add(load(rows.before), load(rows.own)), load(rows.after));
        const VW mean = hn::ShiftRight<9>(hn::Mul(sum, third));
        hn::StoreU(hn::DemoteTo(d8, hn::BitCast(hn::RebindToSigned<W16>(), mean)), d8, to + k);
    }
}
HWY_ATTR void MeanWithinReach(const ThreeRows& rows, std::uint8_t* HWY_RESTRICT to) {
    for (int x = 0; x < rows.width; ++x) {
        const std::ptrdiff_t at = std::ptrdiff_t(x) * rows.stride;
        MeanOfPlace(rows, at, rows.counts.reach[x / kHeldPlaces], to + at);
    }
}
HWY_ATTR void MeanKept(const ThreeRows& rows, std::uint8_t* HWY_RESTRICT to) {
    for (int x = 0; x < rows.width; ++x)
        MeanOfPlace(rows, std::ptrdiff_t(x) * rows.stride, rows.counts.own[x / kHeldPlaces],
                    to + rows.counts.at(x));
}

/// The less of either half where vectors are longer. A template, so that only what fits is compiled.
template <class V>
HWY_ATTR inline VE EightOf(V v) {
    if constexpr (hn::MaxLanes(hn::DFromV<V>()) == 8)
        return v;
    else
        return hn::Min(hn::LowerHalf(Eight(), v), hn::UpperHalf(Eight(), v));
}

/// The least of each of four vectors' lanes, side by side.
HWY_ATTR inline void StoreLeast(VW a, VW b, VW c, VW e, MatchCost* to) {
    const Eight d;
    const hn::Repartition<std::uint32_t, Eight> d32;
    const hn::Repartition<std::uint64_t, Eight> d64;
    const VE va = EightOf(a), vb = EightOf(b), vc = EightOf(c), ve = EightOf(e);
    const VE ab = hn::Min(hn::InterleaveLower(d, va, vb), hn::InterleaveUpper(d, va, vb)),
             ce = hn::Min(hn::InterleaveLower(d, vc, ve), hn::InterleaveUpper(d, vc, ve));
    const auto ab32 = hn::BitCast(d32, ab), ce32 = hn::BitCast(d32, ce);
    const VE all = hn::Min(hn::BitCast(d, hn::InterleaveLower(d32, ab32, ce32)),
                           hn::BitCast(d, hn::InterleaveUpper(d32, ab32, ce32)));
    const VE least = hn::Min(all, hn::BitCast(d, hn::Shuffle01(hn::BitCast(d64, all))));
    const hn::CappedTag<MatchCost, 4> d4;
    hn::StoreU(hn::LowerHalf(d4, least), d4, to);
}

/// Where a place comes from along one way: the least there, and that with a step of many columns.
struct From {
    VW least, most;
};
HWY_ATTR inline From FromPlace(MatchCost least, MatchCost much) {
    const W16 d;
    return {hn::Set(d, least), hn::Set(d, MatchCost(least + much))};
}
/// What the place costs, coming from the same parallaxes there, or those one less or one more.
HWY_ATTR inline VW Coming(const From& from, VW same, VW less, VW more, VW little, VW cost) {
    const VW cheapest = hn::Min(hn::Min(same, from.most), hn::Add(hn::Min(less, more), little));
    return hn::Add(hn::Sub(cheapest, from.least), cost);
}
HWY_ATTR inline VW Coming(const From& from, const MatchCost* values, VW little, VW cost) {
    const W16 d;
    return Coming(from, hn::LoadU(d, values), hn::LoadU(d, values - 1), hn::LoadU(d, values + 1), little,
                  cost);
}

/// Lanes of two vectors that follow each other, from the second's one before its first on, or from the
/// first's second on. Reading them from where they were just stored would wait for that.
template <class V>
HWY_ATTR inline V OneLess(V before, V own) {
    const hn::DFromV<V> d;
    if constexpr (hn::MaxLanes(d) == 8)
        return hn::CombineShiftRightLanes<7>(d, own, before);
    else
        return hn::CombineShiftRightLanes<7>(d, own, hn::ConcatLowerUpper(d, own, before));
}
template <class V>
HWY_ATTR inline V OneMore(V own, V after) {
    const hn::DFromV<V> d;
    if constexpr (hn::MaxLanes(d) == 8)
        return hn::CombineShiftRightLanes<1>(d, after, own);
    else
        return hn::CombineShiftRightLanes<1>(d, hn::ConcatLowerUpper(d, after, own), own);
}

HWY_ATTR inline VW CostAt(const std::uint8_t* costs, const std::uint8_t* held, int k) {
    const W16 d;
    const hn::Rebind<std::uint8_t, W16> d8;
    return hn::PromoteTo(d, hn::Add(hn::LoadU(d8, costs + k), hn::LoadU(d8, held + k)));
}

HWY_ATTR inline VW LeastInAll(VW v) {
    const W16 d;
    alignas(64) MatchCost first[4];
    StoreLeast(v, v, v, v, first);
    return hn::Set(d, first[0]);
}

/// The parallax of the least of `sums`; `least` holds it among its lanes.
HWY_ATTR inline float BestOf(const MatchCost* sums, VW least, int count) {
    const W16 d;
    const VW all = LeastInAll(least);
    int best = 0;
    for (int k = 0; k < count; k += int(hn::Lanes(d)))
        if (const auto at = hn::FindFirstTrue(d, hn::Eq(hn::LoadU(d, sums + k), all)); at >= 0) {
            best = k + int(at);
            break;
        }
    if (best == 0 || best == count - 1) return float(best);
    const float before = float(sums[best - 1]), own = float(sums[best]), after = float(sums[best + 1]),
                bend = before - 2 * own + after;
    if (bend <= 0) return float(best);
    const float off = (before - after) / (2 * bend);
    return float(best) + (off < -0.5f ? -0.5f : off > 0.5f ? 0.5f : off);
}

static_assert(kSumUnit == 4, "sums are shifted by two bits");
template <bool kBack>
HWY_ATTR HWY_INLINE void AddRow(const RowOfWays& row, float* best) {
    const W16 d;
    const hn::Rebind<std::uint8_t, W16> d8;
    const hn::RebindToSigned<W16> signed16;
    const std::ptrdiff_t stride = row.stride + kMatchPad;
    const VW out_of_reach = hn::Set(d, kOutOfReach);
    const VW little = hn::Set(d, row.little);
    MatchCost along_least = 0;
    for (int k = 0; k < row.stride; ++k) row.along[1][k] = 0;
    for (int i = 0; i < row.end - row.begin; ++i) {
        const int x = kBack ? row.end - 1 - i : row.begin + i;
        const int block = x / kHeldPlaces, count = row.counts.own[block], reach = row.counts.reach[block];
        const std::ptrdiff_t kept = row.counts.at(x);
        const std::uint8_t *const costs = row.costs + kept, *const held =
                                                                row.held + std::ptrdiff_t(block) * row.stride;
        std::uint8_t* const sums = row.sums + kept;
        const std::ptrdiff_t at = (x + 1) * stride + kMatchPad / 2;
        const auto from = [&](int way) HWY_ATTR {
            return FromPlace(row.before.least[4 * (x + way) + way], row.step_costs[way][x]);
        };
        const From from0 = from(0), from1 = from(1), from2 = from(2),
                   from3 = FromPlace(along_least, row.step_costs[3][x]);
        const MatchCost *const before0 = row.before.values[0] + at - stride,
                               *const before1 = row.before.values[1] + at,
                               *const before2 = row.before.values[2] + at + stride,
                               *const before3 = row.along[(i & 1) ^ 1];
        MatchCost *const own0 = row.own.values[0] + at, *const own1 = row.own.values[1] + at,
                         *const own2 = row.own.values[2] + at, *const own3 = row.along[i & 1];
        VW least0 = hn::Set(d, MatchCost(0xffff)), least1 = least0, least2 = least0, least3 = least0,
           least = least0;
        MatchCost* const all = row.all;
        VW less = hn::Set(d, kOutOfReach), same = hn::LoadU(d, before3);
        for (int k = 0; k < count; k += int(hn::Lanes(d))) {
            const VW cost = CostAt(costs, held, k), v0 = Coming(from0, before0 + k, little, cost),
                     v1 = Coming(from1, before1 + k, little, cost),
                     v2 = Coming(from2, before2 + k, little, cost);
            const VW more = hn::LoadU(d, before3 + k + hn::Lanes(d));
            const VW v3 = Coming(from3, same, OneLess(less, same), OneMore(same, more), little, cost);
            less = same, same = more;
            hn::StoreU(v0, d, own0 + k);
            hn::StoreU(v1, d, own1 + k);
            hn::StoreU(v2, d, own2 + k);
            hn::StoreU(v3, d, own3 + k);
            least0 = hn::Min(least0, v0), least1 = hn::Min(least1, v1);
            least2 = hn::Min(least2, v2), least3 = hn::Min(least3, v3);
            VW sum = hn::Add(hn::Add(v0, v1), hn::Add(v2, v3));
            if constexpr (kBack)
                sum = hn::Add(sum, hn::ShiftLeft<2>(hn::PromoteTo(d, hn::LoadU(d8, sums + k))));
            hn::StoreU(sum, d, all + k);
            least = hn::Min(least, sum);
        }
        if constexpr (kBack) {
            best[x] = BestOf(all, least, count);
        } else {
            const VW bottom = LeastInAll(least);
            for (int k = 0; k < count; k += int(hn::Lanes(d))) {
                const VW more = hn::ShiftRight<2>(hn::Sub(hn::LoadU(d, all + k), bottom));
                hn::StoreU(hn::DemoteTo(d8, hn::BitCast(signed16, more)), d8, sums + k);
            }
        }
        // Neighbours may look further, and one past their last.
        for (int k = count; k <= reach; k += int(hn::Lanes(d)))
            for (MatchCost* const own : {own0, own1, own2, own3}) hn::StoreU(out_of_reach, d, own + k);
        MatchCost* const told = row.own.least + 4 * (x + 1);
        StoreLeast(least0, least1, least2, least3, told);
        along_least = told[3];
    }
}

HWY_ATTR void AddRowForward(const RowOfWays& row) {
    AddRow<false>(row, nullptr);
}
HWY_ATTR void AddRowBack(const RowOfWays& row, float* best) {
    AddRow<true>(row, best);
}

} // namespace porb::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace porb {

HWY_EXPORT(AddOrder);
HWY_EXPORT(RowLevels);
HWY_EXPORT(RowCostsOf);
HWY_EXPORT(MeanWithinReach);
HWY_EXPORT(MeanKept);
HWY_EXPORT(AddRowForward);
HWY_EXPORT(AddRowBack);

void add_order(const std::uint8_t* own, const std::uint8_t* other, int width, std::uint8_t* bits) {
    HWY_DYNAMIC_DISPATCH(AddOrder)(own, other, width, bits);
}
void row_levels(const MatchRow& a, const MatchRow& b, int width, std::uint8_t* to) {
    HWY_DYNAMIC_DISPATCH(RowLevels)(a, b, width, to);
}
void row_costs(const RowCosts& row, std::uint8_t* to) {
    HWY_DYNAMIC_DISPATCH(RowCostsOf)(row, to);
}
void mean_within_reach(const ThreeRows& rows, std::uint8_t* to) {
    HWY_DYNAMIC_DISPATCH(MeanWithinReach)(rows, to);
}
void mean_kept(const ThreeRows& rows, std::uint8_t* to) {
    HWY_DYNAMIC_DISPATCH(MeanKept)(rows, to);
}
void add_row_forward(const RowOfWays& row) {
    HWY_DYNAMIC_DISPATCH(AddRowForward)(row);
}
void add_row_back(const RowOfWays& row, float* best) {
    HWY_DYNAMIC_DISPATCH(AddRowBack)(row, best);
}

} // namespace porb
#endif
