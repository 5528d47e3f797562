// master: finished files. Deliverables and their presets, the render itself (read, blend and encode side by
// side), the checks before and during it, and inspection of finished files as a player would see them.
#pragma once

#include "base/progress.h"
#include "stitch/compose.h"

#include <functional>

namespace porb {

/// How far a render is. Sizes in bytes, times in seconds.
struct RenderProgress {
    std::int64_t frames_done = 0, frames = 0;
    double seconds_gone = 0, seconds_left = 0, frames_per_second = 0;
    std::int64_t bytes = 0;
};

/// Named starting points for a deliverable, as the command line and the window offer them.
struct Preset {
    std::string name;  ///< as files and options write it
    std::string title; ///< as people choose it: "Whole sphere, H.265 10 bit"
    std::string description;
    Deliverable deliverable;
};
const std::vector<Preset>& presets();
const Preset* find_preset(std::string_view name);

/// Pixels of the whole picture: one eye's, doubled for stereo layouts.
struct FrameSize {
    int width, height;
};
FrameSize frame_size(const Deliverable& deliverable);
/// A cautious guess at the finished file's size.
std::int64_t expected_bytes(const Deliverable& deliverable, Seconds length, FrameRate rate);

/// Everything that would stop a render, or that the artist should know first. `stops` holds at least one when
/// the render cannot start.
struct Preflight {
    std::vector<std::string> stops, warnings;
};
/// Quick enough for a window's own thread: painted squares that nobody asked for yet are not read; render()
/// reads them before it checks.
Preflight preflight(const Project& project, const Deliverable& deliverable, MediaLibrary& library);

/// Of pictures that are to be made one after the other.
struct RenderSize {
    int width = 3840; ///< of the whole sphere
    int eyes = 1;
};
/// The sources of a render: a library of its own, so that scrubbing meanwhile and rendering do not fight over
/// one decoder. Frames follow each other and are not asked for again, so it takes of `memory` only what the
/// frames at work need: plans and distances of one eye or both, and the moments that these are found from.
/// Looks into the sources' headers.
std::shared_ptr<MediaLibrary> render_library(const Project& project, const Shot& shot,
                                             const std::shared_ptr<CacheBound>& memory,
                                             const RenderSize& size);
RenderSize render_size(const Deliverable& deliverable);

/// Renders one deliverable of a project's value: in to out of its shot, at the shot's rate. The file appears
/// under its name only when complete; memory does not grow with its length. Throws Error, or Cancelled when
/// `cancel` was raised; then nothing is left behind.
void render(Composer& composer, const Project& project, const Deliverable& deliverable,
            const std::function<void(const RenderProgress&)>& progress, const Cancel& cancel);

/// One picture of a shot as the deliverables show it, for stills.
struct StillRequest {
    Seconds time{0};
    int width = 3840;
    SphereMapping mapping = SphereMapping::equirect;
    StereoLayout stereo = StereoLayout::mono;
    Eye eye = Eye::mono; ///< with a mono layout
    bool patches = true;
};
Picture render_still(Composer& composer, const Project& project, const Shot& shot,
                     const StillRequest& request, const Cancel& cancel = {});
Target sphere_target(SphereMapping mapping, int width);

} // namespace porb
