#include "stitch/distances/follow_distance.h"

#include "base/smooth.h"

#include <algorithm>
#include <cmath>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "stitch/distances/follow_distance.cpp"
#include <hwy/foreach_target.h>
// must come after foreach_target.h
#include <hwy/highway.h>

#include "stitch/distances/strip_read-inl.h"

#ifndef PORB_FOLLOW_DISTANCE_COMMON
#define PORB_FOLLOW_DISTANCE_COMMON
namespace porb {

inline constexpr int kFollowRounds = 5;  // until direction from the centre and distance agree
inline constexpr float kSettled = 2e-5f; // 1/m, from one round to the next

/// A strip and what was matched on it, as kernels want them.
struct StripReading {
    const float *parallax, *correlation, *same, *sines, *cosines;
    int width, height;
    float step, b2_m2, most_inverse_m;
};

} // namespace porb
#endif

HWY_BEFORE_NAMESPACE();
namespace porb::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

using D = hn::ScalableTag<float>;
using Di = hn::RebindToSigned<D>;
using V = hn::Vec<D>;
using Vi = hn::Vec<Di>;

/// Places among those of a strip: the first of the four around each, and how far past it.
struct Among {
    Vi first;
    V fx, fy;
};
HWY_ATTR inline Among among(const StripReading& r, V x, V y) {
    const D d;
    const Di di;
    Vi ix, iy;
    Among out;
    out.fx = between_places(d, di, x, r.width, ix);
    out.fy = between_places(d, di, y, r.height, iy);
    out.first = hn::Add(hn::Mul(iy, hn::Set(di, r.width)), ix);
    return out;
}
HWY_ATTR inline V read(const float* told, int width, const Among& at) {
    const D d;
    const auto row = [&](const float* from) HWY_ATTR {
        const V left = hn::GatherIndex(d, from, at.first), right = hn::GatherIndex(d, from + 1, at.first);
        return hn::MulAdd(at.fx, hn::Sub(right, left), left);
    };
    const V top = row(told), low = row(told + width);
    return hn::MulAdd(at.fy, hn::Sub(low, top), top);
}

/// As Strip::distance_from_b().
HWY_ATTR inline V from_b(const StripReading& r, V x, V shift) {
    const D d;
    const Di di;
    const Vi i = hn::Min(hn::Max(hn::ConvertTo(di, x), hn::Zero(di)), hn::Set(di, r.width - 1));
    const V f = hn::Sub(x, hn::ConvertTo(d, i)), s2 = hn::Mul(shift, shift);
    const auto at = [&](const float* table) HWY_ATTR {
        const V a = hn::GatherIndex(d, table, i), b = hn::GatherIndex(d, table + 1, i);
        return hn::MulAdd(f, hn::Sub(b, a), a);
    };
    const V bent = hn::MulAdd(s2, hn::Set(d, 1.0f / 45), hn::Set(d, 1.0f / 3));
    const V cot = hn::Div(hn::NegMulAdd(s2, bent, hn::Set(d, 1.0f)), shift);
    return hn::Max(hn::Zero(d), hn::MulSub(at(r.sines), cot, at(r.cosines)));
}

/// Whole vectors of nodes, as many as fit into `count`; returns how many were done.
HWY_ATTR std::size_t FollowDistances(const StripReading& r, const StripNodes& nodes, std::size_t first,
                                     const float* from, std::size_t count, DistanceSample* out) {
    const D d;
    const std::size_t n = hn::Lanes(d);
    const V most = hn::Set(d, r.most_inverse_m), nearest_m = hn::Set(d, 1 / r.most_inverse_m),
            least = hn::Set(d, kLeastShift_rad), step = hn::Set(d, r.step);
    std::size_t i = 0;
    for (; i + n <= count; i += n) {
        const auto load = [&](const std::vector<float>& column)
                              HWY_ATTR { return hn::LoadU(d, column.data() + first + i); };
        const V x0 = load(nodes.x[0]), x1 = load(nodes.x[1]), x2 = load(nodes.x[2]), y0 = load(nodes.y[0]),
                y1 = load(nodes.y[1]), y2 = load(nodes.y[2]), along = load(nodes.along_b);
        const V over = hn::MulSub(along, along, hn::Set(d, r.b2_m2));
        V rho = hn::LoadU(d, from + i);
        auto moving = hn::Eq(rho, rho);
        Among at{};
        for (int round = 0; round < kFollowRounds && !hn::AllFalse(d, moving); ++round) {
            const V x = hn::MulAdd(hn::MulAdd(x2, rho, x1), rho, x0),
                    y = hn::MulAdd(hn::MulAdd(y2, rho, y1), rho, y0);
            at = among(r, x, y); // of one that has settled: where it settled, but for what that is off by
            const V shift = hn::Mul(step, read(r.parallax, r.width, at));
            const V far = from_b(r, x, hn::Max(shift, least));
            const V centre = hn::Add(along, hn::Sqrt(hn::Max(hn::Zero(d), hn::MulAdd(far, far, over))));
            V next = hn::Div(hn::Set(d, 1.0f), hn::Max(centre, nearest_m));
            next = hn::IfThenElse(hn::Gt(shift, least), hn::Min(next, most), hn::Zero(d));
            const auto off = hn::Ge(hn::Abs(hn::Sub(next, rho)), hn::Set(d, kSettled));
            rho = hn::IfThenElse(moving, next, rho);
            moving = hn::And(moving, off);
        }
        alignas(64) float inverse[HWY_MAX_BYTES / 4], correlation[HWY_MAX_BYTES / 4], same[HWY_MAX_BYTES / 4];
        hn::StoreU(rho, d, inverse);
        hn::StoreU(read(r.correlation, r.width, at), d, correlation);
        hn::StoreU(read(r.same, r.width, at), d, same);
        for (std::size_t k = 0; k < n; ++k) out[i + k] = {inverse[k], correlation[k], same[k]};
    }
    return i;
}

} // namespace porb::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace porb {

