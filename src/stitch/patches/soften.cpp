#include "stitch/patches/soften.h"

#include "base/parallel.h"

#include <algorithm>
#include <cmath>

namespace porb {

namespace {
/// Colours times how much they are known, and that.
struct Known {
    int width = 0, height = 0;
    std::vector<Rgba> sums; ///< a: how much is known
    Rgba& at(int x, int y) { return sums[std::size_t(y) * std::size_t(width) + std::size_t(x)]; }
    const Rgba& at(int x, int y) const {
        return sums[std::size_t(std::clamp(y, 0, height - 1)) * std::size_t(width) +
                    std::size_t(std::clamp(x, 0, width - 1))];
    }
};

Known reduced(const Known& from) {
    Known out{(from.width + 1) / 2, (from.height + 1) / 2, {}};
    out.sums.resize(std::size_t(out.width) * std::size_t(out.height));
    for (int y = 0; y < out.height; ++y)
        for (int x = 0; x < out.width; ++x) {
            Rgba sum;
            for (int j = 0; j < 2; ++j)
                for (int i = 0; i < 2; ++i) {
                    if (2 * x + i >= from.width || 2 * y + j >= from.height) continue;
                    const Rgba& p = from.at(2 * x + i, 2 * y + j);
                    sum.r += p.r, sum.g += p.g, sum.b += p.b, sum.a += p.a;
                }
            const float k = sum.a > 1 ? 1 / sum.a : 1; // known once is known
            out.at(x, y) = {sum.r * k, sum.g * k, sum.b * k, sum.a * k};
        }
    return out;
}

/// Of a level whose every cell is known: between its cells.
Rgba between(const Known& level, double x, double y) {
    const int x0 = int(std::floor(x - 0.5)), y0 = int(std::floor(y - 0.5));
    const auto tx = float(x - 0.5 - x0), ty = float(y - 0.5 - y0);
    Rgba out;
    for (int j = 0; j < 2; ++j)
        for (int i = 0; i < 2; ++i) {
            const Rgba& p = level.at(x0 + i, y0 + j);
            const float w = (i ? tx : 1 - tx) * (j ? ty : 1 - ty) / std::max(p.a, 1e-6f);
            out.r += w * p.r, out.g += w * p.g, out.b += w * p.b;
        }
    out.a = 1;
    return out;
}
} // namespace

Picture smoothed_over(const Picture& footage, const std::vector<float>& hidden) {
    const int w = footage.width(), h = footage.height();
    std::vector<Known> levels(1);
    levels[0] = {w, h, std::vector<Rgba>(std::size_t(w) * std::size_t(h))};
    float known = 0;
    for (int y = 0; y < h; ++y)
        for (int x = 0; x < w; ++x) {
            const Rgba p = pixel_at(footage, x, y);
            const float k = 1 - std::clamp(hidden[std::size_t(y * w + x)], 0.0f, 1.0f);
            levels[0].at(x, y) = {p.r * k, p.g * k, p.b * k, p.a * k};
            known += p.a * k;
        }
    if (known < 1) return footage;
    while (levels.back().width > 1 || levels.back().height > 1) levels.push_back(reduced(levels.back()));
    for (std::size_t i = levels.size() - 1; i-- > 0;) {
        Known& fine = levels[i];
        const Known& coarse = levels[i + 1];
        for (int y = 0; y < fine.height; ++y)
            for (int x = 0; x < fine.width; ++x) {
                Rgba& p = fine.at(x, y);
                if (p.a >= 1) continue;
                const Rgba fill = between(coarse, (x + 0.5) / 2, (y + 0.5) / 2);
                const float k = 1 - p.a;
                p = {p.r + k * fill.r, p.g + k * fill.g, p.b + k * fill.b, 1};
            }
    }
    Picture out(w, h);
    for (int y = 0; y < h; ++y)
        for (int x = 0; x < w; ++x) {
            Rgba p = levels[0].at(x, y);
            p.a = 1;
            set_pixel(out, x, y, p);
        }
    return out;
}

Picture mirrored_inwards(const Picture& footage, double radius) {
    const int w = footage.width(), h = footage.height();
    Picture out(w, h);
    parallel_ranges(h, 16, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < w; ++x) {
                const double u = 2 * (x + 0.5) / w - 1, v = 2 * (y + 0.5) / h - 1, r = std::hypot(u, v);
                double k = 1;
                if (r < radius) k = r > 1e-6 ? (2 * radius - r) / r : 1;
                const double fx = (u * k + 1) / 2 * w - 0.5, fy = (v * k + 1) / 2 * h - 0.5;
                const int x0 = int(std::floor(fx)), y0 = int(std::floor(fy));
                const auto tx = float(fx - x0), ty = float(fy - y0);
                Rgba sum;
                for (int j = 0; j < 2; ++j)
                    for (int i = 0; i < 2; ++i) {
                        const Rgba p =
                            pixel_at(footage, std::clamp(x0 + i, 0, w - 1), std::clamp(y0 + j, 0, h - 1));
                        const float weight = (i ? tx : 1 - tx) * (j ? ty : 1 - ty);
                        sum.r += weight * p.r, sum.g += weight * p.g, sum.b += weight * p.b,
                            sum.a += weight * p.a;
                    }
                set_pixel(out, x, y, sum);
            }
    });
    return out;
}

} // namespace porb
