#pragma once

#include "base/progress.h"
#include "media/library.h"
#include "project/project.h"
#include "solve/bundle/point_fit.h"

namespace porb {

/// Stitch error at one moment, independent of any points kept: matches along the overlaps, their residuals under
/// the rig as it stands; nothing when too little can be compared.
std::optional<Rms> stitch_error(const Project& project, const Shot& shot, Seconds time, MediaLibrary& library,
                                const Cancel& cancel);

} // namespace porb