HWY_EXPORT(FollowDistances);

void StripNodes::add(const Strip& strip, int field_cell, const Vec3& direction, double most_inverse_m,
                     const Near& near) {
    const auto at = [&](double rho) { return strip.place((direction - rho * strip.b_m).normalized()); };
    const Vec2 far = at(0), mid = (at(most_inverse_m / 2) - far) * 2 / most_inverse_m,
               nearest = (at(most_inverse_m) - far) / most_inverse_m;
    const Vec2 second = (nearest - mid) * 2 / most_inverse_m, slope = mid - second * (most_inverse_m / 2);
    for (std::size_t k = 0; k < 3; ++k) {
        const Vec2& term = k == 0 ? far : k == 1 ? slope : second;
        x[k].push_back(float(term.x()));
        y[k].push_back(float(term.y()));
    }
    along_b.push_back(float(direction.dot(strip.b_m)));
    cell.push_back(field_cell);
    away_deg.push_back(near.away_deg);
    may.push_back(near.may);
    clear.push_back(near.clear);
    wide_mix.push_back(near.wide_mix);
}

float StripNodes::share(std::size_t node, double zone_deg) const {
    return float(smooth(2 * (1 - double(away_deg[node]) / zone_deg))) * may[node];
}

float StripNodes::mix(std::size_t node, float share_there) const {
    return std::max(share_there, wide_mix[node]) * clear[node];
}

DistanceSample follow_distance(const Strip& strip, const StripMatch& says, const StripNodes& nodes,
                               std::size_t node, float from_inverse_m, float most_inverse_m) {
    const float along = nodes.along_b[node];
    float rho = from_inverse_m, x = 0, y = 0;
    for (int round = 0; round < kFollowRounds; ++round) {
        x = nodes.x[0][node] + (nodes.x[1][node] + nodes.x[2][node] * rho) * rho;
        y = nodes.y[0][node] + (nodes.y[1][node] + nodes.y[2][node] * rho) * rho;
        const float shift = float(strip.step) * read_between(says.parallax, x, y);
        float next = 0;
        if (shift > kLeastShift_rad) {
            const float far = strip.distance_from_b(x, shift); // from b, and so from the centre:
            const float under = along * along + far * far - float(strip.b_m.squaredNorm());
            const float from_centre = along + std::sqrt(std::max(0.0f, under));
            next = from_centre > 1 / most_inverse_m ? 1 / from_centre : most_inverse_m;
        }
        const bool settled = std::abs(next - rho) < kSettled;
        rho = next;
        if (settled) break;
    }
    return {rho, read_between(says.correlation, x, y), read_between(says.same, x, y)};
}

void follow_distances(const Strip& strip, const StripMatch& says, const StripNodes& nodes, std::size_t first,
                      std::span<const float> from_inverse_m, float most_inverse_m,
                      std::span<DistanceSample> out) {
    const StripReading reading{says.parallax.ptr<float>(),
                               says.correlation.ptr<float>(),
                               says.same.ptr<float>(),
                               strip.sines.data(),
                               strip.cosines.data(),
                               strip.width,
                               strip.height,
                               float(strip.step),
                               float(strip.b_m.squaredNorm()),
                               most_inverse_m};
    const std::size_t done = HWY_DYNAMIC_DISPATCH(FollowDistances)(
        reading, nodes, first, from_inverse_m.data(), out.size(), out.data());
    for (std::size_t i = done; i < out.size(); ++i)
        out[i] = follow_distance(strip, says, nodes, first + i, from_inverse_m[i], most_inverse_m);
}

} // namespace porb
#endif
