#pragma once

#include "base/json.h"
#include "optics/rig.h"

namespace porb {

/// A turn as a JSON value, for files that hold one among other things.
Json turn_to_json(const Turn& turn);

} // namespace porb
