#pragma once

#include "optics/sphere_grid.h"
#include "picture/yuv_picture.h"
#include "stitch/distances/silhouettes.h"
#include "stitch/plan/plan.h"
#include "stitch/source/tone.h"

#include <cstdint>
#include <span>

namespace porb {

/// What a frame adds to a plan.
struct FrameParts {
    std::span<const SourcePicture> sources; ///< of plan.cameras, reduced to their levels, 4 x 4 pixels at
                                            ///< least; empty of those not shown
    std::span<const CameraTone> tones;      ///< of the same; empty: pictures as they are
    /// 1/m by direction in rig axes, one channel: contributions with a parallax follow it. Or none.
    const SphereGrid* distances = nullptr;
    /// By camera, four channels (R, G, B, 0), added to its toned pixels: what brings neighbours' brightness
    /// and colour together. Empty: nothing is added.
    std::span<const SphereGrid> lights;
    Filter filter = Filter::cubic;
    /// By cell of `distances` (DistanceField::hidden): cameras of the shot that do not see what is there.
    /// Empty: all do.
    std::span<const std::uint64_t> hidden{};
    /// Of `distances`: there both sides are drawn and mixed. Or none.
    const Silhouettes* silhouettes = nullptr;
    /// Of both: what lies in other blocks is not asked for either. Or none.
    const OutlineBlocks* outlines = nullptr;
};

/// Follows rows [begin, end) of a plan: samples, tones, weighs and adds the sources into `out`. The widest
/// instructions of the machine are used.
void blend_rows(const BlendPlan& plan, const FrameParts& frame, int begin, int end, Picture& out);

/// The same into rows of floats, the first of them for `begin`; how much of a pixel is seen is left out, as
/// files do that show nothing as black.
void blend_rows(const BlendPlan& plan, const FrameParts& frame, int begin, int end, const FloatRows& out);

/// The same, computed the slow obvious way in doubles, tones through the exact curve; the reference of the
/// kernel's tests. `falloffs` are those the tones were made from.
void blend_rows_reference(const BlendPlan& plan, const FrameParts& frame,
                          std::span<const std::array<double, 2>> falloffs, int begin, int end, Picture& out);

} // namespace porb
