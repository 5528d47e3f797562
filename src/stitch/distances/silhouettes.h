#pragma once

#include "optics/sphere_grid.h"

#include <cstdint>
#include <span>
#include <vector>

namespace porb {

/// Where a field of distances steps: what stands near, what lies behind it, and how much of each a lens mixes
/// there into one pixel. Cells beside steps alone have an entry.
struct Silhouettes {
    struct Side {
        float inverse_m;
        std::uint64_t hidden; ///< as DistanceField::hidden
    };
    struct Cell {
        Side near, far;
        float share; ///< of the near side, 0 to 1
    };
    std::vector<std::int32_t>
        at; ///< by cell of the field, its border included: its entry, or -1; empty: no steps
    std::vector<Cell> cells;

    bool empty() const { return cells.empty(); }
    std::size_t bytes() const { return at.size() * sizeof(std::int32_t) + cells.size() * sizeof(Cell); }
    /// Whether one of the four cells from `cell` on (counted with the border, in a field of `side`) has an
    /// entry.
    bool touches(std::int32_t cell, int side) const {
        const std::int32_t* const p = at.data() + cell;
        const int row = side + 2;
        return (p[0] & p[1] & p[row] & p[row + 1]) >= 0; // all of them are -1, or one has no sign
    }
};

/// `hidden` and `known` are those of the field (occlusion.h). A step is softened over about `soft_cells`
/// cells, one at least: what a lens's pixel covers. Some 20 ms for a grid of 1152 cells a side.
Silhouettes silhouettes_of(const SphereGrid& field, std::span<const std::uint64_t> hidden,
                           std::span<const char> known, double soft_cells);

/// Blocks of cells of a field, its border included, beside which something ends or is hidden: elsewhere
/// neither its silhouettes nor what it hides need be looked at. A block counts what is read between its cells
/// and the next ones right of and below them.
struct OutlineBlocks {
    static constexpr int kShift = 2; ///< of a cell's place, to its block's
    static constexpr int blocks_along(int side) { return ((side + 1) >> kShift) + 1; }
    std::vector<std::uint8_t> beside; ///< row by row, blocks_along(side) each; empty: not known
    std::size_t bytes() const { return beside.size(); }
};
/// `hidden` and `silhouettes` are those of a field with `side` cells a side; either may be empty. Some 2 ms
/// for 1152 cells a side.
OutlineBlocks outline_blocks(int side, std::span<const std::uint64_t> hidden, const Silhouettes& silhouettes);

/// The two sides read between four cells, `fx` and `fy` past the middle of the first. Cells without an entry
/// lie on the side of those that have one.
struct SidesThere {
    float near_inverse_m, far_inverse_m, share;
};
SidesThere sides_between(const Silhouettes& silhouettes, const SphereGrid& field, std::int32_t cell, float fx,
                         float fy);

} // namespace porb
