#include "stitch/distances/carve.h"

#include <algorithm>
#include <cmath>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "stitch/distances/carve.cpp"
#include <hwy/foreach_target.h>
// must come after foreach_target.h
#include <hwy/highway.h>

#include "stitch/distances/strip_read-inl.h"

#ifndef PORB_CARVE_COMMON
#define PORB_CARVE_COMMON
namespace porb {

inline constexpr float kCarveStep = 0.02f; // 1/m
inline constexpr int kHalvings = 5;        // of a step, once the surface lies in it
inline constexpr float kOneSurface = 0.7f; // columns: neighbours that differ by more are two things

/// Parallax by a camera's places, as kernels want it.
struct CarveMap {
    const float* told;
    int width, height;
};

} // namespace porb
#endif

HWY_BEFORE_NAMESPACE();
namespace porb::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

using D = hn::CappedTag<float, 16>;
using Di = hn::RebindToSigned<D>;
using V = hn::Vec<D>;
using Vi = hn::Vec<Di>;
using Mask = hn::Mask<D>;

/// As read_surface().
HWY_ATTR inline V ReadSurface(const CarveMap& map, V x, V y) {
    const D d;
    const Di di;
    Vi ix, iy;
    const V fx = between_places(d, di, x, map.width, ix), fy = between_places(d, di, y, map.height, iy),
            one = hn::Set(d, 1.0f), half = hn::Set(d, 0.5f);
    const Vi first = hn::Add(hn::Mul(iy, hn::Set(di, map.width)), ix);
    const V v0 = hn::GatherIndex(d, map.told, first), v1 = hn::GatherIndex(d, map.told + 1, first),
            v2 = hn::GatherIndex(d, map.told + map.width, first),
            v3 = hn::GatherIndex(d, map.told + map.width + 1, first);
    const Mask left = hn::Lt(fx, half);
    const V own =
        hn::IfThenElse(hn::Lt(fy, half), hn::IfThenElse(left, v0, v1), hn::IfThenElse(left, v2, v3));
    const V gx = hn::Sub(one, fx), gy = hn::Sub(one, fy);
    V sum = hn::Zero(d), all = hn::Zero(d);
    const auto add = [&](V value, V share) HWY_ATTR {
        const V counts =
            hn::IfThenElseZero(hn::Le(hn::Abs(hn::Sub(value, own)), hn::Set(d, kOneSurface)), share);
        sum = hn::MulAdd(counts, value, sum);
        all = hn::Add(all, counts);
    };
    add(v0, hn::Mul(gx, gy));
    add(v1, hn::Mul(fx, gy));
    add(v2, hn::Mul(gx, fy));
    add(v3, hn::Mul(fx, fy));
    return hn::Div(sum, all);
}

/// As nearer_than().
HWY_ATTR inline V NearerThan(const CarveMap& map, V x, V y, V parallax, Mask asked) {
    const D d;
    const Di di;
    const V zero = hn::Zero(d);
    const Mask inside =
        hn::And(hn::And(hn::Ge(x, zero), hn::Ge(y, zero)),
                hn::And(hn::Lt(x, hn::Set(d, float(map.width))), hn::Lt(y, hn::Set(d, float(map.height)))));
    const Vi at = hn::Add(hn::Mul(hn::ConvertTo(di, hn::IfThenElseZero(inside, y)), hn::Set(di, map.width)),
                          hn::ConvertTo(di, hn::IfThenElseZero(inside, x)));
    const V there = hn::GatherIndex(d, map.told, at), looks = hn::Set(d, kNotLooking);
    const Mask sees = hn::And(inside, hn::Lt(there, looks));
    V nearer = hn::Sub(there, parallax);
    const Mask about = hn::And(hn::And(sees, asked), hn::Le(hn::Abs(nearer), hn::Set(d, kOneSurface)));
    if (!hn::AllFalse(d, about))
        nearer = hn::IfThenElse(about, hn::Sub(ReadSurface(map, x, y), parallax), nearer);
    return hn::IfThenElse(sees, nearer, looks);
}

/// A vector of nodes, whole or in part.
struct Places {
    V ax[3], ay[3], bx[3], by[3];
};
HWY_ATTR inline V Along(const V* c, V rho) {
    return hn::MulAdd(hn::MulAdd(c[2], rho, c[1]), rho, c[0]);
}

/// As solid(), for those that are asked.
HWY_ATTR inline Mask Solid(const CarveMap& of_a, const CarveMap& of_b, const Places& p, V rho, Mask asked) {
    const D d;
    const V ax = Along(p.ax, rho), bx = Along(p.bx, rho), parallax = hn::Sub(bx, ax), zero = hn::Zero(d);
    const V for_b = NearerThan(of_b, bx, Along(p.by, rho), parallax, asked);
    const Mask maybe = hn::And(asked, hn::Ge(for_b, zero));
    if (hn::AllFalse(d, maybe)) return maybe;
    const V for_a = NearerThan(of_a, ax, Along(p.ay, rho), parallax, maybe);
    return hn::And(hn::And(maybe, hn::Ge(for_a, zero)),
                   hn::Lt(hn::Min(for_a, for_b), hn::Set(d, kNotLooking)));
}

