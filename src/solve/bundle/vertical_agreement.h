#pragma once

#include "solve/bundle/point_fit.h"

#include <optional>
#include <vector>

namespace porb {

/// What a pair's two lenses were bent by so that things lie where parallax may move them. Pixels of a half
/// sphere 2048 a side.
struct VerticalAgreement {
    double before_px = 0, after_px = 0; ///< mean of what is off the plane through both pupils
    double size_px = 0;                 ///< the most that one eye's picture moves
    double bends_px = 0;                ///< the most that a straight line over 40 degrees bends by it
    int terms = 0;                      ///< of the lens model that were needed
};

/// By how far each observation's two rays part across the plane through both pupils, signed, radians, of a
/// pair that serves an eye each (is_half_sphere_pair()). Nothing where a lens does not see its place.
std::vector<std::optional<double>> vertical_misses(const Rig& rig, std::span<const Observation> observations);

/// What turning alone leaves of vertical disparity in a solved pair is taken out by the gentlest smooth
/// change of both lenses, by half each and in opposite directions: of the terms of NonRadial that move a
/// picture up and down as few as needed, one after the other while they take off a tenth of what is off in
/// observations that they were not fitted to (every second one), with the pair's turns free and large terms
/// held back. Changes `rig` and says by how much; does nothing where less than 0.1 px is off, where nothing
/// helps, or where there are under 60 observations. Some tenths of a second.
std::optional<VerticalAgreement> agree_vertically(Rig& rig, std::span<const Observation> observations);

} // namespace porb
