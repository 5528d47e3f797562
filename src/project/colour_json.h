#pragma once

// How colours lie in project files; for the files of the project's JSON alone.
#include "project/colour.h"
#include "project/json_parts.h"

namespace porb {

Json colour_json(const CameraColour& colour);
CameraColour colour_from(const JsonPlace& place);
Json match_json(const MatchSettings& settings);
MatchSettings match_from(const JsonPlace& place);

} // namespace porb
