#pragma once

#include "picture/picture.h"
#include "project/project.h"
#include "stitch/plan.h"
#include "stitch/strip.h"
#include "stitch/tone.h"

#include <span>

namespace porb {

/// How far away what is drawn is, by direction in rig axes: 1/m on an equirectangular grid, bilinear.
struct DistanceField {
    int width = 0, height = 0;
    std::vector<float> inverse_m;
    double at(const Vec3& rig_direction) const;
    bool empty() const { return inverse_m.empty(); }
};

/// The plan with places that follow the distances instead of the agree distance. Who supplies what, and with
/// what weight, stays: seams do not wander with what passes. `key` is what the plan was made from.
BlendPlan displaced(const BlendPlan& plan, const PlanKey& key, const DistanceField& distances);

/// What does not depend on the frame: which directions lie near seams, between which cameras, and the strips
/// that these pairs are compared on. A pure function of the shot's rig, reach and settings.
class SeamZones {
  public:
    SeamZones(const PlanKey& key, const FlowSettings& settings);
    ~SeamZones();
    SeamZones(SeamZones&&) noexcept;

    /// Distances of one frame. `sources` and `tones` are those of `cameras()`, at those levels. Where nothing
    /// is near a seam, and where nothing can be told, it is the agree distance.
    DistanceField find(std::span<const Picture> sources, std::span<const CameraTone> tones) const;

    /// Indices of the shot's cameras, and how often their pictures are to be halved.
    const std::vector<BlendPlan::PlanCamera>& cameras() const;

  private:
    struct Impl;
    std::unique_ptr<Impl> impl_;
};

} // namespace porb
