#pragma once

// How seams, shapes and shelters lie in project files; for the files of the project's JSON alone.
#include "project/json_parts.h"
#include "project/seams.h"

namespace porb {

Json flow_json(const FlowSettings& flow);
FlowSettings flow_from(const JsonPlace& place);
Json blend_json(const BlendSettings& blend);
BlendSettings blend_from(const JsonPlace& place);
Json shape_json(const Shape& shape);
Shape shape_from(const JsonPlace& place);
Json shelter_json(const Shelter& shelter);
Shelter shelter_from(const JsonPlace& place);
Json oval_keys_json(const std::vector<ShelterKey>& keys);
std::vector<ShelterKey> oval_keys_from(const JsonPlace& place);

} // namespace porb
