#include "stitch/distances/carve.h"

#include "stitch/distances/edge_smooth.h"
#include "stitch/distances/follow_distance.h"

#include <opencv2/imgproc.hpp>

#include <algorithm>
#include <cmath>

namespace porb {

namespace {

constexpr float kCarveStep = 0.02f; ///< 1/m
constexpr int kHalvings = 5;        ///< of a step, once the surface lies in it
constexpr float kOneSurface = 0.7f; ///< columns: neighbours that differ by more are two things
constexpr float kNotLanded = 0.02f; ///< what counts where nothing landed, against 1
constexpr double kGuideEdge = 5;    ///< grey levels

float along(const std::array<float, 3>& c, float rho) {
    return c[0] + (c[1] + c[2] * rho) * rho;
}

constexpr float kNotLooking = 1e9f;

/// By how much what a camera shows at a place is nearer than `parallax`.
float nearer_than(const cv::Mat& told, const cv::Mat& looks, float x, float y, float parallax) {
    const int ix = int(x), iy = int(y);
    if (!(x >= 0 && y >= 0) || ix >= looks.cols || iy >= looks.rows || !looks.ptr<std::uint8_t>(iy)[ix])
        return kNotLooking;
    return read_between(told, x, y) - parallax;
}

/// Whether neither camera sees past the place at `rho`, and one of them looks there.
bool solid(const CarveMaps& maps, const CarveNode& node, float rho) {
    const float ax = along(node.ax, rho), bx = along(node.bx, rho), parallax = bx - ax;
    const float for_b = nearer_than(maps.of_b, maps.b_looks, bx, along(node.by, rho), parallax);
    if (for_b < 0) return false;
    const float for_a = nearer_than(maps.of_a, maps.a_looks, ax, along(node.ay, rho), parallax);
    return for_a >= 0 && std::min(for_a, for_b) < kNotLooking;
}

/// Fills what is below 0 with the farther of its neighbours in the row.
void fill_row(float* row, int columns) {
    for (int x = 0; x < columns;) {
        if (row[x] >= 0) {
            ++x;
            continue;
        }
        int end = x;
        while (end < columns && row[end] < 0) ++end;
        float value = 0;
        if (x > 0 && end < columns)
            value = std::min(row[x - 1], row[end]);
        else if (x > 0 || end < columns)
            value = x > 0 ? row[x - 1] : row[end];
        std::fill(row + x, row + end, value);
        x = end;
    }
}

} // namespace

CarveNode carve_node(const Strip& strip, int cell, const Vec3& direction, double most_inverse_m) {
    CarveNode out{cell, {}, {}, {}, {}};
    const auto follow = [&](const Vec3& pupil_m, std::array<float, 3>& x, std::array<float, 3>& y) {
        const auto at = [&](double rho) { return strip.place((direction - rho * pupil_m).normalized()); };
        const Vec2 far = at(0), mid = (at(most_inverse_m / 2) - far) * 2 / most_inverse_m,
                   nearest = (at(most_inverse_m) - far) / most_inverse_m;
        const Vec2 second = (nearest - mid) * 2 / most_inverse_m, slope = mid - second * (most_inverse_m / 2);
        x = {float(far.x()), float(slope.x()), float(second.x())};
        y = {float(far.y()), float(slope.y()), float(second.y())};
    };
    follow(strip.a_m, out.ax, out.ay);
    follow(strip.b_m, out.bx, out.by);
    return out;
}

float carved(const CarveMaps& maps, const CarveNode& node, float from, float to) {
    float before = from;
    if (solid(maps, node, before)) return from;
    while (before > to) {
        const float rho = std::max(before - kCarveStep, to);
        if (solid(maps, node, rho)) {
            float solid_at = rho, free_at = before;
            for (int k = 0; k < kHalvings; ++k) {
                const float mid = (solid_at + free_at) / 2;
                (solid(maps, node, mid) ? solid_at : free_at) = mid;
            }
            return (solid_at + free_at) / 2;
        }
        before = rho;
    }
    return to;
}

cv::Mat parallax_by_a(const cv::Mat& parallax_by_b, const cv::Mat& a, double smoothing) {
    const int columns = parallax_by_b.cols;
    cv::Mat out(parallax_by_b.size(), CV_32F, cv::Scalar(-1)),
        sure(out.size(), CV_32F, cv::Scalar(double(kNotLanded)));
    for (int y = 0; y < out.rows; ++y) {
        const float* from = parallax_by_b.ptr<float>(y);
        float *to = out.ptr<float>(y), *landed = sure.ptr<float>(y);
        for (int x = 0; x + 1 < columns; ++x) {
            const float first = from[x], second = from[x + 1];
            if (std::abs(first - second) > kOneSurface) continue;
            // A surface between two of b's places, which may lie the other way round for a.
            const float u = float(x) - first, v = float(x + 1) - second;
            const int begin = std::max(0, int(std::ceil(std::min(u, v)))),
                      end = std::min(columns - 1, int(std::floor(std::max(u, v))));
            for (int i = begin; i <= end; ++i) {
                const float value = v != u ? first + (float(i) - u) / (v - u) * (second - first) : first;
                if (value > to[i]) to[i] = std::max(0.0f, value), landed[i] = 1;
            }
        }
        fill_row(to, columns);
    }
    cv::Mat guide; // less noise
    cv::blur(a, guide, cv::Size(3, 3));
    smooth_along_edges(guide, out, sure, smoothing, kGuideEdge);
    return out;
}

} // namespace porb
