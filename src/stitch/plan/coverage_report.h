#pragma once

#include "stitch/plan/plan.h"

#include <array>

namespace porb {

/// How wide two cameras' pictures overlap, along the great circle from one axis to the other.
struct PairOverlap {
    std::size_t a, b; ///< indices into the shot's cameras
    double width_deg;
};

/// Who sees what, in the rig's own directions (the shot's orientation left out).
struct CoverageReport {
    std::array<double, 4> share{};     ///< of the sphere seen by 0, 1, 2, and 3 or more lenses
    std::vector<PairOverlap> overlaps; ///< only pairs that overlap, widest first
    std::vector<Vec3> unseen;          ///< directions nobody sees, spread evenly, at most a few hundred
};
CoverageReport coverage_report(const Shot& shot);

/// What cut-outs leave that nobody shows any more.
struct CutHole {
    double square_deg = 0; ///< of the sphere (which has 41253), to about one
    Vec3 middle{0, 0, 1};  ///< of its largest stretch, about; rig axes
    std::vector<std::string>
        could_fill; ///< cameras whose circles show most of it beyond their reach, best first
};
CutHole cut_hole(const Shot& shot, Seconds time);

/// A small hole about straight up or down, as rings of lenses leave it that see just past the horizon: too
/// fine for the report above, and a row of black pixels in a master.
struct PoleHole {
    bool below = true;               ///< at the nadir; otherwise at the zenith
    double radius_deg = 0;           ///< from the pole to what is seen again, at most kMost_deg
    std::optional<double> reach_deg; ///< that would close it, for all cameras; none: no lens sees there
    static constexpr double kMost_deg = 6;
};
/// Holes of either pole that end within PoleHole::kMost_deg, at the shot's agree distance, in the rig's own
/// directions. Some milliseconds.
std::vector<PoleHole> pole_holes(const Shot& shot);
/// "0.3 degrees about the nadir are seen by no lens: a reach of 92.5 degrees would close it".
std::string words_of(const PoleHole& hole);

/// Where two lenses only just meet: a line too thin for the report above that no lens sees, and dark in a
/// master.
struct Hairline {
    Vec3 at{0, 0, 1};                ///< somewhere on it, rig axes
    std::string a, b;                ///< the cameras that come nearest there
    std::optional<double> reach_deg; ///< that would close it, for both; none: their circles end there
};
/// The first that is found, away from the poles, at the shot's agree distance; none for pairs that serve an
/// eye each, which see half a sphere. Some milliseconds where lenses overlap well, a tenth of a second where
/// they barely do.
std::optional<Hairline> hairline(const Shot& shot);
/// "A and B only just meet (yaw 90, pitch 0): ...".
std::string words_of(const Hairline& line);

/// The cameras that meet on seams, by their ids, those with the longest seams first.
std::vector<std::pair<std::string, std::string>> meeting_cameras(const Shot& shot);

} // namespace porb
