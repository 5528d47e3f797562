#pragma once

#include "base/rational.h"
#include "optics/vec.h"
#include "picture/tiles.h"

#include <optional>
#include <string>
#include <vector>

namespace porb {

/// What a patch shows.
enum class PatchKind {
    painted, ///< what was painted by hand
    picture, ///< a file: a still with alpha, a numbered sequence, a video
    fill,    ///< what was made by the program from the surroundings
    soften,  ///< the surroundings themselves, as they are at each moment, smoothed or mirrored inwards
};
/// What it stays with when the picture is turned.
enum class PatchHold {
    world, ///< the levelled, steadied world
    rig,   ///< the rig, with which it turns
};
/// Where it lies, for eyes that see depth; from the rig's centre every one of them looks the same.
enum class PatchSurface {
    far,    ///< infinitely far
    level,  ///< on a level floor below, or a ceiling above: its height over or under the rig's centre
    facing, ///< on a plane across its own direction
    sphere, ///< all of it at one distance
};
enum class SoftenKind { blur, mirror };

/// Where a patch lies at a moment, and how strongly it shows. It is a square on a plane across its direction:
/// seen straight on, without distortion, `width_deg` across; `roll_deg` turns it about its direction.
struct PatchKey {
    Seconds time{0};
    double yaw_deg = 0, pitch_deg = -90, roll_deg = 0, width_deg = 60;
    double opacity = 1;
    std::string extra_json{};
    bool operator==(const PatchKey&) const = default;
};
/// What brings a patch's light to the footage's at a moment, in linear light: gain x value + offset.
struct PatchLightKey {
    Seconds time{0};
    Vec3 gain{1, 1, 1}, offset{0, 0, 0};
    std::string extra_json{};
    bool operator==(const PatchLightKey&) const = default;
};

/// A picture layer fixed to a direction of the sphere, over what cameras supply and under the grade.
struct Patch {
    std::string name;
    PatchKind kind = PatchKind::painted;
    bool on = true;
    PatchHold hold = PatchHold::world;
    PatchSurface surface = PatchSurface::level;
    double distance_m = 1.6; ///< of its surface, from the rig's centre
    std::optional<Seconds> from, to;
    double ease_s = 0.5;        ///< in which it comes before `from` and goes after `to`
    std::vector<PatchKey> keys; ///< in order of time, one at least

    int resolution = 2048;  ///< pixels a side of what is painted, the plate and the mask
    TileImage pixels;       ///< painted or filled; empty: nothing yet
    TileImage plate;        ///< a clean picture of the place, to paint from and to erase to; empty: none
    TileImage mask;         ///< one channel, where it shows; empty: everywhere
    double feather_deg = 1; ///< of the mask's edge and its own rim
    bool disc = false;      ///< ends at the circle inside its square
    std::string media;      ///< of a picture: id in the project's media
    SoftenKind soften = SoftenKind::blur;

    bool follows_light = false;       ///< by `light`
    std::vector<PatchLightKey> light; ///< in order of time; passes evenly
    double shadows = 0;               ///< how much of the shadows that pass over the place it takes, 0 to 1
    TileImage reference;              ///< how the place looked without such shadows: small, soft
    std::string extra_json{};
    bool operator==(const Patch&) const = default;
};

inline constexpr int kReferenceSide = 64; ///< pixels a side of a patch's reference

/// Its place and opacity at a moment, passing evenly from key to key (turns the short way round).
PatchKey place_at(const Patch& patch, Seconds time);
/// How far it is there at a moment: 0 before it comes and after it went, smooth over `ease_s`; opacity is not
/// in it.
double presence_at(const Patch& patch, Seconds time);
/// What brings its light to the footage's at a moment: identity without keys or when it does not follow.
PatchLightKey light_at(const Patch& patch, Seconds time);
/// Changes its place: in the key at that moment when it has several, else for ever.
void set_place(Patch& patch, Seconds time, const PatchKey& place);
/// Sets a key to what is so at a moment, or takes the one there away; the last one stays.
void toggle_place_key(Patch& patch, Seconds time);
/// Pixels a side at which a patch of that width is as fine in its middle as a picture of the sphere of that
/// width; a multiple of 64, within what a patch may have.
int matching_resolution(double width_deg, int sphere_width);
/// Brings everything that is painted to another number of pixels a side.
void set_resolution(Patch& patch, int resolution);

} // namespace porb
