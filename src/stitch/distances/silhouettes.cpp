#include "stitch/distances/silhouettes.h"

#include "base/parallel.h"
#include "stitch/distances/occlusion.h"

#include <opencv2/imgproc.hpp>

#include <algorithm>
#include <cmath>

namespace porb {

namespace {

constexpr double kSigmaOfSoft = 0.8, kLeastSigma_cells = 0.5;
constexpr int kMostReach = 5;

/// What each side is like at a cell, from those about it.
Silhouettes::Cell sides_of(const SphereGrid& field, std::span<const std::uint64_t> hidden, int x, int y,
                           int reach, float middle, std::span<const float> weights) {
    const int side = field.side, wide = side + 2;
    Silhouettes::Cell out{};
    int near_by = 1 << 20, far_by = 1 << 20;
    float near_share = 0, all = 0;
    for (int j = -reach - 1; j <= reach + 1; ++j)
        for (int i = -reach - 1; i <= reach + 1; ++i) {
            const int u = x + i, v = y + j;
            if (u < -1 || v < -1 || u > side || v > side) continue;
            const float inverse_m = field.cell(u, v)[0];
            const bool near = inverse_m > middle;
            if (std::abs(i) <= reach && std::abs(j) <= reach) {
                const float w = weights[std::size_t(std::abs(i))] * weights[std::size_t(std::abs(j))];
                all += w;
                if (near) near_share += w;
            }
            int& nearest = near ? near_by : far_by;
            if (i * i + j * j >= nearest) continue;
            nearest = i * i + j * j;
            (near ? out.near : out.far) = {
                inverse_m,
                hidden.empty() ? 0 : hidden[std::size_t(v + 1) * std::size_t(wide) + std::size_t(u + 1)]};
        }
    out.share = near_share / all;
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
    // Beside an outline, and one cell further than shares go: what lies past that is of one side.
    cv::Mat beside = cv::Mat::zeros(wide, wide, CV_8U), inverse(wide, wide, CV_32F), most, least;
    for (int y = 0; y < wide; ++y)
        for (int x = 0; x < wide; ++x) {
            const float here = inverse.at<float>(y, x) = field.cell(x - 1, y - 1)[0];
            for (const auto& [u, v] : {std::pair{x - 1, y}, {x, y - 1}}) {
                if (u < 0 || v < 0) continue;
                const float there = inverse.at<float>(v, u);
                if (std::abs(here - there) > outline_step(std::max(here, there)))
                    beside.at<std::uint8_t>(y, x) = beside.at<std::uint8_t>(v, u) = 255;
            }
        }
    const cv::Mat about = cv::Mat::ones(2 * reach + 3, 2 * reach + 3, CV_8U);
    cv::dilate(beside, beside, cv::Mat::ones(2 * reach + 1, 2 * reach + 1, CV_8U));
    cv::dilate(inverse, most, about);
    cv::erode(inverse, least, about);
    std::vector<std::vector<std::pair<std::int32_t, Silhouettes::Cell>>> rows{std::size_t(side)};
    parallel_ranges(side, 16, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < side; ++x) {
                if (!known.empty() && !known[std::size_t(y * side + x)]) continue;
                if (!beside.at<std::uint8_t>(y + 1, x + 1)) continue;
                const float high = most.at<float>(y + 1, x + 1), low = least.at<float>(y + 1, x + 1);
                rows[std::size_t(y)].emplace_back(
                    (y + 1) * wide + x + 1, sides_of(field, hidden, x, y, reach, (high + low) / 2, weights));
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
