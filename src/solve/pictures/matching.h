#pragma once

#include "base/progress.h"
#include "project/calibrating.h"
#include "solve/pictures/grey.h"

namespace porb {

/// How a search goes: how far the present rig may be off, how near things may be, how many points are wanted.
struct MatchOptions {
    double margin_deg = 1.5; ///< across and along the line where a match must lie
    double nearest_m = 0.5;  ///< nothing is nearer to the rig
    int wanted = 140;        ///< points a pair and sample, spread evenly over the overlap
    double least_correlation = 0.82;
};

/// Two places that show the same thing.
struct Match {
    Vec2 a_px, b_px;
    double correlation = 0;
};

/// The place in `b` that shows what `a` shows at `a_px`: looked for along the arc of all distances from
/// `nearest_m` to infinity, from coarse to fine on locally undistorted patches, then by least squares on the
/// finest (translation, gain and offset; Gauss-Newton), and back from b to a. `why_not` says what was
/// missing.
std::optional<Match> match_place(const Eyepiece& a, const Eyepiece& b, const Vec2& a_px,
                                 const MatchOptions& options, std::string* why_not = nullptr);

/// Sub-pixel refinement alone: moves b_px by up to two pixels.
std::optional<Match> refine_match(const Eyepiece& a, const Eyepiece& b, const Vec2& a_px, const Vec2& b_px,
                                  double least_correlation);

/// Corners of one camera's picture worth looking for elsewhere, strongest first (Shi and Tomasi 1994, on the
/// half-size picture), with their rig directions.
struct Corner {
    Vec2 px;
    Vec3 direction;
    float strength;
};
std::vector<Corner> corners_of(const Eyepiece& eye);

/// Whether the regions let a place of a camera (and its direction in the rig) be used.
bool regions_allow(const std::vector<PointRegion>& regions, const std::string& camera, const Vec2& px,
                   const Vec3& direction);

/// Points between two cameras at one sample, spread evenly over their overlap.
std::vector<Match> match_pair(const Eyepiece& a, const Eyepiece& b, const std::vector<Corner>& corners_of_a,
                              const MatchOptions& options, const std::function<bool(const Corner&)>& allowed,
                              const Cancel& cancel);

/// Directions in b's picture where a thing seen at `a_px` lies, for distances from infinity to `nearest_m`:
/// source pixels of b, those it sees only.
std::vector<Vec2> epipolar_arc(const Eyepiece& a, const Eyepiece& b, const Vec2& a_px, double nearest_m);

/// Normalised correlation of two patches of one size; 0 when either is flat.
double correlation(std::span<const float> a, std::span<const float> b);

} // namespace porb
