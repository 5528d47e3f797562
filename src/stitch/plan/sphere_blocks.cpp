#include "stitch/plan/sphere_blocks.h"

#include "base/angle.h"
#include "optics/target.h"
#include "stitch/plan/plan_lens.h"

#include <algorithm>
#include <cmath>

namespace porb {

namespace {
constexpr double kApart = 0.6; ///< of a block's width, between directions that are looked at
constexpr int kMostAcross = 512;
} // namespace

SphereBlocks blocks_shown(const PlanKey& key) {
    const TargetMap map(key.view.target);
    const Region region = whole_region(key.view);
    const Mat3 to_rig = rotation_of(key.orientation).transpose();
    const double apart_px = kApart * (kPi / 2 / SphereBlocks::kSide) / map.pixel_angle();
    const auto steps = [&](int pixels) {
        return std::clamp(int(std::ceil(pixels / apart_px)), 1, kMostAcross);
    };
    SphereBlocks shown;
    const int across = steps(region.width), down = steps(region.height);
    for (int j = 0; j <= down; ++j)
        for (int i = 0; i <= across; ++i)
            if (const auto d = map.direction({region.x + double(region.width) * i / across,
                                              region.y + double(region.height) * j / down}))
                shown.in.set(std::size_t(octahedral_cell(to_rig * *d, SphereBlocks::kSide)));
    SphereGrid grid(SphereBlocks::kSide, 1);
    for (int y = 0; y < grid.side; ++y)
        for (int x = 0; x < grid.side; ++x) *grid.cell(x, y) = shown.has_cell(x, y, grid.side) ? 1.0f : 0.0f;
    grid.close_edges();
    SphereBlocks out;
    for (int y = 0; y < grid.side; ++y)
        for (int x = 0; x < grid.side; ++x)
            for (int j = -1; j <= 1; ++j)
                for (int i = -1; i <= 1; ++i)
                    if (*grid.cell(x + i, y + j) > 0)
                        out.in.set(std::size_t(y) * SphereBlocks::kSide + std::size_t(x));
    return out;
}

} // namespace porb
