#pragma once

#include "base/rational.h"
#include "base/shared.h"
#include "optics/vec.h"

#include <array>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace porb {

/// How parallax is closed at a moment; values pass evenly from key to key.
struct FlowKey {
    Seconds time{0};
    double strength = 1;
    double zone_deg = 32;
    double smoothness = 1;
    std::string extra_json{}; ///< members of its JSON that this version does not know
    bool operator==(const FlowKey&) const = default;
};
/// What flow does where two cameras meet, instead of what it does elsewhere.
struct SeamFlow {
    std::string a, b; ///< ids of cameras, either order
    double strength = 1;
    double zone_deg = 32;
    double smoothness = 1;
    std::optional<double>
        agree_distance_m;           ///< of this seam, where distances found are not used; 0: infinitely far
    std::vector<FlowKey> keys = {}; ///< as the shot's, of this seam
    std::string extra_json{};
    bool operator==(const SeamFlow&) const = default;
};
/// Closing parallax where lenses meet: near a seam, everything is drawn where the rig's centre would see it,
/// by distances found in each frame.
struct FlowSettings {
    bool on = false;
    double strength = 1;       ///< 0: the agree distance, 1: the distances found
    std::vector<FlowKey> keys; ///< in order of time; when there are any, instead of the values here
    double zone_deg = 32;      ///< how far from a seam, as a difference of what lies inside two reaches
    double smoothness = 1;     ///< how much neighbouring distances are held to each other; 1: the usual
    double nearest_m = 0.7;    ///< nearer things are taken to be there
    bool everywhere =
        false; ///< wherever two cameras see, not near seams alone: nothing bends where a zone ends
    /// Distances from both cameras of a pair, half as coarse, and what a near thing hides from one camera
    /// drawn from another that sees it.
    bool fine_edges = false;
    std::vector<SeamFlow> seams; ///< at most one for each two cameras
    bool operator==(const FlowSettings&) const = default;
};
/// Strength, zone and smoothness at a moment, of the shot or of one seam.
FlowKey values_at(const FlowSettings& flow, Seconds time);
FlowKey values_at(const SeamFlow& seam, Seconds time);
/// The settings at a moment, without keys.
FlowSettings flow_at(const FlowSettings& flow, Seconds time);
/// Sets one of the values: by a key at that moment when there are keys, else for ever.
void set_value(FlowSettings& flow, Seconds time, double FlowKey::*value, double to);
void set_value(SeamFlow& seam, Seconds time, double FlowKey::*value, double to);
/// Sets a key to what is so at a moment, or takes the one there away; what the last one said stays.
void toggle_key(FlowSettings& flow, Seconds time);
void toggle_key(SeamFlow& seam, Seconds time);
/// In which distances found are used: without end where they are used everywhere. `own_deg` is the zone that
/// is set, of the shot or a seam; in it transitions are mixed whatever this says.
double distance_zone_deg(const FlowSettings& flow, double own_deg);
/// The widest that any zone of the shot ever is, degrees; and of one entry.
double widest_zone_deg(const FlowSettings& flow);
double widest_zone_deg(const SeamFlow& seam);
/// The entry for two cameras, or none.
const SeamFlow* find_seam(const FlowSettings& flow, std::string_view a, std::string_view b);
/// What flow does between two cameras: their entry, or one that does what the shot's settings do.
SeamFlow seam_flow(const FlowSettings& flow, const std::string& a, const std::string& b);

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

