#pragma once

#include "seams/tears.h"
#include "stereo/measure.h"

namespace porb {

/// What is torn in one of two eyes' pictures of a whole sphere alone, the longest first: in cells of three
/// degrees with a degree of torn edges and more, where the other eye has less than a quarter of it nearby.
/// `view` is what was looked at, of either eye.
std::vector<TornEdge> torn_alone(const Tears& left, const Tears& right, const View& view);

/// The same of a shot at a moment, `width` pixels wide; nothing of eyes that are not drawn. Throws like
/// tears_in().
std::vector<TornEdge> torn_in_one_eye(Composer& composer, const Project& project, const Shot& shot,
                                      Seconds time, int width, const Cancel& cancel = {});

} // namespace porb
