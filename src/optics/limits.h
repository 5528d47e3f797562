#pragma once

#include "base/range.h"

#include <cstddef>

/// What the values of a rig may be: for files, edits, number fields and options of the command line alike.
namespace porb::limits {

inline constexpr std::size_t kCameraId = 64, kName = 256; // characters
inline constexpr Range kTurn_deg{-1e5, 1e5};
inline constexpr Range kPosition_m{-1e4, 1e4};
inline constexpr Range kPictureSide_px{1, 65536};
inline constexpr Range kFocal_px{1e-3, 1e6}, kPlace_px{-1e6, 1e6}, kRadius_px{1, 1e6};
inline constexpr Range kRadial{-100, 100}, kUneven{-1000, 1000}, kAspect{0.2, 5}, kSkew{-1, 1};
inline constexpr Range kPitch_um{0, 1000};

} // namespace porb::limits
