// align: when the sources of a shot began against each other: from their sound, their timecode, or how their
// pictures move. Offsets are found for all sources together, with a confidence each, or refused with a
// reason.
#pragma once

#include "base/progress.h"
#include "media/library.h"
#include "project/project.h"

#include <functional>

namespace porb {

enum class AlignMethod { sound, timecode, motion };
const char* name_of(AlignMethod method);

/// The height of the correlation about the offset that was found.
struct PeakCurve {
    double first_s = 0, step_s = 0; ///< offsets of the samples
    std::vector<float> height;      ///< 1 at its highest
};

/// What was found of one camera's source; source_time = shot_time (1 + drift) + offset.
struct FoundOffset {
    std::string camera;
    bool found = false;
    double offset_s = 0; ///< of the middle of what was compared: right when clocks are left as they are
    double offset_at_start_s = 0; ///< at shot time 0: right together with the drift
    double drift_ppm = 0;         ///< 0 where it is too small to tell
    double drift_doubt_ppm = 0;
    double confidence = 0;     ///< 0..1
    std::string method;        ///< "sound", "timecode", "motion", or "reference" for the one kept still
    std::string why_not, mend; ///< when not found
    PeakCurve peak;
};

struct AlignOptions {
    AlignMethod method = AlignMethod::sound;
    std::optional<Seconds> from,
        to; ///< of shot time, as it stands; nothing: the used part widened by `most_offset_s`
    double most_offset_s = 30; ///< how far apart the sources may have begun
    bool find_drift = true;
};

/// Offsets of all cameras that have a source, in the shot's order. Cameras that share a file share its
/// offset. The first camera keeps its own. Cameras whose source has nothing in common with the others are
/// refused one by one; throws Error when nothing can be aligned at all, Cancelled when stopped. Progress is
/// in [0, 1].
std::vector<FoundOffset> find_offsets(const Project& project, const Shot& shot, MediaLibrary& library,
                                      const AlignOptions& options,
                                      const std::function<void(double)>& progress, const Cancel& cancel);

/// `shot` with what was found put in (and marked as found); in is moved to where every source has begun when
/// it lies before. `with_drift` also corrects clocks.
Shot aligned(const Shot& shot, const std::vector<FoundOffset>& offsets, bool with_drift);

/// How far the two ends of a shot of that length come apart by a drift, in seconds.
inline double drift_over(double drift_ppm, double seconds) {
    return drift_ppm * 1e-6 * seconds;
}

} // namespace porb
