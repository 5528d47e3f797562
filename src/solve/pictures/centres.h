#pragma once

#include "base/progress.h"
#include "media/library.h"
#include "project/project.h"

namespace porb {

/// The shot with its lens centres moved to where their image circles are seen, before it is solved: a lens
/// throws its circle about its own axis, to a few thousandths of the radius, whatever the sensor's place
/// behind it. Where every camera's circle is seen clearly, centres are held near there more closely than the
/// settings say. Locked lenses, and shots whose centres are not to be solved, stay as they are.
Shot with_centres_seen(const Project& project, const Shot& shot, MediaLibrary& library, const Cancel& cancel);

} // namespace porb
