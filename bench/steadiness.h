#pragma once

// How still pictures stand where nothing moves.
#include "scenes.h"
#include "stitch/compose.h"

namespace porb::bench {

struct Change {
    double without = 0, with = 0; ///< grey levels
};
/// How much frames of a shot differ from the next where nothing moves near seams: without flow, whose places
/// stand still, and with it. What moves is left out: places that change without flow by more than noise does,
/// and their surroundings.
Change change_of(const Project& project, Shot shot, Composer& composer, const View& view, int first,
                 int frames);
/// The same for a take that stands still but for noise, coded as video.
double steadiness(const Take& take, const View& view, const std::filesystem::path& folder);

} // namespace porb::bench