/// As carved(), `count` at once: no more than fit into a vector.
HWY_ATTR inline void CarveVector(const CarveMap& of_a, const CarveMap& of_b, const CarveNode* nodes,
                                 const CarveSearch* which, std::size_t count, float* out) {
    const D d;
    constexpr std::size_t kMost = 16;
    alignas(64) float columns[12][kMost], from[kMost], to[kMost];
    for (std::size_t i = 0; i < hn::Lanes(d); ++i) {
        const CarveSearch& s = which[i < count ? i : 0];
        const CarveNode& node = nodes[s.node];
        for (std::size_t k = 0; k < 3; ++k) {
            columns[k][i] = node.ax[k], columns[3 + k][i] = node.ay[k];
            columns[6 + k][i] = node.bx[k], columns[9 + k][i] = node.by[k];
        }
        from[i] = s.from, to[i] = s.to;
    }
    Places p;
    for (int k = 0; k < 3; ++k) {
        p.ax[k] = hn::Load(d, columns[k]), p.ay[k] = hn::Load(d, columns[3 + k]);
        p.bx[k] = hn::Load(d, columns[6 + k]), p.by[k] = hn::Load(d, columns[9 + k]);
    }
    const V end = hn::Load(d, to), step = hn::Set(d, kCarveStep);
    V free_at = hn::Load(d, from), found = free_at;
    const Mask everyone = hn::FirstN(d, count);
    const Mask at_once = Solid(of_a, of_b, p, free_at, everyone);
    Mask going = hn::AndNot(at_once, everyone), landed = hn::FirstN(d, 0);
    V solid_at = end;
    while (true) {
        found = hn::IfThenElse(hn::AndNot(hn::Gt(free_at, end), going), end, found);
        going = hn::And(going, hn::Gt(free_at, end));
        if (hn::AllFalse(d, going)) break;
        const V next = hn::Max(hn::Sub(free_at, step), end);
        const Mask solid = Solid(of_a, of_b, p, next, going);
        solid_at = hn::IfThenElse(solid, next, solid_at);
        landed = hn::Or(landed, solid);
        going = hn::AndNot(solid, going);
        free_at = hn::IfThenElse(going, next, free_at);
    }
    if (!hn::AllFalse(d, landed)) {
        const V half = hn::Set(d, 0.5f);
        for (int k = 0; k < kHalvings; ++k) {
            const V mid = hn::Mul(hn::Add(solid_at, free_at), half);
            const Mask solid = Solid(of_a, of_b, p, mid, landed);
            solid_at = hn::IfThenElse(solid, mid, solid_at);
            free_at = hn::IfThenElse(solid, free_at, mid);
        }
        found = hn::IfThenElse(landed, hn::Mul(hn::Add(solid_at, free_at), half), found);
    }
    alignas(64) float told[kMost];
    hn::Store(found, d, told);
    for (std::size_t i = 0; i < count; ++i) out[i] = told[i];
}

HWY_ATTR void Carve(const CarveMap& of_a, const CarveMap& of_b, const CarveNode* nodes,
                    const CarveSearch* which, std::size_t count, float* out) {
    const std::size_t n = hn::Lanes(D());
    for (std::size_t i = 0; i < count; i += n)
        CarveVector(of_a, of_b, nodes, which + i, count - i < n ? count - i : n, out + i);
}

} // namespace porb::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace porb {

HWY_EXPORT(Carve);

namespace {

float along(const std::array<float, 3>& c, float rho) {
    return c[0] + (c[1] + c[2] * rho) * rho;
}

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
float nearer_than(const cv::Mat& told, float x, float y, float parallax) {
    const int ix = int(x), iy = int(y);
    if (!(x >= 0 && y >= 0) || ix >= told.cols || iy >= told.rows) return kNotLooking;
    const float there = told.ptr<float>(iy)[ix];
    if (there >= kNotLooking) return kNotLooking;
    // What is read between places of one surface lies this near the nearest of them: mostly that says enough.
    return std::abs(there - parallax) > kOneSurface ? there - parallax : read_surface(told, x, y) - parallax;
}

/// Whether neither camera sees past the place at `rho`, and one of them looks there.
bool solid(const CarveMaps& maps, const CarveNode& node, float rho) {
    const float ax = along(node.ax, rho), bx = along(node.bx, rho), parallax = bx - ax;
    const float for_b = nearer_than(maps.of_b, bx, along(node.by, rho), parallax);
    if (for_b < 0) return false;
    const float for_a = nearer_than(maps.of_a, ax, along(node.ay, rho), parallax);
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

CarveMaps carve_maps(cv::Mat of_a, const cv::Mat& of_b, const cv::Mat& a_looks, const cv::Mat& b_looks) {
    CarveMaps out{std::move(of_a), of_b.clone()};
    out.of_a.setTo(kNotLooking, ~a_looks);
    out.of_b.setTo(kNotLooking, ~b_looks);
    return out;
}

void carve(const CarveMaps& maps, std::span<const CarveNode> nodes, std::span<const CarveSearch> which,
           std::span<float> out) {
    const auto kernel_map = [](const cv::Mat& m) { return CarveMap{m.ptr<float>(), m.cols, m.rows}; };
    CV_Assert(maps.of_a.isContinuous() && maps.of_b.isContinuous());
    HWY_DYNAMIC_DISPATCH(Carve)
    (kernel_map(maps.of_a), kernel_map(maps.of_b), nodes.data(), which.data(), which.size(), out.data());
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
#endif
