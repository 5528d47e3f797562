#pragma once

// Places about one of a strip, weighed by how alike their colours are, as wide as the machine's vectors; for
// unmatched_fill.cpp and edge_median.cpp alone.
#include <cstddef>
#include <cstdint>

namespace porb {

inline constexpr int kAlikeRoom = 32; ///< bytes and values that may be read past the last place

inline constexpr int kAlikeColumns = 8, kAlikeRows = 8; ///< of a block at most

struct AlikeColour {
    std::uint8_t r, g, b;
};

/// Places in a row, by column of a table. `bin`: which of the values that are told apart a place has.
struct AlikePlaces {
    const std::uint8_t *r, *g, *b;
    const std::int16_t *column, *bin;
};
/// Those of one row about a place: from `first` to `end`, and what they count by columns to either side.
struct AlikeRow {
    int first, end;
    const float* near;
};
/// Adds to each bin's weight what its places count: near[columns away] alike[levels], where levels (grey
/// levels of the channel that differs most) come to `most_levels` at most. Returns the sum.
float weigh_alike(const AlikePlaces& places, const AlikeRow* rows, int row_count, AlikeColour own, int column,
                  const float* alike, int most_levels, float* weights);

/// A block of places, with `stride` from one row to the next and room to read kAlikeColumns of each.
struct AlikeBlock {
    const std::uint8_t *r, *g, *b;
    const float *value, *weight;
    std::ptrdiff_t stride;
    int columns, rows; ///< at most kAlikeColumns and kAlikeRows
};
/// The least bin at which half of all weight lies, of `bins` from `least` on, `per_unit` of them for a value
/// of one. Each place counts weight alike[levels].
int median_bin(const AlikeBlock& block, AlikeColour own, const float* alike, float least, float per_unit,
               int bins);

} // namespace porb
