#pragma once

// A shot's grade and denoising in project files; for the project reader alone.
#include "project/grade.h"
#include "project/json_parts.h"

namespace porb {

Json grade_json(const Grade& grade);
Grade grade_from(const JsonPlace& place);
Json denoise_json(const Denoise& denoise);
Denoise denoise_from(const JsonPlace& place);

} // namespace porb
