#pragma once

#include "optics/sphere_grid.h"
#include "picture/picture.h"
#include "stitch/plan.h"
#include "stitch/strip.h"
#include "stitch/tone.h"

#include <span>

namespace porb {

/// What does not depend on the frame: which directions lie near seams, between which cameras, and the strips
/// that these pairs are compared on. A pure function of the key; its view,
/// orientation and shelters are of no account.
class SeamZones {
  public:
    explicit SeamZones(const PlanKey& key);
    ~SeamZones();
    SeamZones(SeamZones&&) noexcept;

    /// Distances of one frame, 1/m, by direction in rig axes. `sources` and `tones` are those of `cameras()`,
    /// at those levels. Where nothing is near a seam, and where nothing can be told, it is the agree
    /// distance.
    SphereGrid find(std::span<const Picture> sources, std::span<const CameraTone> tones) const;

    /// Indices of the shot's cameras, and how often their pictures are to be halved.
    const std::vector<BlendPlan::PlanCamera>& cameras() const;

  private:
    struct Impl;
    std::unique_ptr<Impl> impl_;
};

} // namespace porb
