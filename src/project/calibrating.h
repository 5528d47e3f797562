#pragma once

#include "base/rational.h"
#include "base/shared.h"
#include "optics/rig.h"

#include <string>
#include <string_view>
#include <vector>

namespace porb {

/// Why a point is left out of solves.
enum class DropReason {
    none,      ///< it is used
    residual,  ///< its residual is too large
    third,     ///< contradicts what a third camera sees
    diverging, ///< its rays part: it would lie beyond infinity
    near,      ///< nearer than anything can be
    moves,     ///< no other sample shows it at its place
    by_hand,   ///< a person left it out
    other,     ///< what an earlier or later version wrote; its words are the detail
};
struct Dropped {
    DropReason reason = DropReason::none;
    std::string detail{}; ///< figures, for people
    bool empty() const { return reason == DropReason::none; }
    void clear() { *this = {}; }
    bool operator==(const Dropped&) const = default;
};
/// "residual too large", "by hand": the reason in few words.
std::string words_of(DropReason reason);
/// The reason and its detail as projects hold them, and the way back.
std::string text_of(const Dropped& dropped);
Dropped dropped_from(std::string_view text);

/// One thing that two cameras see at one moment of the shot. Places are source pixels, continuous
/// coordinates.
struct ControlPoint {
    int id = 0; ///< of its own within the shot
    Seconds time{0};
    std::string a, b; ///< cameras
    Vec2 a_px{0, 0}, b_px{0, 0};
    bool by_hand = false;
    double correlation = 0; ///< normalised correlation of the two patches, up to 1
    Dropped dropped;        ///< empty while it is used
    bool operator==(const ControlPoint&) const = default;
};
using ControlPoints = std::vector<ControlPoint>;

/// What a line drawn over a picture follows.
enum class LineKind {
    vertical,   ///< upright in the world
    horizontal, ///< level in the world
    straight,   ///< straight, whichever way it runs
};
/// A line drawn on one camera's picture: two or more places along it, source pixels.
struct LineMark {
    int id = 0;
    LineKind kind = LineKind::vertical;
    Seconds time{0};
    std::string camera;
    std::vector<Vec2> places_px;
    bool found = false;       ///< by the search, not by hand
    std::string extra_json{}; ///< members of its JSON that this version does not know
    bool operator==(const LineMark&) const = default;
};
/// Whether a solve found it, rather than a person or levelling.
inline bool is_solve_edge(const LineMark& l) {
    return l.found && l.kind == LineKind::straight;
}
/// Whether levelling found it.
inline bool is_upright_edge(const LineMark& l) {
    return l.found && l.kind != LineKind::straight;
}

/// Where points are looked for, or not: a closed outline on a camera's picture (source pixels), or on the
/// sphere (longitude and latitude in degrees, in the rig's own directions) when `camera` is empty.
struct PointRegion {
    bool avoid = true; ///< otherwise: only inside regions of this kind
    std::string camera;
    std::vector<Vec2> corners;
    std::string extra_json{};
    bool operator==(const PointRegion&) const = default;
};

/// What a solve may do with a value.
enum class Freedom {
    locked, ///< stays as it is
    shared, ///< one value (or one departure from the start) for all lenses alike
    free,   ///< each camera its own
};

enum class SamplePick {
    even, ///< spread evenly, first and last included
    best, ///< first and last, and between them the sharpest, richest, stillest moments
};

/// How points are looked for and what a solve may change. The strengths say how far a value may well be off
/// before the pictures say anything (one standard deviation).
struct SolveSettings {
    int samples = 5;
    SamplePick pick = SamplePick::even;
    std::vector<Seconds> by_hand; ///< sample times; empty: as above
    Freedom turn = Freedom::free, position = Freedom::free, focal = Freedom::free, centre = Freedom::free,
            distortion = Freedom::free;
    bool straight_edges = true; ///< long edges are looked for and should come out straight
    /// Of a pair that serves an eye each: what turning leaves of vertical disparity is taken out by bending
    /// both lenses gently.
    bool vertical_agreement = true;
    bool depth_per_point = true; ///< each point its own distance; otherwise all at the agree distance
    double turn_sigma_deg = 3, position_sigma_mm = 3, focal_sigma_percent = 1.5, centre_sigma_percent = 0.6,
           distortion_sigma = 0.004;
    double limit_px = 2; ///< points whose residual is above it are dropped
    bool operator==(const SolveSettings&) const = default;
};

/// How sure a solve is of one value.
struct ValueFigure {
    std::string camera,
        name;         ///< "yaw", "pitch", "roll", "x", "y", "z", "focal length", "centre x", "k1", ...
    std::string unit; ///< "deg", "mm", "px", ""
    double value = 0, before = 0, sigma = 0;
    bool determined = true; ///< false: the points say nothing of it, and it was kept near its start
    std::string extra_json{};
    bool operator==(const ValueFigure&) const = default;
};

/// A solved rig with its figures, to compare with and to return to.
struct KeptSolve {
    int id = 0;
    std::string name;
    Rig rig;
    double rms_px = 0, rms_arcmin = 0, rms_before_px = 0;
    int points = 0, dropped = 0;
    std::vector<ValueFigure> values;
    std::string extra_json{};
    bool operator==(const KeptSolve&) const = default;
};

/// The orientation at one moment; between keys it turns smoothly.
struct OrientationKey {
    Seconds time{0};
    Turn turn;
    std::string extra_json{};
    bool operator==(const OrientationKey&) const = default;
};

enum class SteadySource { footage, record };

/// How a shot's shake is taken out. `path` is how the rig turned: at shot time first_s + i * step_s its
/// directions become those of a world that stands still by the rotation vector path[i] (axis times angle,
/// radians).
struct Steady {
    bool on = true;
    SteadySource source = SteadySource::footage;
    double strength = 1; ///< 0 to 1
    bool keep_horizon = true;
    double follow_s = 0; ///< turns slower than about this are followed; 0: locked to one direction
    double readout_s =
        0; ///< from the first row's moment to the last's; a frame's own moment is its middle row's
    double first_s = 0, step_s = 0;
    Shared<std::vector<Vec3>> path;
    std::string extra_json{};
    bool operator==(const Steady&) const = default;
};

} // namespace porb
