#pragma once

#include "base/progress.h"
#include "media/library.h"
#include "media/motion.h"
#include "project/project.h"

namespace porb {

/// A drawn or found line in the rig's directions: the normal of the plane through the rig's centre that holds
/// it.
struct LineSense {
    LineKind kind = LineKind::vertical;
    Vec3 normal;
    double weight = 1; ///< its length in radians
};

/// Which way is up in the rig's directions, and how well the lines agree on it.
struct Upright {
    Vec3 up{0, -1, 0};
    double error_deg = 0;             ///< root mean square by which the lines that agree miss it
    double sure_deg = 0;              ///< standard deviation of the result
    std::vector<double> residual_deg; ///< of each line given, in order
    std::vector<bool> agrees;
};

/// Up from lines: vertical ones hold it in their planes; each two level ones that run side by side give a
/// level direction (the cross product of their normals), which is at right angles to it. Robust: every two
/// constraints are tried, those that agree within a few degrees count by their weight, and all that agree are
/// fitted by least squares (the smallest eigenvector). `near` is the present up: of the two ends of the axis
/// the nearer is taken. Throws Error when fewer than three lines (or two vertical ones) are given or they do
/// not fix it.
Upright upright_from_lines(std::span<const LineSense> lines, const Vec3& near);

/// The senses of a shot's drawn lines under its rig (straight ones are left out).
std::vector<LineSense> line_senses(const Shot& shot);

/// What upright edges of the pictures say.
struct FoundUpright {
    std::vector<LineMark> lines; ///< those that agree, marked vertical and found, each at its moment
    Upright upright;             ///< at the first of the moments asked for
    bool turned_over = false;    ///< the rig hangs: its present up is the other end
    bool end_told = false;       ///< by a sky; otherwise the end nearer to the present up was taken
};
/// Long straight edges at some moments, found on flat views cut from each lens, and the axis within 40
/// degrees of the present up (either end of it) that most of them run along, by length. Edges of everything
/// else are taken for what they are: they agree on no axis there. Which end of the axis is up is told by
/// the sky (plainly brighter and far less busy than the other end), where there is one; else it is the end
/// nearer to the present up. `progress` is told the share done after each moment. Throws Error that says why
/// none was found.
FoundUpright find_upright(const Project& project, const Shot& shot, std::span<const Seconds> times,
                          MediaLibrary& library, const std::function<void(double)>& progress,
                          const Cancel& cancel);
/// Moments to look at when none is asked for: a few, spread evenly over the used part.
std::vector<Seconds> upright_times(const Project& project, const Shot& shot, MediaLibrary& library);

/// Up from a motion record's acceleration (or orientation when it has no acceleration) over the used part, in
/// the rig's directions: the robust mean. Throws Error when the record holds neither.
Upright upright_from_record(const Shot& shot, const MotionRecord& record, double from_s, double to_s);

/// The orientation that sets `up` (rig directions) upright at `time` with the least other turning; the
/// heading stays.
void set_upright(Shot& shot, Seconds time, const Vec3& up);
/// How far the given up leans from upright under the shot's orientation at a time, degrees.
double lean_deg(const Shot& shot, Seconds time, const Vec3& up);

} // namespace porb
