#pragma once

#include "optics/sphere_grid.h"
#include "picture/picture.h"
#include "stitch/plan/plan_lens.h"
#include "stitch/source/tone.h"

#include <span>

namespace porb {

/// Cameras looked through at the cells of an octahedral square, in the rig's axes: what each of them shows
/// there. For a plan's lenses whose key is not turned.
class SphereSampler {
  public:
    /// `flow`: whether places are to follow distances, down to its nearest.
    SphereSampler(const std::vector<PlanLens>& lenses, int side, double agree_inverse_m,
                  const FlowSettings& flow);

    /// In the order of the lenses; a cell is a pixel or more at these levels.
    const std::vector<BlendPlan::PlanCamera>& cameras() const { return cameras_; }
    /// By lens: toned R, G and B, each times how well the cell is seen, and that (0 to 1: it fades within a
    /// cell of the rim). All that the circle shows counts, past reach and cut-outs too. `distances` as the
    /// plan's, or empty.
    std::vector<SphereGrid> sample(std::span<const Picture> sources, std::span<const CameraTone> tones,
                                   const SphereGrid& distances) const;
    int side() const { return side_; }
    std::size_t bytes() const {
        return places_.size() * std::size_t(side_) * std::size_t(side_) * sizeof(Place);
    }

  private:
    /// A cell's place in one camera's picture, and how it moves with inverse distance.
    struct Place {
        float u = -1, v = -1, u1 = 0, u2 = 0, v1 = 0, v2 = 0, high = 0;
        float seen = 0;
    };
    Place place_of(const PlanLens& lens, int level, const Vec3& direction, const FlowSettings& flow) const;

    int side_;
    double agree_, cell_rad_;
    std::vector<BlendPlan::PlanCamera> cameras_;
    std::vector<std::vector<Place>> places_; ///< by lens and cell
};

} // namespace porb
