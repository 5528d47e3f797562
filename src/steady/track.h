// steady: how a rig turned while it recorded, from its footage or from its motion record, and what that says
// of both. Smoothing and use of the result are in project/orientation.
#pragma once

#include "base/progress.h"
#include "media/library.h"
#include "media/motion.h"
#include "project/project.h"

#include <functional>

namespace porb {

/// A turning over time: at first_s + i * step_s the rig's directions become those of a still world by path[i]
/// (rotation vectors, radians); the still world is the rig's at the first moment.
struct TurnPath {
    double first_s = 0, step_s = 0;
    std::vector<Vec3> path;
    double residual_deg = 0; ///< typical angle by which tracked directions miss the turn
    int lost = 0; ///< frames at which too little could be followed; the turn goes on as before there
};

/// Follows corners of the pictures from frame to frame on the sphere (pyramidal Lucas-Kanade, Bouguet 2000,
/// started where the turn so far predicts them) against a key frame that is renewed when the rig has turned
/// away from it, so that errors do not add up while it only shakes. The turn is fitted robustly (Wahba's
/// problem, reweighted), and where the rig also moves, together with the direction of the move (the epipolar
/// constraint on the sphere), so that neither things that move nor parallax pull at it. Over the used part,
/// at the shot's rate. Throws Error when nothing can be followed, Cancelled.
TurnPath turning_from_footage(const Project& project, const Shot& shot, MediaLibrary& library,
                              const std::function<void(double)>& progress, const Cancel& cancel);

/// Fits the turn that takes directions `from` to `to`, and whether the rig moved as well. Unit directions.
struct TurnFit {
    Mat3 turn;
    bool moved = false;
    double residual_rad = 0; ///< median
    int agreeing = 0;
};
TurnFit fit_turn(std::span<const Vec3> from, std::span<const Vec3> to);

/// How a motion record lies to the footage: record time = shot time + offset_s, and record axes to rig axes.
struct RecordFit {
    double offset_s = 0;
    Mat3 to_rig;
    double correlation = 0; ///< correlation of the two speeds of turning, up to 1
};
/// Finds offset and axes from the speeds of turning: the offset by normalised correlation of their sizes, the
/// axes by Wahba's problem on the vectors. Throws Error when the rig hardly turns or nothing fits within
/// `most_offset_s`.
RecordFit fit_record(const TurnPath& footage, const MotionRecord& record, double most_offset_s = 3);

/// The record's turning over [from_s, to_s] of the shot, 200 a second: from its orientation where it has any,
/// else from its gyro (integrated). `mount` takes record axes to the rig's. Throws Error when the record
/// holds neither there.
TurnPath turning_from_record(const MotionRecord& record, double offset_s, const Mat3& mount, double from_s,
                             double to_s);

/// Analyses a shot and puts the result into it, other settings kept: from footage, or from its motion record
/// (whose offset and axes are found when `fit` is set, and kept in the shot's motion source). Returns what
/// was found in words.
std::string steady_shot(const Project& project, Shot& shot, SteadySource source, bool fit,
                        MediaLibrary& library, const std::function<void(double)>& progress,
                        const Cancel& cancel);

} // namespace porb
