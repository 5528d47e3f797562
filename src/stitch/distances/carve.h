#pragma once

// How far things are from the rig's centre, from what two cameras see; for the files of distances alone.
#include "stitch/strips/strip.h"
#include "stitch/strips/strip_match.h"

#include <array>
#include <cstdint>
#include <span>

namespace porb {

/// A direction from the rig's centre on one strip: where each camera would see a thing at inverse distance
/// rho, as c[0] + (c[1] + c[2] rho) rho. The place bends so little that a parabola through three distances is
/// it.
struct CarveNode {
    std::int32_t cell; ///< of the field
    std::array<float, 3> ax, ay, bx, by;
};
CarveNode carve_node(const Strip& strip, int cell, const Vec3& direction, double most_inverse_m);

/// What both cameras of a strip see: parallax in columns, by a's places and by b's; kNotLooking where that
/// one does not look.
struct CarveMaps {
    cv::Mat of_a, of_b;
};
inline constexpr float kNotLooking = 1e9f;
/// Of parallax and of where each looks (255).
CarveMaps carve_maps(cv::Mat of_a, const cv::Mat& of_b, const cv::Mat& a_looks, const cv::Mat& b_looks);

/// Inverse distance of the first surface in a direction, coming from near: the first place that neither
/// camera sees past. A camera sees past a place whose parallax would be more than what it shows there, so
/// each clears what stands free before it, and what is hidden from one is told by the other (space carving;
/// Kutulakos and Seitz 2000). Looked for from `from` down to `to`, in 1/m; `to` where both see past
/// everything.
float carved(const CarveMaps& maps, const CarveNode& node, float from, float to);

/// The same for many directions side by side: `which` of the nodes, each from and to its own.
struct CarveSearch {
    std::int32_t node;
    float from, to;
};
void carve(const CarveMaps& maps, std::span<const CarveNode> nodes, std::span<const CarveSearch> which,
           std::span<float> out);

/// What was matched by b's places as parallax by a's: what lands on a place, the nearest where several do.
/// What nothing lands on b does not see: it takes the farther neighbour's.
cv::Mat parallax_by_a(const cv::Mat& parallax_by_b);

} // namespace porb
