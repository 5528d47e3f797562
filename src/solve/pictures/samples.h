// solve: from what several lenses see alike to a rig that is right: sample moments, matched points, bundle
// adjustment, levelling, and the figures that say how good it is. Third-party solvers stay behind these
// headers.
#pragma once

#include "base/progress.h"
#include "media/library.h"
#include "project/project.h"
#include "solve/pictures/grey.h"

#include <map>

namespace porb {

/// The moments at which points are looked for: those set by hand, or spread evenly over the used part with
/// its first and last frame, or (SamplePick::best) those two and between them the moments whose pictures are
/// sharpest, richest and stillest. In order of time, each once. Throws Error when the shot has no sources.
std::vector<Seconds> sample_times(const Project& project, const Shot& shot, MediaLibrary& library,
                                  const Cancel& cancel);

/// What all cameras of a shot see at one moment; cameras that share a picture share its pyramid.
struct Moment {
    Seconds time{0};
    std::vector<std::shared_ptr<const GreyPyramid>> seen; ///< by the rig's cameras; null: no picture there
};
/// Reads a moment. `level` halves the pictures first. Throws Error when a source cannot be read or does not
/// fit its lens.
Moment read_moment(const Project& project, const Shot& shot, Seconds time, MediaLibrary& library,
                   int level = 0);

/// Eyepieces for the cameras of a moment that have pictures, by camera; the rig may differ from the shot's.
std::vector<std::optional<Eyepiece>> eyepieces(const Rig& rig, const Moment& moment);

/// Which pairs of cameras see enough of the same directions to be matched, with the share of the sphere they
/// share.
struct Overlap {
    std::size_t a, b;
    double share;
};
std::vector<Overlap> overlapping_pairs(const Rig& rig, const std::vector<bool>& in_use);

} // namespace porb
