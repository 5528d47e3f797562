#include "stitch/distances/eye_field.h"

#include "base/parallel.h"
#include "stitch/distances/occlusion.h"

#include <algorithm>
#include <cmath>
#include <vector>

namespace porb {

namespace {

constexpr int kBoundsBlock = 8; ///< cells a side, of which bounds are kept
constexpr double kAlongCells = 0.6;
constexpr float kOnePiece = 0.01f; ///< 1/m: what differs by less than that is one smooth surface
constexpr double kLeastOrigin_m = 1e-6;

/// The least and the most of blocks of cells, and of those within so many blocks.
struct BlockBounds {
    int blocks;
    std::vector<float> least, most;
};
BlockBounds bounds_within(const SphereGrid& grid, int about) {
    BlockBounds own{(grid.side + kBoundsBlock - 1) / kBoundsBlock, {}, {}};
    const int n = own.blocks;
    own.least.assign(std::size_t(n) * std::size_t(n), 1e9f);
    own.most.assign(own.least.size(), 0);
    parallel_ranges(n, 4, [&](int begin, int end) {
        for (int b = begin; b < end; ++b)
            for (int y = b * kBoundsBlock; y < std::min((b + 1) * kBoundsBlock, grid.side); ++y)
                for (int x = 0; x < grid.side; ++x) {
                    const auto at = std::size_t(b) * std::size_t(n) + std::size_t(x / kBoundsBlock);
                    const float v = grid.cell(x, y)[0];
                    own.least[at] = std::min(own.least[at], v);
                    own.most[at] = std::max(own.most[at], v);
                }
    });
    BlockBounds out = own;
    for (int y = 0; y < n; ++y)
        for (int x = 0; x < n; ++x)
            for (int j = y - about; j <= y + about; ++j)
                for (int i = x - about; i <= x + about; ++i) {
                    // Past an edge the square goes on across its fold, mirrored.
                    int u = i, v = j;
                    if (u < 0 || u >= n) u = u < 0 ? -1 - u : 2 * n - 1 - u, v = n - 1 - v;
                    if (v < 0 || v >= n) v = v < 0 ? -1 - v : 2 * n - 1 - v, u = n - 1 - u;
                    u = std::clamp(u, 0, n - 1), v = std::clamp(v, 0, n - 1);
                    const auto from = std::size_t(v) * std::size_t(n) + std::size_t(u),
                               to = std::size_t(y) * std::size_t(n) + std::size_t(x);
                    out.least[to] = std::min(out.least[to], own.least[from]);
                    out.most[to] = std::max(out.most[to], own.most[from]);
                }
    return out;
}

/// What the centre sees in a direction: between four cells of one thing, else the nearest of them.
struct SeenThere {
    float inverse_m, same;
};
SeenThere seen_at(const SphereGrid& grid, const Vec3& direction) {
    const Vec2 p = octahedral_place(direction) * grid.side - Vec2(0.5, 0.5);
    const int x = std::clamp(int(std::floor(p.x())), -1, grid.side - 1),
              y = std::clamp(int(std::floor(p.y())), -1, grid.side - 1);
    const float fx = float(p.x()) - float(x), fy = float(p.y()) - float(y);
    const float *a = grid.cell(x, y), *b = grid.cell(x + 1, y), *c = grid.cell(x, y + 1),
                *d = grid.cell(x + 1, y + 1);
    const auto [low, high] = std::minmax({a[0], b[0], c[0], d[0]});
    const bool second = grid.channels > 1;
    if (high - low > outline_step(high)) {
        const float* const nearest = fy < 0.5f ? (fx < 0.5f ? a : b) : (fx < 0.5f ? c : d);
        return {nearest[0], second ? nearest[1] : 0};
    }
    const auto between = [&](int k) {
        const float top = a[k] + fx * (b[k] - a[k]), bottom = c[k] + fx * (d[k] - c[k]);
        return top + fy * (bottom - top);
    };
    return {between(0), second ? between(1) : 0};
}

/// Where one ray ends: origin + looks / inverse, of what lies between `least` and `most`.
SeenThere followed(const SphereGrid& grid, const Vec3& looks, const Vec3& origin_m, float least, float most) {
    const auto there = [&](double inverse_m) { return Vec3(looks + inverse_m * origin_m); };
    if (most - least < kOnePiece) {
        double inverse = 0.5 * double(least + most);
        SeenThere seen{};
        for (int round = 0; round < 2; ++round) {
            const Vec3 d = there(inverse);
            seen = seen_at(grid, d);
            inverse = double(seen.inverse_m) * d.norm();
        }
        return {float(inverse), seen.same};
    }
    const double reach = origin_m.norm(), cell = 2.0 / grid.side;
    const double high = double(most) * (1 + double(most) * reach),
                 low = double(least) * (1 - double(least) * reach);
    const int steps = std::max(1, int(std::ceil((high - low) * reach / (kAlongCells * cell))));
    SeenThere before{}, beside{};
    double before_inverse = high;
    bool behind = false; // a near thing, as the centre sees it
    for (int n = 0; n <= steps; ++n) {
        const double inverse = high + (low - high) * n / steps;
        const Vec3 d = there(inverse);
        SeenThere now = seen_at(grid, d);
        now.inverse_m = float(double(now.inverse_m) * d.norm());
        const double over = double(now.inverse_m) - inverse;
        if (over < 0) {
            behind = false;
        } else if (n == 0) {
            return now;
        } else if (!behind && over <= double(outline_step(now.inverse_m))) {
            // Met between the place before and this one.
            const double under = before_inverse - double(before.inverse_m);
            const double share = under + over > 0 ? under / (under + over) : 1;
            const bool jumps = std::abs(now.inverse_m - before.inverse_m) > outline_step(now.inverse_m);
            return {jumps ? now.inverse_m : float(before_inverse + share * (inverse - before_inverse)),
                    now.same};
        } else {
            if (!behind) behind = true, beside = before;
            if (double(beside.inverse_m) >= inverse) return beside;
        }
        before = now, before_inverse = inverse;
    }
    return behind ? beside : before;
}

} // namespace

SphereGrid eye_field(const SphereGrid& from_centre, const RigEyeRays& eye, const SphereBlocks* only) {
    const SphereGrid& grid = from_centre;
    float nearest = 0;
    for (int y = 0; y < grid.side; ++y)
        for (int x = 0; x < grid.side; ++x) nearest = std::max(nearest, grid.cell(x, y)[0]);
    // The centre sees the end of a ray at most so far from where the ray looks.
    const double apart = std::abs(eye.rays.offset_m) * double(nearest), cell = 2.0 / grid.side;
    const BlockBounds bounds = bounds_within(grid, int(std::ceil(apart / (cell * kBoundsBlock))));
    SphereGrid out(grid.side, grid.channels);
    parallel_ranges(grid.side, 8, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < grid.side; ++x) {
                if (only && !only->has_cell(x, y, grid.side)) {
                    std::copy_n(grid.cell(x, y), grid.channels, out.cell(x, y));
                    continue;
                }
                const Vec3 looks = grid.direction(x, y), origin_m = eye.origin_m(looks);
                float* const to = out.cell(x, y);
                if (origin_m.norm() < kLeastOrigin_m) {
                    std::copy_n(grid.cell(x, y), grid.channels, to);
                    continue;
                }
                const auto block = std::size_t(y / kBoundsBlock) * std::size_t(bounds.blocks) +
                                   std::size_t(x / kBoundsBlock);
                const SeenThere seen =
                    followed(grid, looks, origin_m, bounds.least[block], bounds.most[block]);
                to[0] = seen.inverse_m;
                if (grid.channels > 1) to[1] = seen.same;
            }
    });
    out.close_edges();
    return out;
}

} // namespace porb
