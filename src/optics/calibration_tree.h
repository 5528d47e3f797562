#pragma once

#include "base/json.h"

#include <string_view>

namespace porb {

/// The entries of a calibration file (YAML, XML or JSON in the forms cv::FileStorage writes) as one JSON
/// value: maps, lists, numbers and words. Read with parsers made for files from outside, since FileStorage's
/// own reader does not survive damaged ones. Numbers may be NaN or infinite. Throws Error.
Json calibration_tree(std::string_view text, const std::string& where);

} // namespace porb
