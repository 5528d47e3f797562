#include "stitch/distances/carve.h"

#include <algorithm>
#include <cmath>

namespace porb {

namespace {

constexpr float kCarveStep = 0.02f; ///< 1/m
constexpr int kHalvings = 5;        ///< of a step, once the surface lies in it
constexpr float kOneSurface = 0.7f; ///< columns: neighbours that differ by more are two things

float along(const std::array<float, 3>& c, float rho) {
    return c[0] + (c[1] + c[2] * rho) * rho;
}

constexpr float kNotLooking = 1e9f;

/// Read between the four places about (x, y), of those that belong to one surface with the nearest of them:
/// what is near is not narrowed by what lies behind it.
float read_surface(const cv::Mat& told, float x, float y) {
    const float px = std::clamp(x - 0.5f, 0.0f, float(told.cols - 1)),
                py = std::clamp(y - 0.5f, 0.0f, float(told.rows - 1));
    const int ix = std::min(int(px), told.cols - 2), iy = std::min(int(py), told.rows - 2);
    const float fx = px - float(ix), fy = py - float(iy);
    const float *p = told.ptr<float>(iy) + ix, *q = told.ptr<float>(iy + 1) + ix;
    const float own = fy < 0.5f ? (fx < 0.5f ? p[0] : p[1]) : (fx < 0.5f ? q[0] : q[1]);
    const float values[4] = {p[0], p[1], q[0], q[1]},
                shares[4] = {(1 - fx) * (1 - fy), fx * (1 - fy), (1 - fx) * fy, fx * fy};
    float sum = 0, all = 0;
    for (int i = 0; i < 4; ++i)
        if (std::abs(values[i] - own) <= kOneSurface) sum += shares[i] * values[i], all += shares[i];
    return sum / all;
}

/// By how much what a camera shows at a place is nearer than `parallax`.
float nearer_than(const cv::Mat& told, const cv::Mat& looks, float x, float y, float parallax) {
    const int ix = int(x), iy = int(y);
    if (!(x >= 0 && y >= 0) || ix >= looks.cols || iy >= looks.rows || !looks.ptr<std::uint8_t>(iy)[ix])
        return kNotLooking;
    // What is read between places of one surface lies this near the nearest of them: mostly that says enough.
    const float about = told.ptr<float>(iy)[ix] - parallax;
    return std::abs(about) > kOneSurface ? about : read_surface(told, x, y) - parallax;
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

cv::Mat parallax_by_a(const cv::Mat& parallax_by_b) {
    const int columns = parallax_by_b.cols;
    cv::Mat out(parallax_by_b.size(), CV_32F, cv::Scalar(-1));
    for (int y = 0; y < out.rows; ++y) {
        const float* from = parallax_by_b.ptr<float>(y);
        float* to = out.ptr<float>(y);
        const auto land = [&](int i, float value) {
            if (i >= 0 && i < columns) to[i] = std::max(to[i], std::max(0.0f, value));
        };
        for (int x = 0; x + 1 < columns; ++x) {
            const float first = from[x], second = from[x + 1], u = float(x) - first,
                        v = float(x + 1) - second;
            if (std::abs(first - second) > kOneSurface) { // two things, each as wide as its places are
                land(int(std::lround(u)), first);
                land(int(std::lround(v)), second);
                continue;
            }
            // A surface between two of b's places, which may lie the other way round for a.
            const int begin = int(std::ceil(std::min(u, v))), end = int(std::floor(std::max(u, v)));
            for (int i = begin; i <= end; ++i)
                land(i, v != u ? first + (float(i) - u) / (v - u) * (second - first) : first);
        }
        fill_row(to, columns);
    }
    return out;
}

} // namespace porb
