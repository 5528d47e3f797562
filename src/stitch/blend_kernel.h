#pragma once

#include "picture/picture.h"
#include "stitch/plan.h"
#include "stitch/tone.h"

#include <span>

namespace porb {

/// Follows rows [begin, end) of a plan: samples, tones, weighs and adds the sources into `out`. `sources` are
/// the pictures of plan.cameras, reduced to their levels and at least 4 x 4 pixels; `tones` are those
/// cameras' tones, or empty for pictures as they are. The widest instructions of the machine are used.
void blend_rows(const BlendPlan& plan, std::span<const Picture> sources, std::span<const CameraTone> tones,
                Filter filter, int begin, int end, Picture& out);

/// The same, computed the slow obvious way in doubles, tones through the exact curve; the reference of the
/// kernel's tests. `falloffs` are those the tones were made from.
void blend_rows_reference(const BlendPlan& plan, std::span<const Picture> sources,
                          std::span<const CameraTone> tones, std::span<const std::array<double, 2>> falloffs,
                          Filter filter, int begin, int end, Picture& out);

} // namespace porb
