#include "stitch/distances/silhouettes.h"

#include "base/parallel.h"
#include "stitch/distances/occlusion.h"

#include <opencv2/imgproc.hpp>

#include <algorithm>
#include <cmath>
#include <limits>

namespace porb {

namespace {

constexpr double kSigmaOfSoft = 0.8, kLeastSigma_cells = 0.5;
constexpr int kMostReach = 5;

/// What each side is like at a cell, from those about it: one cell further than shares go.
Silhouettes::Cell sides_of(const SphereGrid& field, std::span<const std::uint64_t> hidden, int x, int y,
                           std::span<const float> weights) {
    const int side = field.side, reach = int(weights.size()) - 1;
    const int left = std::max(-1, x - reach - 1), right = std::min(side, x + reach + 1),
              top = std::max(-1, y - reach - 1), bottom = std::min(side, y + reach + 1);
    float low = field.cell(x, y)[0], high = low;
    for (int v = top; v <= bottom; ++v)
        for (int u = left; u <= right; ++u) {
            low = std::min(low, field.cell(u, v)[0]);
            high = std::max(high, field.cell(u, v)[0]);
        }
    Silhouettes::Cell out{};
    int near_by = std::numeric_limits<int>::max(), far_by = near_by;
    float near_share = 0, all = 0;
    for (int v = top; v <= bottom; ++v)
        for (int u = left; u <= right; ++u) {
            const int i = std::abs(u - x), j = std::abs(v - y);
            const float inverse_m = field.cell(u, v)[0];
            const bool near = inverse_m > (low + high) / 2;
            if (i <= reach && j <= reach) {
                const float w = weights[std::size_t(i)] * weights[std::size_t(j)];
                all += w;
                if (near) near_share += w;
            }
            int& nearest = near ? near_by : far_by;
            if (i * i + j * j >= nearest) continue;
            nearest = i * i + j * j;
            const auto cell = std::size_t(v + 1) * std::size_t(side + 2) + std::size_t(u + 1);
            (near ? out.near : out.far) = {inverse_m, hidden.empty() ? 0 : hidden[cell]};
        }
    out.share = near_share / all;
    return out;
}

/// Cells before or behind one of the four beside them, and those within `reach` of such (255).
cv::Mat beside_outlines(const SphereGrid& field, int reach) {
    const int side = field.side;
    cv::Mat out = cv::Mat::zeros(side, side, CV_8U);
    parallel_ranges(side, 16, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < side; ++x) {
                const float here = field.cell(x, y)[0];
                for (const float there : {field.cell(x - 1, y)[0], field.cell(x + 1, y)[0],
                                          field.cell(x, y - 1)[0], field.cell(x, y + 1)[0]})
                    if (std::abs(here - there) > outline_step(std::max(here, there)))
                        out.at<std::uint8_t>(y, x) = 255;
            }
    });
    cv::dilate(out, out, cv::Mat::ones(2 * reach + 1, 2 * reach + 1, CV_8U));
    return out;
}

} // namespace

Silhouettes silhouettes_of(const SphereGrid& field, std::span<const std::uint64_t> hidden,
                           std::span<const char> known, double soft_cells) {
    const int side = field.side, wide = side + 2;
    const double sigma = std::max(kLeastSigma_cells, kSigmaOfSoft * soft_cells);
    const int reach = std::clamp(int(std::ceil(1.5 * sigma)), 1, kMostReach);
    std::vector<float> weights;
    for (int i = 0; i <= reach; ++i) weights.push_back(float(std::exp(-0.5 * i * i / sigma / sigma)));
    const cv::Mat beside = beside_outlines(field, reach);
    std::vector<std::vector<std::pair<std::int32_t, Silhouettes::Cell>>> rows{std::size_t(side)};
    parallel_ranges(side, 16, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < side; ++x) {
                if (!beside.at<std::uint8_t>(y, x)) continue;
                if (!known.empty() && !known[std::size_t(y * side + x)]) continue;
                rows[std::size_t(y)].emplace_back((y + 1) * wide + x + 1,
                                                  sides_of(field, hidden, x, y, weights));
            }
    });
    Silhouettes out;
    std::size_t count = 0;
    for (const auto& row : rows) count += row.size();
    if (count == 0) return out;
    out.at.assign(std::size_t(wide) * std::size_t(wide), -1);
    out.cells.reserve(count);
    for (const auto& row : rows)
        for (const auto& [cell, sides] : row) {
            out.at[std::size_t(cell)] = std::int32_t(out.cells.size());
            out.cells.push_back(sides);
        }
    repeat_across_folds(side, 1, out.at);
    return out;
}

OutlineBlocks outline_blocks(int side, std::span<const std::uint64_t> hidden,
                             const Silhouettes& silhouettes) {
    constexpr int size = 1 << OutlineBlocks::kShift;
    const int wide = side + 2, along = OutlineBlocks::blocks_along(side);
    OutlineBlocks out;
    out.beside.assign(std::size_t(along) * std::size_t(along), 0);
    parallel_ranges(along, 8, [&](int begin, int end) {
        const auto any_in = [&](int left, int right, int y) {
            for (auto i = std::size_t(y) * std::size_t(wide) + std::size_t(left),
                      last = i + std::size_t(right - left);
                 i <= last; ++i)
                if ((!hidden.empty() && hidden[i] != 0) || (!silhouettes.empty() && silhouettes.at[i] >= 0))
                    return true;
            return false;
        };
        for (int by = begin; by < end; ++by)
            for (int bx = 0; bx < along; ++bx) {
                const int left = bx * size, right = std::min(left + size, wide - 1),
                          bottom = std::min((by + 1) * size, wide - 1);
                bool any = false;
                for (int y = by * size; y <= bottom && !any; ++y) any = any_in(left, right, y);
                out.beside[std::size_t(by) * std::size_t(along) + std::size_t(bx)] = any;
            }
    });
    return out;
}

SidesThere sides_between(const Silhouettes& silhouettes, const SphereGrid& field, std::int32_t cell, float fx,
                         float fy) {
    const int wide = field.side + 2;
    const std::int32_t cells[4] = {cell, cell + 1, cell + wide, cell + wide + 1};
    const float shares[4] = {(1 - fx) * (1 - fy), fx * (1 - fy), (1 - fx) * fy, fx * fy};
    float near_share = 0;
    int known = 0;
    for (const std::int32_t c : cells)
        if (const std::int32_t n = silhouettes.at[std::size_t(c)]; n >= 0)
            near_share += silhouettes.cells[std::size_t(n)].share, ++known;
    const float others = 2 * near_share > float(known) ? 1.0f : 0.0f;
    SidesThere out{0, 0, 0};
    for (int i = 0; i < 4; ++i) {
        const std::int32_t n = silhouettes.at[std::size_t(cells[i])];
        if (n < 0) {
            const float inverse_m = field.values[std::size_t(cells[i]) * std::size_t(field.channels)];
            out.near_inverse_m += shares[i] * inverse_m, out.far_inverse_m += shares[i] * inverse_m;
            out.share += shares[i] * others;
            continue;
        }
        const Silhouettes::Cell& c = silhouettes.cells[std::size_t(n)];
        out.near_inverse_m += shares[i] * c.near.inverse_m, out.far_inverse_m += shares[i] * c.far.inverse_m;
        out.share += shares[i] * c.share;
    }
    return out;
}

} // namespace porb
