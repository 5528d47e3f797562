#pragma once

#include "base/json.h"
#include "project/project.h"

namespace porb {

/// The parts of a shot that calibrating makes (points, lines, regions, solves, orientation over time,
/// steadying), put into its JSON and read from it. Reading throws Error with the JSON path.
void put_calibrating(Json& shot, const Shot& s);
void read_calibrating(const JsonPlace& shot, Shot& s);

/// Lines as a file of their own ("pale-orbit/lines"), which the command line reads.
std::vector<LineMark> parse_lines(std::string_view json_text, const std::string& where);

} // namespace porb
