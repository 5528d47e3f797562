#pragma once

// Edges that are straight in the world, found in single pictures: they say what a lens does far from any
// overlap.
#include "solve/pictures/samples.h"

namespace porb {

/// A piece of an edge between two directions in a camera's own axes, straight as far as the present lens can
/// say.
struct EdgeSegment {
    Vec3 a, b;
    double length_rad() const { return std::acos(std::clamp(a.dot(b), -1.0, 1.0)); }
};

/// Edges of one camera's picture that are at least `least_deg` long, found on flat views cut from it (line
/// segment detector, Grompone von Gioi et al. 2010). The image circle's own rim is left out.
std::vector<EdgeSegment> edge_segments(const Eyepiece& eye, double least_deg, const Cancel& cancel);

/// Long edges of each camera at a moment, followed on the pictures themselves to a fraction of a pixel:
/// marked straight and found, each with places evenly along it, longest first. Those whose bend no lens error
/// explains are left out (arches, rims of round things); what bends a little is for the solve to decide.
/// Numbers begin at `first_id`.
std::vector<LineMark> find_straight_edges(const Rig& rig, const Moment& moment, int first_id,
                                          const Cancel& cancel);

/// By how many pixels the places of a line miss the great circle that fits them best under a lens, root mean
/// square.
double bend_px(const Lens& lens, std::span<const Vec2> places_px);

} // namespace porb
