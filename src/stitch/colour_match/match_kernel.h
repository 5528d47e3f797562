#pragma once

// The loops of semi-global matching, as wide as the machine's vectors; for semi_global.cpp alone.
#include <cstddef>
#include <cstdint>

namespace porb {

using MatchCost = std::uint16_t;

inline constexpr MatchCost kOutOfReach = 0x4000; ///< more than any sum along a way
inline constexpr int kMatchLanes = 16;           ///< parallaxes are a multiple of it
inline constexpr int kMatchRoom = 32; ///< bytes past the end that may be read, or written, along with a row
/// Between one place's costs along a way and the next, half before and half behind: kOutOfReach stands there.
inline constexpr int kMatchPad = 16;
inline constexpr int kSumUnit = 4;    ///< of sums that are kept; 255 of them, over what is least, say it all
inline constexpr int kHeldPlaces = 8; ///< a side, about which coarse parallax counts

/// A row of places: colours, and whether 24 others about each are brighter (census), a bit each.
struct MatchRow {
    const std::uint8_t *r, *g, *b;
    const std::uint8_t* order[3];
};
/// One more bit of each place's order: whether it is darker than `other`.
void add_order(const std::uint8_t* own, const std::uint8_t* other, int width, std::uint8_t* bits);
/// Grey levels between two rows, of the channel that differs most.
void row_levels(const MatchRow& a, const MatchRow& b, int width, std::uint8_t* to);

/// How many parallaxes are looked at about a place, by blocks of kHeldPlaces columns: each a multiple of
/// kMatchLanes, and 0 where nothing is looked for. `reach` is the most of those and their neighbours', which
/// lie within a block to every side. What is kept of a row is as long as that takes: `offset` is where a
/// block's first place begins.
struct RowCounts {
    const std::uint16_t *own, *reach;
    const std::uint32_t* offset;
    std::ptrdiff_t at(int x) const {
        const int block = x / kHeldPlaces;
        return std::ptrdiff_t(offset[block]) + x % kHeldPlaces * own[block];
    }
};

/// What each of `width` places costs: the k-th of place x is compared with other[step x + k], where `step` is
/// 1 or -1. As many as within reach, `stride` from one place to the next.
struct RowCosts {
    MatchRow own, other;
    int width, stride, step;
    RowCounts counts;
    int most_apart; ///< grey levels: more says no more
};
void row_costs(const RowCosts& row, std::uint8_t* to);

/// (before + own + after) / 3 of rows of costs, or of the same row's places. Nothing exceeds 127.
struct ThreeRows {
    const std::uint8_t *before, *own, *after;
    int width, stride;
    RowCounts counts;
};
/// Within reach, `stride` from one place to the next; `to` may be none of the three.
void mean_within_reach(const ThreeRows& rows, std::uint8_t* to);
/// As much as is kept, where it is kept.
void mean_kept(const ThreeRows& rows, std::uint8_t* to);

/// What the places of a row cost along three ways from the row before: way w's costs of place x begin at
/// values[w] + (x + 1) (stride + kMatchPad) + kMatchPad / 2; least[4 (x + 1) + w] is the least of them. There
/// is a place of room at each end.
struct WayRows {
    MatchCost* values[3];
    MatchCost* least;
};
/// A row of all places along four ways: from the places before, above and after in the row that came before
/// (0 to 2) and along the row (3).
struct RowOfWays {
    int begin, end; ///< columns that are looked at
    int stride;     ///< from one place's costs to the next
    RowCounts counts;
    const std::uint8_t* costs; ///< kept, by place and parallax
    const std::uint8_t* held;  ///< added to them, by block and `stride` parallaxes
    std::uint8_t* sums;        ///< kept: how much more than the least sum, in kSumUnit
    WayRows before, own;
    MatchCost *along[2], *all; ///< room for one place each, in `along` with kMatchLanes before and behind
    const MatchCost* step_costs[4]; ///< of a change of more than one column, by way and place
    MatchCost little;               ///< what a change of one column costs
};
/// Forward along the row; tells the sums of four ways.
void add_row_forward(const RowOfWays& row);
/// Backward along it; with the sums of the other four ways tells each place's parallax of the least, between
/// parallaxes by a parabola.
void add_row_back(const RowOfWays& row, float* best);

} // namespace porb
