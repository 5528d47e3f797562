#pragma once

#include "optics/rig.h"
#include "picture/picture.h"

#include <Eigen/Geometry>

#include <algorithm>
#include <vector>

namespace porb {

/// Brightness of a picture (Rec. 709 luma of the encoded values), one float a pixel. Places are continuous
/// coordinates, as everywhere.
struct Grey {
    int width = 0, height = 0;
    std::vector<float> v;

    float at(int x, int y) const { return v[std::size_t(y) * std::size_t(width) + std::size_t(x)]; }
    /// Bilinear, clamped at the edges.
    float sample(double x, double y) const {
        // In this order a place that is not a number becomes the edge, not an address.
        const double cx = std::min(double(width - 1), std::max(0.0, x - 0.5)),
                     cy = std::min(double(height - 1), std::max(0.0, y - 0.5));
        const int ix = std::min(int(cx), std::max(0, width - 2)),
                  iy = std::min(int(cy), std::max(0, height - 2));
        const float fx = float(cx - ix), fy = float(cy - iy);
        const float* p = &v[std::size_t(iy) * std::size_t(width) + std::size_t(ix)];
        const std::size_t down = height > 1 ? std::size_t(width) : 0, right = width > 1 ? 1 : 0;
        const float top = p[0] + fx * (p[right] - p[0]), low = p[down] + fx * (p[down + right] - p[down]);
        return top + fy * (low - top);
    }
};

Grey grey_of(const Picture& picture);
/// Half the size, each pixel the mean of four; odd edges are left out.
Grey halved(const Grey& grey);

/// A picture and its halves, down to about 60 pixels.
struct GreyPyramid {
    std::vector<Grey> levels;
    explicit GreyPyramid(Grey full);
};

/// A camera ready to be looked through: its lens, where its directions lie in the rig, and what it saw.
struct Eyepiece {
    std::size_t index = 0; ///< into the rig's cameras
    Lens lens;
    LensMap map;
    Mat3 to_rig;
    Vec3 position;
    const GreyPyramid* pictures = nullptr;

    Eyepiece(const Rig& rig, std::size_t camera, const GreyPyramid* seen);
    Vec2 place_of(const Vec3& rig_direction) const {
        return map.project_anywhere(to_rig.transpose() * rig_direction);
    }
    /// Whether a rig direction is seen with that many pixels to spare; with its place.
    std::optional<Vec2> sees(const Vec3& rig_direction, double spare_px) const;
    /// The rig direction behind a pixel, or nothing outside the circle.
    std::optional<Vec3> direction(const Vec2& px) const;
};

/// A small flat piece of the sphere: directions c + x e1 + y e2, with x and y in steps.
struct Tangent {
    Vec3 c, e1, e2; ///< unit and orthogonal
    double step_rad = 0;
    Vec3 direction(double x, double y) const {
        return (c + x * step_rad * e1 + y * step_rad * e2).normalized();
    }
};
/// The piece about `c` whose e1 runs along `along` (any vector not parallel to c).
Tangent tangent_at(const Vec3& c, const Vec3& along, double step_rad);

/// (2 half_w + 1) x (2 half_h + 1) samples of the tangent as one camera sees it, row by row, about (x0, y0)
/// in steps. Taken from the pyramid's level that fits the step. False when a part of it is not seen; with
/// `past_rim` parts may be unseen (and hold anything), but not far behind the lens.
bool sample_patch(const Eyepiece& eye, const Tangent& tangent, double x0, double y0, int half_w, int half_h,
                  std::vector<float>& out, bool past_rim = false);

} // namespace porb
