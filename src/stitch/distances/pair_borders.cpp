#include "stitch/distances/pair_borders.h"

#include "base/parallel.h"

#include <algorithm>
#include <cmath>

namespace porb {

namespace {
constexpr int kBorder = 3; ///< cells
constexpr int kPasses = 2;
constexpr float kSameSurface = 0.06f; ///< 1/m
} // namespace

std::vector<int> pair_borders(const std::vector<std::int16_t>& pair_of, int side) {
    const auto pair_at = [&](int x, int y) {
        return pair_of[std::size_t(y) * std::size_t(side) + std::size_t(x)];
    };
    std::vector<int> out;
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x) {
            const int own = pair_at(x, y);
            bool other = false;
            for (int j = std::max(0, y - kBorder); own >= 0 && !other && j <= std::min(side - 1, y + kBorder);
                 ++j)
                for (int i = std::max(0, x - kBorder); i <= std::min(side - 1, x + kBorder); ++i)
                    other = other || (pair_at(i, j) >= 0 && pair_at(i, j) != own);
            if (other) out.push_back(y * side + x);
        }
    return out;
}

void smooth_borders(SphereGrid& field, const std::vector<int>& borders) {
    const int side = field.side;
    for (int pass = 0; pass < kPasses; ++pass) {
        field.close_edges();
        const SphereGrid before = field;
        for (const int i : borders) {
            const int x = i % side, y = i / side;
            float sum[2] = {};
            int n = 0;
            for (int j = std::max(-1, y - kBorder); j <= std::min(side, y + kBorder); ++j)
                for (int k = std::max(-1, x - kBorder); k <= std::min(side, x + kBorder); ++k, ++n)
                    for (int c = 0; c < 2; ++c) sum[c] += before.cell(k, j)[c];
            for (int c = 0; c < 2; ++c) field.cell(x, y)[c] = sum[c] / float(n);
        }
    }
}

void smooth_fine_borders(SphereGrid& grid, const std::vector<int>& borders, int finer) {
    const int reach = kBorder * finer, parts = finer * finer, side = grid.side / finer;
    struct Place {
        int x, y;
    };
    const auto place = [&](int n, int part) {
        const int cell = borders[std::size_t(n)];
        return Place{cell % side * finer + part % finer, cell / side * finer + part / finer};
    };
    // Few cells are changed: a copy of the grid, for what they were before, would take longer than the means.
    std::vector<float> means(borders.size() * std::size_t(parts));
    for (int pass = 0; pass < kPasses; ++pass) {
        grid.close_edges();
        parallel_ranges(int(borders.size()), 256, [&](int begin, int end) {
            for (int n = begin; n < end; ++n)
                for (int part = 0; part < parts; ++part) {
                    const auto [x, y] = place(n, part);
                    const float own = grid.cell(x, y)[0];
                    float sum = 0, all = 0;
                    for (int j = std::max(-1, y - reach); j <= std::min(grid.side, y + reach); ++j)
                        for (int i = std::max(-1, x - reach); i <= std::min(grid.side, x + reach); ++i) {
                            const float v = grid.cell(i, j)[0];
                            if (std::abs(v - own) < kSameSurface) sum += v, all += 1;
                        }
                    means[std::size_t(n * parts + part)] = sum / all;
                }
        });
        for (int n = 0; n < int(borders.size()); ++n)
            for (int part = 0; part < parts; ++part) {
                const auto [x, y] = place(n, part);
                grid.cell(x, y)[0] = means[std::size_t(n * parts + part)];
            }
    }
}

} // namespace porb
