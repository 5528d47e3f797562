#pragma once

#include "optics/sphere_grid.h"
#include "picture/yuv_picture.h"
#include "stitch/distances/areas.h"
#include "stitch/distances/occlusion.h"
#include "stitch/distances/support_frames.h"
#include "stitch/plan/plan.h"
#include "stitch/plan/sphere_blocks.h"
#include "stitch/source/tone.h"

#include <optional>
#include <span>

namespace porb {

struct StripMatch;

/// What does not depend on the frame: which directions lie near seams, between which cameras, and the strips
/// that these pairs are compared on. A pure function of the key; its view,
/// orientation and shelters are of no account, nor how strongly seams are closed, where they agree or how
/// smoothly.
class SeamZones {
  public:
    explicit SeamZones(const PlanKey& key);
    ~SeamZones();
    SeamZones(SeamZones&&) noexcept;

    /// What was matched at one moment; for field() and confidence() alone.
    struct MatchedMoment;
    using MatchedMomentPtr = std::shared_ptr<const MatchedMoment>;
    static std::size_t bytes_of(const MatchedMoment& matched);
    /// Which pairs of cameras are matched, in their order; empty: all. Where the others are asked nothing is
    /// found.
    using Pairs = std::vector<bool>;
    /// Those that something of these parts of the sphere lies between.
    Pairs pairs_in(const SphereBlocks& blocks) const;
    /// Which of `cameras()` these pairs look through.
    std::vector<bool> cameras_of(const Pairs& pairs) const;
    /// Matches one moment. `sources` and `tones` are those of `cameras()`, at those levels; what no pair
    /// looks through may be empty. `flow` says how smooth surfaces of each seam are then (as flow_at() does).
    /// `before`: a moment that was matched whole, by as smooth surfaces; where fine edges are on, what did
    /// not change since is taken from it.
    MatchedMomentPtr match_moment(std::span<const SourcePicture> sources, std::span<const CameraTone> tones,
                                  const FlowSettings& flow, const Pairs& pairs = {},
                                  const MatchedMoment* before = nullptr) const;
    /// A moment and how much it counts.
    struct Weighed {
        MatchedMomentPtr matched;
        float weight = 1;
    };
    /// Distances of the last of these moments, 1/m by direction in rig axes, and in a second channel, 0 to 1,
    /// how far both pictures show the same there, drawn so; see support_frames_of() for the others. Where
    /// nothing moved over them, what they say is brought together, so that distances stand still where the
    /// picture does. Where nothing is near a seam, and where nothing can be told, it is the agree distance:
    /// the seam's own near it if it has one. `flow`, as flow_at() has it for that moment, says how strongly
    /// each seam is closed, how wide its zone is (no wider than the key's) and where it agrees. In `areas`
    /// distances are what these say.
    SphereGrid field(std::span<const Weighed> moments, const FlowSettings& flow,
                     std::span<const DistanceArea> areas = {}) const;
    /// How far what was found is trusted in that field, 0 to 1, by direction; below 0 where no seam is near.
    SphereGrid confidence(std::span<const Weighed> moments, const FlowSettings& flow) const;

    /// The same with cells half as large, where the key asks for edges: from what each camera of a pair sees,
    /// not one of them alone, so that distances step where things end, on either side of them; and which
    /// cameras see what it tells.
    DistanceField fine(std::span<const Weighed> moments, const FlowSettings& flow,
                       std::span<const DistanceArea> areas = {}) const;

    /// What field() or fine() told from the centre, as an eye sees it that stands elsewhere; in those parts
    /// of the sphere, or in all.
    DistanceField seen_by(const DistanceField& from_centre, const RigEyeRays& eye,
                          const std::optional<SphereBlocks>& blocks = {}) const;

    std::size_t bytes() const;

    /// Indices of the shot's cameras, and how often their pictures are to be halved.
    const std::vector<BlendPlan::PlanCamera>& cameras() const;

  private:
    struct Impl;
    std::vector<StripMatch> told(std::span<const Weighed> moments) const;
    struct Drawn;
    Drawn drawn(const std::vector<StripMatch>& told_by, const FlowSettings& flow, bool with_parts) const;
    std::unique_ptr<Impl> impl_;
};

} // namespace porb
