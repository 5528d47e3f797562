#pragma once

#include "stitch/compose.h"

#include <array>
#include <span>
#include <vector>

namespace porb {

/// Lengths are told in pixels of a picture 3840 wide, and vertical disparity counts within so many degrees of
/// the horizon.
inline constexpr double kEyePx_deg = 360.0 / 3840, kEyeHorizon_deg = 60;

/// One thing that both eyes show, and what differs between its two pictures.
struct EyePlace {
    Vec3 direction{0, 0, 1};  ///< where the left eye shows it, world axes
    float horizontal_deg = 0; ///< disparity: positive for what is nearer than the convergence distance
    /// Positive where the right eye shows it lower; of a pair of cameras by how much it is off the plane
    /// along which parallax must run.
    float vertical_deg = 0;
    std::array<float, 3> ev{}; ///< R, G, B: by how many stops the right eye is brighter
    float sharper = 0;         ///< how much more fine detail the right eye shows, in powers of two
};

/// Edges beside each other that one eye shows and no camera does, nor the other eye.
struct TornEdge {
    Vec3 direction{0, 0, 1}; ///< world axes, where that eye shows them
    Eye eye = Eye::left;
    double length_px = 0; ///< of a picture 3840 wide
};

/// What was found at one moment.
struct EyeMoment {
    Seconds time{0};
    std::vector<EyePlace> places;
    std::vector<Vec3> tried;    ///< directions with detail in the left eye; the others say nothing
    std::vector<TornEdge> torn; ///< of eyes drawn from distances
};

struct EyeMeasuring {
    int width = 1920;         ///< of the panoramas that are compared
    double apart_deg = 4;     ///< from one place to the next
    double highest_deg = 75;  ///< from the horizon
    double widest_deg = 9;    ///< largest horizontal disparity that is looked for
    double tallest_deg = 2.6; ///< and vertical
    bool torn = true;         ///< whether torn edges are looked for where eyes are drawn from distances
};

/// Compares the left and the right picture of a shot at a moment, place by place: correlation along and
/// across (a patch of 15 pixels), refined by optical flow (Lucas and Kanade 1981), kept where it leads back
/// to where it began. Costs two panoramas and some 0.5 s; looking for torn
/// edges costs one of each camera and of each eye more. Throws Error as compose() does, and Cancelled.
EyeMoment measure_eyes(Composer& composer, const Project& project, const Shot& shot, Seconds time,
                       const EyeMeasuring& how = {}, const Cancel& cancel = {});
/// The same of two panoramas (whole spheres).
EyeMoment compared_eyes(const Picture& left, const Picture& right, const EyeMeasuring& how = {});

/// What a moment comes to.
struct EyeSummary {
    Seconds time{0};
    std::size_t places = 0;
    double told = 0;                            ///< share of what has detail that both eyes show alike
    double vertical_px = 0, vertical_95_px = 0; ///< absolute, within 60 degrees of the horizon, 3840 wide
    double vertical_arcmin = 0;                 ///< the mean again
    double nearest_deg = 0, farthest_deg = 0;   ///< horizontal disparity: all but a hundredth either way
    double outside = 0;                         ///< share of places outside the comfort budget
    std::array<double, 3> ev{};                 ///< medians
    double sharper = 0;                         ///< median, powers of two
    double cut_near = 0; ///< of a half sphere: share of what lies at its rim that is nearer than convergence
    double beyond_infinity = 0; ///< share of places further away than infinity: eyes that were swapped
    double torn_px = 0;         ///< length of edges torn in one eye alone, pixels of a picture 3840 wide
};
EyeSummary summary_of(const EyeMoment& moment, const Shot& shot);
/// Whether more than a fiftieth is outside the budget, or vertical disparity above a pixel on the mean.
inline bool wants_care(const EyeSummary& s) {
    return s.outside > 0.02 || s.vertical_px > 1;
}

/// Parts of the sphere that are told apart: quarters within 30 degrees of the horizon, and what lies above
/// and below them.
enum class EyeRegion { ahead, right, behind, left, above, below };
inline constexpr std::array<const char*, 6> kEyeRegionWords{"ahead", "right", "behind",
                                                            "left",  "above", "below"};
EyeRegion region_of(const Vec3& direction);
/// What the moments come to in each of them, all together; `time` says nothing.
std::array<EyeSummary, 6> by_region(std::span<const EyeMoment> moments, const Shot& shot);

/// The horizontal disparity with which drawn eyes show what the left one shows in a direction (world axes)
/// and what is so far away along its ray (1/m).
double drawn_disparity_deg(const Shot& shot, Seconds time, const Vec3& direction, double inverse_m);

/// Moments to measure over a part of a shot, frames' own: one every `step_s`, at most kMostEyeTimes.
std::vector<Seconds> eye_times(Seconds in, Seconds out, FrameRate rate, double step_s);
inline constexpr double kEyeStep_s = 1;
inline constexpr int kMostEyeTimes = 400;

/// What a horizontal disparity would be if the eyes did not converge, degrees.
double parallel_disparity_deg(const Shot& shot, Seconds time, double horizontal_deg);

} // namespace porb
