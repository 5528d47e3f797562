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

    /// What was matched at one moment; for field() alone.
    struct Glimpse;
    using GlimpsePtr = std::shared_ptr<const Glimpse>;
    /// Matches one moment. `sources` and `tones` are those of `cameras()`, at those levels.
    GlimpsePtr glimpse(std::span<const Picture> sources, std::span<const CameraTone> tones) const;
    /// Distances of the first of these moments, 1/m by direction in rig axes; the others are the moments just
    /// before it, latest first, at most kMoments in all. Where nothing moved over them, what they say is
    /// brought together, so that distances stand still where the picture does. Where nothing is near a seam,
    /// and where nothing can be told, it is the agree distance: the seam's own near it if it has one.
    SphereGrid field(std::span<const GlimpsePtr> glimpses, double strength = 1) const;
    /// How far what was found is trusted in that field, 0 to 1, by direction; below 0 where no seam is near.
    SphereGrid confidence(std::span<const GlimpsePtr> glimpses) const;
    static constexpr std::size_t kMoments = 5;

    /// Indices of the shot's cameras, and how often their pictures are to be halved.
    const std::vector<BlendPlan::PlanCamera>& cameras() const;

  private:
    struct Impl;
    struct Told;
    std::vector<Told> told(std::span<const GlimpsePtr> glimpses) const;
    std::unique_ptr<Impl> impl_;
};

} // namespace porb
