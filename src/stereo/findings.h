#pragma once

#include "stereo/measure.h"

#include <string>

namespace porb {

/// Something about a shot's eyes that a viewer would suffer from, and what mends it.
struct EyeFinding {
    std::string what, mend;
    bool stops = false; ///< nothing stereo can be made
    std::optional<Seconds> time;
    std::optional<Vec3> direction; ///< world axes
};
/// What the shot's settings and rig alone say: eyes without cameras, a rig whose directions are seen by one
/// lens, an interpupillary distance beyond the rig, eyes on the wrong sides. Some 50 ms.
std::vector<EyeFinding> eye_findings(const Shot& shot);
/// What was measured says, worst first.
std::vector<EyeFinding> eye_findings(const Shot& shot, std::span<const EyeMoment> moments);

/// The places of all moments that a viewer would suffer from most, the worst first, at most `most` of them:
/// outside the comfort budget, one eye's higher than the other's, torn in one eye alone. Of one kind at most
/// four, 20 degrees apart, each at its worst moment. All have time and direction.
std::vector<EyeFinding> worst_places(const Shot& shot, std::span<const EyeMoment> moments,
                                     std::size_t most = 10);

} // namespace porb
