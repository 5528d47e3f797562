#pragma once

#include "base/cache.h"
#include "base/progress.h"
#include "media/library.h"
#include "stitch/patches/warp.h"

#include <functional>

namespace porb {

/// Per channel, by half bits, of colours not multiplied by alpha: what brings a patch to the footage's light.
struct LightTable {
    std::array<std::vector<float>, 3> value;
};
/// A patch ready to be drawn at a moment.
struct DrawnPatch {
    std::shared_ptr<const PatchWarp> warp;
    float opacity = 1;
    std::shared_ptr<const LightTable> light; ///< or none
    /// How much lighter the place is than its reference, in linear light, on the square; or none. It needs to
    /// know where pixels lie.
    std::shared_ptr<const TileImage> ratio;
    WarpKey key; ///< of the warp
};

/// Draws rows [begin, end) of the patches, the first lowest, over a picture of their view. Pure; rows may be
/// drawn at the same time.
void draw_patches(std::span<const DrawnPatch> patches, int begin, int end, Picture& out);

/// Makes patches ready, and keeps what does not change from frame to frame. Thread safe.
class PatchDrawer {
  public:
    explicit PatchDrawer(const std::shared_ptr<CacheBound>& bound);
    /// The footage below the patches as a view shows it, for what follows it.
    using Footage = std::function<Picture(const View&)>;
    /// Those that show in the view at that moment. Throws Error when a picture's file cannot be read, and
    /// Cancelled.
    std::vector<DrawnPatch> gather(const Project& project, const Shot& shot, Seconds time, const View& view,
                                   MediaLibrary& library, const Footage& footage, const Cancel& cancel);

  private:
    std::optional<PatchContent> content_of(const Project& project, const Shot& shot, const Patch& patch,
                                           const PatchPlacement& placement, Seconds time, const View& view,
                                           MediaLibrary& library, const Footage& footage);
    std::shared_ptr<const PatchWarp> warp(const WarpKey& key, const PatchContent& content,
                                          MediaLibrary& library);
    using Shown = std::pair<MediaRef, Seconds>;
    Cache<Shown, std::shared_ptr<const TileImage>> pictures_;
    Cache<WarpKey, std::shared_ptr<const PatchWarp>> warps_;
};

/// Whether a patch can show anything then.
bool shows(const Patch& patch, Seconds time);

} // namespace porb
