#pragma once

#include "project/grade.h"

#include <filesystem>
#include <string>

namespace porb {

/// The slope, offset, power and saturation of an ASC CDL file (.cc, .ccc, .cdl; ASC CDL 1.2) as a grade's
/// lift, gamma, gain and saturation; the rest of `grade` stays as it is. Of a collection the correction named
/// `id`, or its first. Throws Error when it is none.
Grade with_cdl(Grade grade, const std::filesystem::path& file, const std::string& id = "");
/// The grade as a .cc file. CDL has no more than that, so exposure, warmth, tint, contrast and LUT must be
/// neutral: Error says so otherwise.
void write_cdl(const Grade& grade, const std::filesystem::path& file, const std::string& id);
/// The whole grade as a .cube table of size^3 entries, on the working curve (sRGB) from 0 to 1.
void write_cube(const Grade& grade, const std::filesystem::path& file, int size = 33);

} // namespace porb
