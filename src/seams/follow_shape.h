#pragma once

#include "base/progress.h"
#include "media/library.h"
#include "project/project.h"

#include <functional>

namespace porb {

/// A shape's keys, following what lies in it on its camera's picture from `start` both ways: corners of the
/// picture inside it are followed from look to look (Lucas and Kanade 1981, in pyramids), and the shape is
/// moved, turned and scaled as most of them agree. `lost` where too few could be followed any longer.
struct FollowedShape {
    std::vector<ShapeKey> keys; ///< in order of time, few: between them the shape moves evenly
    bool lost = false;
};
FollowedShape follow_shape(const Project& project, const Shot& shot, const ShotCamera& use,
                           const Shape& shape, Seconds start, Seconds end,
                           const std::shared_ptr<MediaLibrary>& library,
                           const std::function<void(double)>& progress, const Cancel& cancel);

} // namespace porb
