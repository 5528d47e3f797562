#pragma once

#include "patch/surface_views.h"

namespace porb {

/// A clean picture of a patch's place, in its square. Alpha is 0 where nothing is known.
/// All of these throw Error as compose() does, and Cancelled; `tell` gets shares from 0 to 1.

/// The footage of a moment, below all patches.
Picture moment_plate(Composer& composer, const Project& project, const Shot& shot, const Patch& patch,
                     Seconds time, const Cancel& cancel = {});
/// The median of the footage over moments: who passes by vanishes. At most kMostPlateTimes of them.
Picture median_plate(Composer& composer, const Project& project, const Shot& shot, const Patch& patch,
                     std::span<const Seconds> times, const TellShare& tell = {}, const Cancel& cancel = {});
inline constexpr std::size_t kMostPlateTimes = 15;
/// Evenly spaced, ends included.
std::vector<Seconds> plate_times(Seconds in, Seconds out, FrameRate rate, std::size_t count);

/// What lies on a patch's surface, from all cameras that see it: a stand between it and one of them is at
/// another place of it to the next, so where cameras agree it is the surface itself.
struct NeighbourPlate {
    Picture plate; ///< alpha: 1 where it is known
    /// By pixel, 0 to 1: how surely something stands before the surface in some camera, or all differ.
    std::vector<float> obstructed;
    /// By pixel: how many cameras agree on what is seen.
    std::vector<std::uint8_t> agreeing;
};
NeighbourPlate neighbour_plate(Composer& composer, const Project& project, const Shot& shot,
                               const Patch& patch, std::span<const Seconds> times, const TellShare& tell = {},
                               const Cancel& cancel = {});

/// The same place in another shot, in this patch's square: `patch` as it lies in `other` there.
struct RegisteredPlate {
    Picture plate;
    int matches = 0;                       ///< features of the ground that lie on each other
    double residual_px = 0;                ///< their RMS in pixels of the square
    Mat3 other_to_this = Mat3::Identity(); ///< homography of the square's pixels
};
/// Takes another shot's plate (its median over `times`), registered on the ground by its own features (SIFT,
/// a homography by random samples). Throws Error when too little of the ground is seen in both.
RegisteredPlate shot_plate(Composer& composer, const Project& project, const Shot& shot, const Patch& patch,
                           Seconds time, const Shot& other, std::span<const Seconds> times,
                           const TellShare& tell = {}, const Cancel& cancel = {});
/// The homography that takes pixels of one square to the same ground in another.
RegisteredPlate registered(const Picture& other, const Picture& here);

} // namespace porb
