#include "stitch/strips/match_kernel.h"

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "stitch/strips/match_kernel.cpp"
#include <hwy/foreach_target.h>
// must come after foreach_target.h
#include <hwy/highway.h>

// Plain loops, which the compiler makes vectors of for each kind of processor. Nothing of the standard
// library is used in them, since what it would be compiled to here must not be taken for other files.
HWY_BEFORE_NAMESPACE();
namespace porb::HWY_NAMESPACE {

inline int Levels(std::uint8_t a, std::uint8_t b) {
    return a > b ? a - b : b - a;
}

void PlaceCostsOf(const PlaceCosts& place, std::uint8_t* HWY_RESTRICT to) {
    const std::uint8_t *HWY_RESTRICT r = place.r, *HWY_RESTRICT g = place.g, *HWY_RESTRICT b = place.b;
    const std::uint32_t* HWY_RESTRICT order = place.order;
    const std::uint8_t pr = place.own_r, pg = place.own_g, pb = place.own_b;
    const std::uint32_t mine = place.own_order;
    const int most = place.most_apart;
    for (int k = 0; k < place.count; ++k) to[k] = std::uint8_t(__builtin_popcount(order[k] ^ mine));
    for (int k = 0; k < place.count; ++k) {
        const int half = (Levels(r[k], pr) + Levels(g[k], pg) + Levels(b[k], pb)) / 2;
        const int apart = half < most ? half : most;
        to[k] = std::uint8_t(to[k] + apart + apart / 2);
    }
}

void MeanOfThree(const std::uint8_t* before, const std::uint8_t* own, const std::uint8_t* after,
                 std::size_t count, std::uint8_t* HWY_RESTRICT to) {
    for (std::size_t i = 0; i < count; ++i) to[i] = std::uint8_t((before[i] + own[i] + after[i]) * 171 >> 9);
}

inline MatchCost Less(MatchCost a, MatchCost b) {
    return a < b ? a : b;
}

/// One place of one way, coming from the place with `before`, whose least is `least`. Returns the least of
/// it.
inline MatchCost Step(const std::uint8_t* HWY_RESTRICT cost, const MatchCost* HWY_RESTRICT before,
                      MatchCost least, MatchCost little, MatchCost much, MatchCost* HWY_RESTRICT own,
                      MatchCost* HWY_RESTRICT sum, int count) {
    const auto most = MatchCost(least + much);
    MatchCost best = 0xffff;
    for (int k = 0; k < count; ++k) {
        const auto beside = MatchCost(Less(before[k - 1], before[k + 1]) + little);
        const MatchCost from = Less(Less(before[k], beside), most);
        const auto value = MatchCost(MatchCost(from - least) + cost[k]);
        own[k] = value;
        sum[k] = MatchCost(sum[k] + value);
        best = Less(best, value);
    }
    return best;
}

void AddRow(const RowOfWays& row) {
    const int count = row.count;
    const std::ptrdiff_t stride = count + 2;
    const auto at = [&](const WayRow& way, int x) { return way.values + (x + 1) * stride + 1; };
    for (int i = 0; i < row.width; ++i) {
        const int x = row.forward ? i : row.width - 1 - i, from = row.forward ? x - 1 : x + 1;
        const std::uint8_t* const cost = row.costs + std::ptrdiff_t(x) * count;
        MatchCost* const sum = row.sums + std::ptrdiff_t(x) * count;
        const WayRow& along = row.along;
        along.least[x + 1] = Step(cost, at(along, from), along.least[from + 1], row.little,
                                  row.step_costs[3][x], at(along, x), sum, count);
        for (int way = 0; way < 3; ++way) {
            const int there = x + way - 1;
            row.own[way].least[x + 1] =
                Step(cost, at(row.before[way], there), row.before[way].least[there + 1], row.little,
                     row.step_costs[way][x], at(row.own[way], x), sum, count);
        }
    }
}

int BestParallaxOf(const MatchCost* sums, int count) {
    MatchCost least = 0xffff;
    for (int k = 0; k < count; ++k) least = Less(least, sums[k]);
    int k = 0;
    while (sums[k] != least) ++k;
    return k;
}

} // namespace porb::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace porb {

HWY_EXPORT(PlaceCostsOf);
HWY_EXPORT(MeanOfThree);
HWY_EXPORT(AddRow);
HWY_EXPORT(BestParallaxOf);

void place_costs(const PlaceCosts& place, std::uint8_t* to) {
    HWY_DYNAMIC_DISPATCH(PlaceCostsOf)(place, to);
}
void mean_of_three(const std::uint8_t* before, const std::uint8_t* own, const std::uint8_t* after,
                   std::size_t count, std::uint8_t* to) {
    HWY_DYNAMIC_DISPATCH(MeanOfThree)(before, own, after, count, to);
}
void add_row(const RowOfWays& row) {
    HWY_DYNAMIC_DISPATCH(AddRow)(row);
}
int best_parallax(const MatchCost* sums, int count) {
    return HWY_DYNAMIC_DISPATCH(BestParallaxOf)(sums, count);
}

} // namespace porb
#endif
