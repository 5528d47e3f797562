#pragma once

#include "base/progress.h"
#include "optics/target.h"
#include "stitch/compose.h"

namespace porb {

/// Edges of a picture that none of its sources shows there: where distances step though what is seen does
/// not, a figure is cut into shreds, each shred's border being such an edge.
struct Tears {
    double torn_px = 0, edges_px = 0; ///< length of torn edges, and of all, pixels of a picture 3840 wide
    int width = 0, height = 0;        ///< of the picture that was looked at
    std::vector<std::uint8_t> torn;   ///< by pixel, row by row: 255 where an edge is torn
};

/// What a made-up shot is judged by; for tables.
struct TearsTruth {
    const Picture* picture = nullptr;               ///< the same view as it should be
    std::shared_ptr<const DistanceField> distances; ///< drawn by these instead of what is found
};

/// Looks at `view` of the shot at a moment as it is now. An edge (Canny 1986) is a source's when one of the
/// cameras that see the place has one of at least half its strength and about its direction where it would
/// see it from: at a distance that the field holds within two pixels of it, a pixel to and fro. So the
/// outline of a near thing, whose near side is where a camera shows an edge, is no tear, and what comes whole
/// from one camera at even distances has none. In an eye's view, along its rays. Runs of under five pixels
/// are noise. What the picture of a `truth` shows is no tear either, as where what one camera alone sees
/// meets what a near thing hides from it. Costs a picture of the view and one of each camera that sees any of
/// it. Throws Error as compose() does, and Cancelled.
Tears tears_in(const Project& project, const Shot& shot, Composer& composer, Seconds time, const View& view,
               const Cancel& cancel, const TearsTruth& truth = {});

/// How long an edge through that pixel of a target is, in pixels of a picture 3840 wide: in a map of the
/// whole sphere what lies above and below is drawn much larger than a viewer sees it.
double edge_length_px(const TargetMap& map, int x, int y);

/// What of them lies in the oval or within `around_deg` of it, in pixels of a picture 3840 wide. `view` is
/// view_about() of it.
double torn_px_in(const Tears& tears, const View& view, const ShelterKey& oval, double around_deg);

/// A view of a part of the sphere, in the shot's own axes, about as dense as a picture 3840 wide, with
/// `around_deg` about the oval.
View view_about(const ShelterKey& oval, double around_deg);

} // namespace porb
