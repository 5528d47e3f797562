#pragma once

#include "picture/picture.h"
#include "stitch/plan.h"

#include <span>

namespace porb {

/// Follows rows [begin, end) of a plan: samples, weighs and adds the sources into `out`. `sources` are the
/// pictures of plan.cameras, reduced to their levels and at least 4 x 4 pixels. The widest instructions of
/// the machine are used.
void blend_rows(const BlendPlan& plan, std::span<const Picture> sources, Filter filter, int begin, int end,
                Picture& out);

/// The same, computed the slow obvious way in doubles; the reference of the kernel's tests.
void blend_rows_reference(const BlendPlan& plan, std::span<const Picture> sources, Filter filter, int begin,
                          int end, Picture& out);

} // namespace porb
