#pragma once

#include "project/project.h"

namespace porb {

/// Gives `shot` another rig. Everything that names cameras goes along: a camera of the same id is the same
/// one; of the rest, those of equal picture size are taken for each other in their order, and what named the
/// old one (source, offset, colour, shapes, points, lines, regions, shelters, seams, found lines, crossings,
/// kept solves) names the new one. What belongs to a camera that is gone, or whose picture has another size,
/// is dropped. Returns what was renamed and dropped, a sentence each.
std::vector<std::string> change_rig(Shot& shot, const Rig& rig);

/// Drops what names cameras that the shot's rig has not, and says so, a sentence each.
std::vector<std::string> drop_dangling(Shot& shot);

} // namespace porb
