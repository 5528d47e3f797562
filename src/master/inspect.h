#pragma once

#include "media/info.h"
#include "media/spherical.h"

namespace porb {

/// What a finished file says it is and what a player will make of it.
struct Inspection {
    MediaInfo info;
    std::string projection = "flat"; ///< "equirectangular", "half-equirectangular" or "flat"
    std::string stereo = "mono";     ///< "mono", "top-bottom" or "left-right"
    bool v1 = false, v2 = false, photo_sphere = false, envmap = false;
    std::string verdict;               ///< one sentence on what a viewer will see
    std::vector<std::string> problems; ///< each with how to mend it
};

/// Throws Error when the file cannot be read at all.
Inspection inspect(const std::filesystem::path& path);

} // namespace porb
