#pragma once

#include "optics/sphere_grid.h"
#include "stitch/plan/plan_key.h"

#include <bitset>

namespace porb {

/// Parts of the sphere in rig axes: blocks of an octahedral square, of five degrees or so.
struct SphereBlocks {
    static constexpr int kSide = 36;
    std::bitset<std::size_t(kSide) * kSide> in;

    bool has(const Vec3& direction) const { return in[std::size_t(octahedral_cell(direction, kSide))]; }
    /// Of a cell of a square of side x side, which is a multiple of kSide.
    bool has_cell(int x, int y, int side) const {
        return in[std::size_t(y * kSide / side) * kSide + std::size_t(x * kSide / side)];
    }
    bool all() const { return in.all(); }
    bool operator==(const SphereBlocks&) const = default;
};

/// What a view shows, and a block more all round: things that stand near are matched and looked up a little
/// beside where they are seen.
SphereBlocks blocks_shown(const PlanKey& key);

} // namespace porb
