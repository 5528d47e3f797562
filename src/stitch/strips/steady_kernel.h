#pragma once

// What moments of a strip differ by and say together, as wide as the machine's vectors; for steadying.cpp
// alone.
#include <cstddef>
#include <cstdint>
#include <span>

namespace porb {

/// One row of a strip at one moment.
struct SteadyMoment {
    const std::int16_t* parallax;
    const std::uint8_t *correlation, *same; ///< 255 for 1
    const float* weight;
};

struct SteadyRow {
    std::span<const SteadyMoment> moments; ///< kMostSteady at most
    int columns;
    float parallax_unit;            ///< columns
    float odd;                      ///< columns by which one that counts half is off
    int rounds;                     ///< in which weights are found again
    bool median;                    ///< begun there instead of at the mean
    float *to, *alike_to, *same_to; ///< parallax in columns, correlation and sameness, 0 to 1
};
inline constexpr std::size_t kMostSteady = 64;

/// The mean that outliers hardly count in (iteratively reweighted, Cauchy's weights; Holland and Welsch
/// 1977) of the moments' parallax, begun at their mean, or where parallax steps at their median: a mean of
/// near and far is neither. And the means of correlation and sameness.
void bring_together(const SteadyRow& row);

inline constexpr int kStillBlock = 5, kStillRoom = 64;
/// What five rows differ by, over five columns: the mean, rounded. Columns of rows begin two before the first
/// and are readable for kStillRoom past the last; so are `sums`, which are worked in, and `to`.
struct StillRows {
    const std::uint8_t* rows[kStillBlock];
    int columns;
    std::uint16_t* sums;
    std::uint8_t* to;
};
void mean_of_block(const StillRows& rows);

} // namespace porb
