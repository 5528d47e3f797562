#pragma once

// Seam lines and crossings in project files; for the project reader alone.
#include "project/json_parts.h"
#include "project/project.h"

namespace porb {

/// Lines as letters (one for each of the shot's cameras, '.' for nobody) with how often each repeats:
/// "a120b7".
Json seam_lines_json(const SeamLines& lines);
SeamLines seam_lines_from(const JsonPlace& place, std::size_t cameras);
Json crossings_json(const CrossingScan& scan);
CrossingScan crossings_from(const JsonPlace& place);

} // namespace porb
