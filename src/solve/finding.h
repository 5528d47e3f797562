#pragma once

// Looking for points at the samples of a shot; for the files of solving alone.
#include "solve/calibrate.h"
#include "solve/pictures/matching.h"
#include "solve/pictures/samples.h"

namespace porb {

/// Throws Error that names a camera whose picture is black, or one tone, at all these moments, or not there
/// at all.
void refuse_black(const std::vector<Moment>& moments, const Rig& rig, const std::vector<bool>& in_use);
/// Throws Error that names a camera in use that overlaps no other.
void refuse_unlinked(const Rig& rig, const std::vector<bool>& in_use, const std::vector<Overlap>& pairs);

/// Points of one moment between all overlapping pairs, looked for with `rig`, added to `out` without numbers.
void match_moment(const Shot& shot, const Rig& rig, const Moment& moment, const std::vector<Overlap>& pairs,
                  const MatchOptions& options, bool swap_sides, ControlPoints& out, const Cancel& cancel);

/// Points at all these moments, looked for with `rig`, without numbers; those that move are left out already.
struct Found {
    ControlPoints points;
    std::vector<std::string> remarks;
};
Found find_at_samples(const Project& project, const Shot& shot, const Rig& rig,
                      const std::vector<Seconds>& times, MediaLibrary& library, const SolveOptions& options,
                      double margin_deg, const std::function<void(double)>& progress, const Cancel& cancel);

/// Gives found points numbers from the shot's next free one on, and adds the shot's own that were set by
/// hand.
ControlPoints with_those_by_hand(ControlPoints found, const Shot& shot);

} // namespace porb
