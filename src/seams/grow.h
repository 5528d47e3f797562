#pragma once

#include "stitch/compose.h"

namespace porb {

/// The oval about the subject at a direction (the rig's axes) and moment: what is told from its surroundings
/// by colour (GrabCut; Rother, Kolmogorov and Blake 2004) and by having moved half a second before or after,
/// as the camera sees it that sees the direction best. Throws Error when nothing stands out there, with how
/// to mend it.
ShelterKey subject_at(const Project& project, const Shot& shot, Seconds time, const Vec3& rig_direction,
                      const std::shared_ptr<MediaLibrary>& library);

} // namespace porb
