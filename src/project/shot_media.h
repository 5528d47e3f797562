#pragma once

#include "project/project.h"

namespace porb {

/// The media of the cameras that a shot uses, each once, in their order.
std::vector<MediaRef> used_media(const Project& project, const Shot& shot);
/// The same of videos alone, which proxies can stand for.
std::vector<MediaRef> used_videos(const Project& project, const Shot& shot);

} // namespace porb
