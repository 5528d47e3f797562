#pragma once

#include "base/json.h"
#include "optics/rig.h"

namespace porb {

// The rig and its parts as JSON values, for files that hold a rig among other things.
Json rig_to_json(const Rig& rig);
Rig rig_from_json(const JsonPlace& place);

Json turn_to_json(const Turn& turn);
Turn turn_from_json(const JsonPlace& place);

} // namespace porb
