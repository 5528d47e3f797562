#pragma once

#include "optics/vec.h"
#include "picture/tiles.h"

#include <array>
#include <optional>

namespace porb {

/// Reads an image between its pixels, by 4 x 4 of them, at one of its levels. It must not outlive the image.
/// Making it takes all tiles into memory.
class TileSampler {
  public:
    TileSampler(const TileImage& image, int level);

    /// Pixels, at this level, of a place on the image's square: (-1, -1) its upper left corner, (1, 1) the
    /// lower right; a picture that is no square lies in its middle.
    Vec2 pixel(const Vec2& square) const {
        return {square.x() * side_px_ / 2 + middle_x_, square.y() * side_px_ / 2 + middle_y_};
    }
    /// Sharp (Catmull-Rom), or smooth by a cubic B-spline; `kChannels` must be the image's.
    template <int kChannels>
    std::array<float, kChannels> at(const Vec2& pixel, bool smooth = false) const;

  private:
    int side_, width_, height_, across_; ///< of a tile; of the image; in tiles
    double side_px_, middle_x_, middle_y_;
    std::vector<const Half*> tiles_;
};

/// A mask whose edge passes from nothing to all over `feather` (in halves of the square's side).
class SoftMask {
  public:
    SoftMask(const TileImage& mask, double feather);
    /// 0 to 1, at a place of the square.
    float at(const Vec2& square) const;

  private:
    std::optional<TileSampler> fine_, coarse_;
    float share_; ///< of the coarse one
};

} // namespace porb
