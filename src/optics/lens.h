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

/// How a lens and its sensor depart from round glass on square pixels, in the terms of OpenCV's camera models
/// ("Camera Calibration and 3D Reconstruction" and "Fisheye camera model" in its documentation). With
/// (x, y) = g (cos phi, sin phi) the radial polynomial is divided by 1 + d1 g^2 + d2 g^4 + d3 g^6, then
/// x += 2 p1 x y + p2 (g^2 + 2 x^2) + s1 g^2 + s2 g^4 and y += p1 (g^2 + 2 y^2) + 2 p2 x y + s3 g^2 + s4 g^4;
/// the pixel is u = cx + focal_px (x + skew y), v = cy + focal_px aspect y.
struct NonRadial {
    double aspect = 1; ///< height of a focal length to its width, fy / fx
    double skew = 0;
    std::array<double, 3> denominator{};
    std::array<double, 2> tangential{};
    std::array<double, 4> prism{};
    bool operator==(const NonRadial&) const = default;
    /// Whether the picture of a cone about the axis is a circle after all.
    bool is_round() const { return aspect == 1 && skew == 0 && !bends(); }
    /// Whether anything but the sensor's grid is uneven.
    bool bends() const { return tangential != std::array<double, 2>{} || prism != std::array<double, 4>{}; }
};

/// A lens in front of a picture of width x height pixels: r = focal_px (g + k1 g^3 + k2 g^5 + k3 g^7 + k4
/// g^9), and what departs from that.
struct Lens {
    Projection projection = Projection::equidistant;
    int width = 0, height = 0;
    double focal_px = 0;
    Vec2 center_px{0, 0};
    std::array<double, 4> radial{};
    NonRadial non_radial;
    ImageCircle circle;
    double pixel_pitch_um = 0; ///< from pixel to pixel on the sensor; 0: not known
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
    /// Radius in pixels at `theta`, by the round part of the lens; past theta_max it goes on in a straight
    /// line, so it is safe anywhere.
    double radius(double theta) const;
    /// The angle whose radius is `radius_px`, to 1e-12 relative, for 0 <= radius_px <= radius(theta_max).
    double theta(double radius_px) const;
    /// Where the angle `theta` lies in the direction `phi` of the camera's frame, uneven parts included.
    Vec2 place(double theta, double cos_phi, double sin_phi) const;
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

/// Field of view in degrees from the left to the right edge of the picture through the lens centre; past the
/// circle the lens is thought to go on. 0 when its model ends before the edge.
double picture_field_of_view_deg(const Lens& lens);
/// The focal length at which the picture's edges lie `fov_deg` apart; the lens's own when none does.
double focal_for_picture_field_of_view(const Lens& lens, double fov_deg);

/// Focal length and sensor width in millimetres; 0 while the pixel pitch is not known.
double focal_mm(const Lens& lens);
double sensor_width_mm(const Lens& lens);

/// The same glass on a picture of another size: every length in pixels times width / lens.width, places
/// moved so that centres stay centred in height. The pitch changes with the pixels.
Lens scaled(const Lens& lens, int width, int height);

} // namespace porb
