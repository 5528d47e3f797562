#pragma once

// Distances near seams over time; for the files of distances alone.
#include "stitch/strip_match.h"

#include <span>

namespace porb {

/// A strip's two pictures at a moment, 8-bit, and what was matched on it.
struct StripMoment {
    cv::Mat a, b;
    StripMatch match;
};
struct WeighedMoment {
    const StripMoment* moment = nullptr;
    float weight = 1;
};

/// What the moments say together of the last of them: where both pictures stood still between another and it,
/// that one counts too, the less the further it is from what they say on the whole. Where everything
/// changed the last counts alone.
StripMatch steadied(std::span<const WeighedMoment> moments);

} // namespace porb
