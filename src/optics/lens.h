// optics: how directions become pixels and back: lens models, poses, rigs and their files, output
// projections. Pure functions of small values; axes, angles and pixel coordinates as docs/conventions.md has
// them.
#pragma once

#include "optics/vec.h"

#include <array>
#include <optional>
#include <string>

namespace porb {

/// Base projections g(theta), theta in radians from the optical axis (Kannala and Brandt 2006, section 2).
enum class Projection {
    equidistant,   ///< theta
    equisolid,     ///< 2 sin(theta/2)
    stereographic, ///< 2 tan(theta/2)
    orthographic,  ///< sin(theta)
    rectilinear,   ///< tan(theta)
};

/// The part of the picture the glass really fills; nothing outside is ever sampled. Pixels.
struct ImageCircle {
    Vec2 center_px{0, 0};
    double radius_px = 0;
    bool operator==(const ImageCircle&) const = default;
};

/// A lens in front of a picture of width x height pixels: r = focal_px (g + k1 g^3 + k2 g^5 + k3 g^7 + k4
/// g^9).
struct Lens {
    Projection projection = Projection::equidistant;
    int width = 0, height = 0;
    double focal_px = 0;
    Vec2 center_px{0, 0};
    std::array<double, 4> radial{};
    ImageCircle circle;
    bool operator==(const Lens&) const = default;
};

const char* name_of(Projection projection);
std::optional<Projection> projection_named(std::string_view name);

/// What is impossible about `lens` in one phrase, naming the member first ("focal_px: must be above 0"), or
/// nothing when it can be used. Includes the rule that the radius grows all the way to the rim.
struct LensFault {
    std::string member, what, mend;
};
std::optional<LensFault> fault_in(const Lens& lens);

/// A lens made ready for use: limits and slopes worked out once. Valid lenses only (asserted).
class LensMap {
  public:
    explicit LensMap(const Lens& lens);

    const Lens& lens() const { return lens_; }
    /// The largest angle at which any pixel inside both circle and picture lies.
    double theta_max() const { return theta_max_; }
    /// Radius in pixels at `theta`; past theta_max it goes on in a straight line, so it is safe anywhere.
    double radius(double theta) const;
    /// The angle whose radius is `radius_px`, to 1e-12 relative, for 0 <= radius_px <= radius(theta_max).
    double theta(double radius_px) const;
    /// Where a camera-frame direction (any length but 0) lands, even outside circle and picture.
    Vec2 project_anywhere(const Vec3& direction) const;
    /// The same, or nothing when the lens does not see it.
    std::optional<Vec2> project(const Vec3& direction) const;
    /// The unit direction behind a pixel, or nothing outside the circle or picture.
    std::optional<Vec3> unproject(const Vec2& pixel) const;
    /// Pixels from `pixel` to the nearest place that may not be sampled (rim or picture edge); below 0
    /// outside.
    double clearance(const Vec2& pixel) const;

  private:
    Lens lens_;
    double theta_max_ = 0, radius_max_ = 0, slope_max_ = 0;
};

/// Field of view in degrees across the image circle, measured on its own centre line.
double field_of_view_deg(const Lens& lens);
/// The focal length at which the circle's radius lies at half of `fov_deg`, other values kept.
double focal_for_field_of_view(const Lens& lens, double fov_deg);

} // namespace porb
