#pragma once

#include "optics/sphere_grid.h"
#include "project/seams.h"
#include "stitch/plan/plan.h"

#include <functional>
#include <span>

namespace porb {

/// The cells beside a cell of an octahedral square of `side` cells, across its edges too: left, right, above,
/// below, then the diagonal ones (of the corners some are the same cell).
std::array<int, 8> cells_beside(int cell, int side);

/// Angles from the nearest cell of `begin` (all at 0) to every cell, along the cells, radians; those beyond
/// `most_rad` stay there. `through` says where a way may lead. Dijkstra 1959.
std::vector<float> angles_from(const std::vector<int>& begin, int side, float most_rad,
                               const std::function<bool(int)>& through);

/// Found seam lines at a moment, ready for many directions: by how many degrees each camera is ahead of the
/// line where another takes over (twice the way to it, as between two reaches); negative behind it.
class LineField {
  public:
    /// `cameras` are indices into the shot's cameras; leads come in their order.
    LineField(const SeamLines& lines, const LineState& state, std::span<const std::size_t> cameras);
    void leads_deg(const Vec3& rig_direction, std::span<float> out) const;
    /// Whether the line within so many degrees of a direction is on its way to another place.
    bool moves(const Vec3& rig_direction, double within_deg) const;
    static constexpr double kFar_deg = 40; ///< leads go no farther

  private:
    SphereGrid leads_, moving_;
};

/// How far the nearest line at any of the keys is, degrees, at most LineField::kFar_deg / 2, one value a cell
/// of kSide x kSide; and the two cameras that meet there (indices into the shot's cameras; -1: no line).
struct LinesEver {
    SphereGrid away_deg;
    std::vector<std::array<std::int16_t, 2>> who;
};
LinesEver lines_ever(const SeamLines& lines);

} // namespace porb
