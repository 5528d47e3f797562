#pragma once

#include "optics/sphere_grid.h"
#include "picture/picture.h"
#include "stitch/plan/plan.h"
#include "stitch/source/tone.h"

#include <memory>
#include <span>

namespace porb {

/// The wide bands of multiband blending (Burt and Adelson 1983, "A multiresolution spline"). Detail passes
/// from one lens to its neighbour within the plan's feather; what is coarser is blended here, on an
/// octahedral grid over bands each twice as wide as the one before, and comes back as the light that each
/// lens's pixels lack. On the sphere itself, so that it knows neither poles nor an edge at 180 degrees, and
/// is the same for every view.
class LightBands {
  public:
    LightBands(const PlanKey& key, double widest_deg);
    ~LightBands();
    LightBands(LightBands&&) noexcept;

    /// Indices of the shot's cameras, in the plan's order, and how often their pictures are to be halved.
    const std::vector<BlendPlan::PlanCamera>& cameras() const;
    std::size_t bytes() const;
    /// By camera: what to add to its toned pixels (R, G, B, 0). `distances` as the plan's, or empty.
    std::vector<SphereGrid> find(std::span<const Picture> sources, std::span<const CameraTone> tones,
                                 const SphereGrid& distances) const;

  private:
    struct Impl;
    std::unique_ptr<Impl> impl_;
};

} // namespace porb
