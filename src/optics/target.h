#pragma once

#include "optics/lens.h"
#include "optics/pose.h"

#include <optional>

namespace porb {

/// The shape of a finished picture: which direction each of its pixels looks in.
enum class TargetKind {
    equirect,    ///< the whole sphere, W = 2H
    half_sphere, ///< 180 x 180 degrees in front, W = H
    window,      ///< rectilinear, as through a window; `turn` and `fov_deg` (horizontal) apply
    lens,        ///< as a lens turned by `turn` would see it
};

struct Target {
    TargetKind kind = TargetKind::equirect;
    int width = 0, height = 0;
    Turn turn;           ///< window and lens
    double fov_deg = 90; ///< window: across the width, 1 to 170
    Lens lens;           ///< lens: its own picture size is scaled to width x height
    bool operator==(const Target&) const = default;
};

Target equirect_target(int width);
Target half_sphere_target(int width);
Target window_target(int width, int height, const Turn& turn, double fov_deg);

/// A target made ready: constants worked out once. Coordinates are continuous pixels.
class TargetMap {
  public:
    explicit TargetMap(const Target& target);

    const Target& target() const { return target_; }
    /// The unit world direction of a pixel; nothing where the target has none (outside a lens's circle).
    std::optional<Vec3> direction(const Vec2& pixel) const;
    /// Where a world direction lies, or nothing when the target does not show it.
    std::optional<Vec2> pixel(const Vec3& direction) const;
    /// The largest angle between neighbouring pixels, in radians: how coarse the picture is.
    double pixel_angle() const;

  private:
    Target target_;
    Mat3 to_world_;
    double focal_ = 0; ///< window: pixels
    std::optional<LensMap> lens_;
};

} // namespace porb