/// Who supplies each direction at a moment, from then on until the next key: one byte a cell of an octahedral
/// square (optics/sphere_grid.h) in the rig's axes, row by row, an index into the shot's cameras or kNobody.
struct LineKey {
    static constexpr std::uint8_t kNobody = 255;
    Seconds time{0};
    Shared<std::vector<std::uint8_t>> who;
    std::string extra_json{};
    bool operator==(const LineKey&) const = default;
};
/// Lines found in the pictures, in place of those where two lenses are equally far inside their reach. What
/// is kept is the cells, not the settings that found them: a shot looks the same on another day and machine.
struct SeamLines {
    static constexpr int kSide = 192; ///< cells of about 0.9 degrees; lines pass between them smoothly
    bool on = true;
    double ease_s = 0.4;       ///< in which a line moves over to its next place, ending at that key's moment
    std::vector<LineKey> keys; ///< in order of time; none: no lines were found
    bool operator==(const SeamLines&) const = default;
};
/// Which key's lines are in force at a moment, and how far they have moved towards the next key's, 0 to 1.
struct LineState {
    std::size_t key = 0;
    double towards_next = 0;
    bool operator==(const LineState&) const = default;
};
LineState line_state_at(const SeamLines& lines, Seconds time);

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
    std::string extra_json{};
    bool operator==(const ShapeKey&) const = default;
};
/// How far away what lies in a part of the sphere is told to be.
enum class DistanceRule {
    surroundings, ///< as far as what was found about that part says, evenly across it
    metres,       ///< all of it at one distance from the rig's centre
    plane,        ///< on a plane: a floor, a pane of glass
};
/// A distance that stands instead of what was found, where matching can't know (glass, mirrors, water,
/// smoke).
struct AreaDistance {
    DistanceRule rule = DistanceRule::surroundings;
    double metres = 2; ///< 0: infinitely far
    Vec3 plane_per_m =
        Vec3(0, 0, 0.5); ///< a direction of the rig's axes times this is its inverse distance, 1/m
    std::string extra_json{};
    bool operator==(const AreaDistance&) const = default;
};
/// Inverse distance from the rig's centre of what lies there, 1/m; nothing with DistanceRule::surroundings.
std::optional<double> told_inverse_m(const AreaDistance& distance, const Vec3& rig_direction);
/// The plane through three places, each a direction in rig axes and metres from the rig's centre. Throws
/// Error where they lie on one line, as seen from there, or one of them is not at a distance.
Vec3 plane_through(const std::array<Vec3, 3>& directions, const std::array<double, 3>& metres);

/// A closed shape on one camera: a cut-out removes what is inside, a restore brings it back as far as the
/// lens sees. Restores count after cut-outs. With a distance it does neither, but says how far away what is
/// inside is.
struct Shape {
    std::string name;
    bool restores = false, on = true;
    std::optional<AreaDistance> distance;
    double feather_deg = 2;     ///< of its edge
    std::vector<ShapeKey> keys; ///< in order of time, one at least, each with as many corners
    std::string extra_json{};
    bool operator==(const Shape&) const = default;
};
enum class ShapeKind { cut_out, restore, distance };
inline ShapeKind kind_of(const Shape& s) {
    return s.distance ? ShapeKind::distance : s.restores ? ShapeKind::restore : ShapeKind::cut_out;
}
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
    std::string extra_json{};
    bool operator==(const ShelterKey&) const = default;
};
/// A part of the sphere that comes whole from one camera, and is drawn at even distances, so that nothing in
/// it is torn: by what lies about it unless `distance` says how far away it is.
struct Shelter {
    std::string name;
    std::string camera; ///< empty: the one that sees it best is chosen
    AreaDistance distance;
    bool on = true;
    std::optional<Seconds> from, to; ///< nothing: from the shot's beginning, to its end
    double ease_s = 0.5;             ///< in which the line passes over, before `from` and after `to`
    double feather_deg = 2;
    std::vector<ShelterKey> keys; ///< in order of time, one at least
    std::string extra_json{};
    bool operator==(const Shelter&) const = default;
};
/// The oval at a moment, smoothly between keys.
ShelterKey oval_at(const Shelter& shelter, Seconds time);
/// How far the shelter counts at a moment: 0 outside, 1 within, smooth over `ease_s`.
double presence_at(const Shelter& shelter, Seconds time);

/// What closed a crossing.
enum class CrossingResolution { none, line, flow, shelter, hand };
/// A subject with parallax that passes a seam, found by the scan.
struct Crossing {
    std::string id;
    std::string a, b; ///< cameras of the seam
    Seconds from{0}, to{0};
    std::vector<ShelterKey> path; ///< the oval about it, in order of time
    double apart_px = 0;          ///< how far its two pictures are apart at the agree distance, at 3840 wide
    double visible_parallax_px = 0; ///< what of that shows, as measured last; at 3840 wide
    double torn_px = 0;             ///< length of edges there that no source shows, likewise
    CrossingResolution resolution = CrossingResolution::none;
    std::string shelter;    ///< name of the one that was made for it
    bool dismissed = false; ///< looked at and left
    std::string extra_json{};
    bool operator==(const Crossing&) const = default;
};
/// Less is not seen: two edges nearer than a pixel of a picture 3840 wide pass for one.
inline constexpr double kVisible_px = 1.0;
/// Shorter tears pass for grain.
inline constexpr double kVisibleTear_px = 12;
inline bool is_open(const Crossing& c) {
    return !c.dismissed && (c.visible_parallax_px >= kVisible_px || c.torn_px >= kVisibleTear_px);
}
/// The outcome of a scan.
struct CrossingScan {
    Seconds from{0}, to{0}; ///< what was looked through
    double step_s = 0;
    std::vector<Crossing> crossings; ///< in order of time
    std::string extra_json{};
    bool operator==(const CrossingScan&) const = default;
};

} // namespace porb
