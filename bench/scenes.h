#pragma once

// Scenes that tables are made of: made-up footage of one moment with its truth, kept in a folder.
#include "picture/picture.h"
#include "project/project.h"
#include "sim/simulate.h"

#include <opencv2/core.hpp>

namespace porb::bench {

/// Scenes by name: the simulator's, and "hall-scattered" (clutter that stands elsewhere with each seed),
/// "hall-visited", "hall-hung". The seed chooses faults, moments (where keeper and planets are) and where
/// things stand.
std::vector<std::string> scene_names();
sim::SimOptions options_of(const std::string& scene, const std::string& rig, unsigned seed, int size);
std::int64_t frame_of(const std::string& scene, unsigned seed);

struct Take {
    Project project;
    Rig rig;
    std::vector<cv::Mat> sources; ///< of the rig's cameras, 8-bit BGR
    cv::Mat truth;                ///< panorama of that width, 8-bit BGR
};
/// Renders what `folder` does not hold yet.
Take make_take(const sim::SimOptions& options, std::int64_t frame, int width,
               const std::filesystem::path& folder);
/// The same panorama as a left and a right eye see it (drawn by the simulator's usual eyes), kept as well.
struct TrueEyes {
    cv::Mat left, right;
};
TrueEyes true_eyes(const sim::SimOptions& options, std::int64_t frame, int width,
                   const std::filesystem::path& folder);
/// True inverse distance (1/m) from the rig's centre, by pixel of the panorama (32-bit); kept as well.
cv::Mat true_inverse(const sim::SimOptions& options, std::int64_t frame, int width,
                     const std::filesystem::path& folder);

cv::Mat bytes_of(const Picture& picture); ///< 8-bit BGR
Picture picture_of(const cv::Mat& bgr);

} // namespace porb::bench
