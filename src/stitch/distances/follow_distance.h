#pragma once

// How far things are in many directions, told from a strip's parallax; for the files of distances alone.
#include "stitch/strips/strip.h"
#include "stitch/strips/strip_match.h"

#include <algorithm>
#include <cstdint>
#include <span>
#include <vector>

namespace porb {

/// Directions near a seam that are looked up on one strip: a column of numbers each, so that many are
/// followed side by side.
struct StripNodes {
    std::vector<std::int32_t> cell; ///< of the field
    std::vector<float> away_deg;    ///< from the seam, as zones count
    std::vector<float> may;         ///< of the found distance at most: less where a lens ends
    std::vector<float> clear;       ///< of shapes, where nothing is mixed
    std::vector<float> wide_mix; ///< how far pictures that show the same are mixed whatever the zone's width
    /// Where b sees the direction on the strip at inverse distance rho: x[0] + (x[1] + x[2] rho) rho. The
    /// place bends so little that a parabola through three distances is it.
    std::vector<float> x[3], y[3];
    std::vector<float> along_b; ///< of the direction, metres: b's entrance pupil projected on it

    std::size_t size() const { return cell.size(); }
    std::size_t bytes() const { return size() * (sizeof(std::int32_t) + 11 * sizeof(float)); }
    /// A direction in rig axes, followed as near as 1 / `most_inverse_m`.
    struct Near {
        float away_deg = 0, may = 1, clear = 1, wide_mix = 0;
    };
    void add(const Strip& strip, int field_cell, const Vec3& direction, double most_inverse_m,
             const Near& near);
    /// Of a node's found distance what counts in a zone of that width, the rest is the agree distance's: all
    /// of it within half the zone, none at its end.
    float share(std::size_t node, double zone_deg) const;
    /// How far pictures that show the same are mixed where that much of the found distance counts.
    float mix(std::size_t node, float share_there) const;
};

/// What was told in a direction.
struct DistanceSample {
    float inverse_m = 0; ///< from the rig's centre
    float correlation = 0, same = 0;
};

/// For the nodes `first` and on, one for each of `out`: the distance whose place on the strip has the
/// parallax that says so, found by going back and forth between the two, beginning at `from_inverse_m`; none
/// is nearer than 1 / `most_inverse_m`.
void follow_distances(const Strip& strip, const StripMatch& says, const StripNodes& nodes, std::size_t first,
                      std::span<const float> from_inverse_m, float most_inverse_m,
                      std::span<DistanceSample> out);

/// The same, one by one and without vectors: what the other is tested against.
DistanceSample follow_distance(const Strip& strip, const StripMatch& says, const StripNodes& nodes,
                               std::size_t node, float from_inverse_m, float most_inverse_m);

/// Less parallax (radians) is infinitely far.
inline constexpr float kLeastShift_rad = 1e-6f;

/// Of what is told at a strip's places, read between them; continuous coordinates, `told` in one piece.
inline float read_between(const cv::Mat& told, float x, float y) {
    const float cx = std::clamp(x - 0.5f, 0.0f, float(told.cols - 1)),
                cy = std::clamp(y - 0.5f, 0.0f, float(told.rows - 1));
    const int ix = std::min(int(cx), told.cols - 2), iy = std::min(int(cy), told.rows - 2);
    const float fx = cx - float(ix), fy = cy - float(iy);
    const float *p = told.ptr<float>(iy) + ix, *q = told.ptr<float>(iy + 1) + ix;
    const float top = p[0] + fx * (p[1] - p[0]), low = q[0] + fx * (q[1] - q[0]);
    return top + fy * (low - top);
}

} // namespace porb
