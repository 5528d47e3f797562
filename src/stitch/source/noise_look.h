#pragma once

#include "project/project.h"
#include "stitch/source/denoise.h"

namespace porb {

/// A part of a camera's own picture at full size, as it was shot and as denoising leaves it.
struct NoiseLook {
    Region part; ///< where it lies, moved and cut so that it is inside the picture
    Picture as_shot, cleaned;
    double noise_before = 0, noise_after = 0; ///< noise_of() both
};

/// `part` of what the camera shows at a shot time, by the shot's settings whether they are on or not. Nothing
/// when it has no source or that does not run then; throws Error when it cannot be read.
std::optional<NoiseLook> look_at_noise(MediaLibrary& library, const Project& project, const Shot& shot,
                                       const std::string& camera, Seconds time, Region part);

} // namespace porb
