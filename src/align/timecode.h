#pragma once

#include "base/rational.h"

#include <optional>
#include <string_view>

namespace porb {

/// Seconds since midnight of a timecode "HH:MM:SS:FF" at a frame rate; with ';' or '.' before the frames it
/// is drop-frame, which leaves out numbers so that 29.97 and 59.94 keep to the clock (SMPTE ST 12-1). Nothing
/// when it is none.
std::optional<double> timecode_seconds(std::string_view text, FrameRate rate);

} // namespace porb
