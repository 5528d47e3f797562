#pragma once

#include "base/progress.h"
#include "stitch/compose.h"

#include <functional>

namespace porb {

/// How a scan looks.
struct ScanSettings {
    double step_s = 0.1;
    double least_px =
        3; ///< two pictures of a subject less apart (3840 wide, at the agree distance) are left alone
};

/// Looks through the shot's used part for subjects that pass from one camera to its neighbour and stand in
/// front of what is behind them: what changes against the median picture of the shot, nearer than the median
/// distance there, touching the line between two cameras. Each is followed while it touches it, and what
/// shows of it measured as measured_again() does. Throws Error when no cameras overlap, and
/// Cancelled.
CrossingScan scan_crossings(const Project& project, const Shot& shot, Composer& composer,
                            const ScanSettings& settings, const std::function<void(double)>& step,
                            const Cancel& cancel);

/// How far apart what two cameras show of a subject is where the picture passes from the one to the other, in
/// pixels of a picture 3840 wide: the most over the crossing's moments of what nine tenths of its places stay
/// under. As the shot is now, with its lines, flow and shelters; 0 where nothing passes over inside it.
/// Measured anew from the pictures along the direction of parallax, whatever the flow holds true.
/// And how long edges are there that no source shows (seams/tears.h), the most over its moments.
Crossing measured_again(const Project& project, const Shot& shot, Composer& composer,
                        const Crossing& crossing, const Cancel& cancel);

/// The scan with every crossing measured again as the shot is now.
CrossingScan measured_again(const Project& project, const Shot& shot, Composer& composer,
                            const std::function<void(double)>& step, const Cancel& cancel);

/// What is tried to close crossings, in this order, until nothing shows.
struct CloseChoice {
    bool flow = true;              ///< on, for the shot
    bool lines = true;             ///< found anew, for the shot
    bool shelter = true;           ///< one for each crossing that is still open
    std::vector<std::string> only; ///< ids; none: all that are open
};
struct ClosedCrossings {
    Shot shot;                        ///< with what closed them, and its crossings measured again
    std::vector<std::string> remarks; ///< what could not be closed, and what is best there
};
/// Closes crossings, each step kept only if what shows becomes less. Throws Cancelled.
ClosedCrossings close_crossings(const Project& project, const Shot& shot, Composer& composer,
                                const CloseChoice& choice,
                                const std::function<void(double, const std::string&)>& step,
                                const Cancel& cancel);

/// The distance at which most of what lies on two cameras' seam agrees at a moment: the median of what is
/// found there, metres; nothing where nothing can be told.
std::optional<double> seam_distance_m(const Project& project, const Shot& shot, Composer& composer,
                                      const std::string& a, const std::string& b, Seconds time);

/// The shelter that keeps a crossing's subject whole: along its path, a little wider, from before it comes
/// until after it went.
Shelter shelter_for(const Crossing& crossing, const std::string& name);

} // namespace porb
