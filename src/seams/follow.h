#pragma once

#include "base/progress.h"
#include "media/library.h"
#include "project/project.h"

#include <functional>

namespace porb {

/// Where what lies in a shelter goes.
struct Followed {
    std::vector<ShelterKey> keys;    ///< in order of time; few: between them it moves evenly
    std::optional<Seconds> from, to; ///< nothing: to the shot's beginning, to `end`
    bool lost = false;               ///< it could not be recognised any longer before one of them
};
/// Follows the subject in the shelter's oval at `start` both ways, from the shot's in to `end`, by normalised
/// correlation of a window view with what it looked like last, in position and size. Each moment is looked at
/// through the one camera that sees it best, so that seams do not matter. Throws Error when there is nothing
/// to recognise, and Cancelled.
Followed follow_shelter(const Project& project, const Shot& shot, const Shelter& shelter, Seconds start,
                        Seconds end, const std::shared_ptr<MediaLibrary>& library,
                        const std::function<void(double)>& progress, const Cancel& cancel);

} // namespace porb
