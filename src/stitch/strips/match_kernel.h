#pragma once

// The loops of semi-global matching, as wide as the machine's vectors; for semi_global.cpp alone.
#include <cstddef>
#include <cstdint>

namespace porb {

using MatchCost = std::uint16_t;

/// What a place of b costs at `count` parallaxes: a's colours and orders (census) run backwards from the
/// place that belongs to the first.
struct PlaceCosts {
    const std::uint8_t *r, *g, *b;
    const std::uint32_t* order;
    std::uint8_t own_r, own_g, own_b;
    std::uint32_t own_order;
    int most_apart; ///< grey levels: more says no more
    int count;
};
void place_costs(const PlaceCosts& place, std::uint8_t* to);

/// to = (before + own + after) / 3; `to` may be none of them. Nothing exceeds 255.
void mean_of_three(const std::uint8_t* before, const std::uint8_t* own, const std::uint8_t* after,
                   std::size_t count, std::uint8_t* to);

/// What the places of a row cost along one way, with one place and one parallax of room at each end: place x
/// begins at values + (x + 1) (count + 2) + 1, the least of it is least[x + 1].
struct WayRow {
    MatchCost *values, *least;
};
/// One row of all places along four ways: along the row (forward, or backward from its end) and from the
/// places before, above and after in the row that came before. `step_costs` by way and place.
struct RowOfWays {
    int width, count;
    bool forward;
    const std::uint8_t* costs; ///< by place and parallax
    MatchCost* sums;           ///< likewise: what is found is added
    WayRow along, before[3], own[3];
    const MatchCost* step_costs[4];
    MatchCost little; ///< what a change of one column costs
};
void add_row(const RowOfWays& row);

/// The parallax of a place that costs least; the first of several.
int best_parallax(const MatchCost* sums, int count);

} // namespace porb
