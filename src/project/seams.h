#pragma once

#include "base/rational.h"
#include "optics/vec.h"

#include <optional>
#include <string>
#include <vector>

namespace porb {

/// Closing parallax where lenses meet: near a seam, everything is drawn where the rig's centre would see it,
/// by distances found in each frame.
struct FlowSettings {
    bool on = false;
    double strength = 1;    ///< 0: the agree distance, 1: the distances found
    double zone_deg = 14;   ///< how far from a seam, as a difference of what lies inside two reaches
    double nearest_m = 0.7; ///< nearer things are taken to be there
    bool operator==(const FlowSettings&) const = default;
};

/// How neighbours pass into each other.
enum class Blending {
    hard,      ///< at the line, over no more than what keeps it from showing steps
    feathered, ///< over each camera's feather
    multiband, ///< detail at the line, brightness and colour over ever wider bands (Burt and Adelson 1983)
};
struct BlendSettings {
    Blending kind = Blending::feathered;
    double widest_deg = 12; ///< of multiband: how far the widest band reaches from a seam
    bool operator==(const BlendSettings&) const = default;
};

/// A corner of a shape drawn on a lens, in radii of its image circle from the circle's centre, x right, y
/// down: shapes fit other lenses and sizes, and know no edge of a map. The Bezier handles towards the corners
/// before and after are relative to it; zero for straight sides.
struct ShapeCorner {
    Vec2 at{0, 0}, before{0, 0}, after{0, 0};
    bool operator==(const ShapeCorner&) const = default;
};
struct ShapeKey {
    Seconds time{0};
    std::vector<ShapeCorner> corners;
    bool operator==(const ShapeKey&) const = default;
};
/// A closed shape on one camera: a cut-out removes what is inside, a restore brings it back as far as the
/// lens sees. Restores count after cut-outs.
struct Shape {
    std::string name;
    bool restores = false, on = true;
    double feather_deg = 2;     ///< of its edge
    std::vector<ShapeKey> keys; ///< in order of time, one at least, each with as many corners
    bool operator==(const Shape&) const = default;
};
inline constexpr std::size_t kFewestCorners = 3, kMostCorners = 200;

/// The shape's corners at a moment: those of its keys, passing evenly from each to the next.
std::vector<ShapeCorner> corners_at(const Shape& shape, Seconds time);
/// A closed polyline through the corners along their handles, `steps` pieces a side where it bends.
std::vector<Vec2> outline_of(const std::vector<ShapeCorner>& corners, int steps = 12);

/// Where a shelter is at a moment: an upright oval about a direction in the rig's axes, whole width and
/// height in degrees.
struct ShelterKey {
    Seconds time{0};
    double yaw_deg = 0, pitch_deg = 0, width_deg = 20, height_deg = 40;
    bool operator==(const ShelterKey&) const = default;
};
/// A part of the sphere that comes whole from one camera.
struct Shelter {
    std::string name;
    std::string camera; ///< empty: the one that sees it best is chosen
    bool on = true;
    std::optional<Seconds> from, to; ///< nothing: from the shot's beginning, to its end
    double ease_s = 0.5;             ///< in which the line passes over, before `from` and after `to`
    double feather_deg = 2;
    std::vector<ShelterKey> keys; ///< in order of time, one at least
    bool operator==(const Shelter&) const = default;
};
/// The oval at a moment, smoothly between keys.
ShelterKey oval_at(const Shelter& shelter, Seconds time);
/// How far the shelter counts at a moment: 0 outside, 1 within, smooth over `ease_s`.
double presence_at(const Shelter& shelter, Seconds time);

} // namespace porb
