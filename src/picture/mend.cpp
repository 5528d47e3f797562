#include "picture/mend.h"

#include <algorithm>

namespace porb {

void fill_from_neighbours(Picture& picture, const std::vector<PixelPlace>& places) {
    if (places.empty()) return;
    enum : std::uint8_t { known, unknown, next };
    const int width = picture.width(), height = picture.height();
    std::vector<std::uint8_t> state(std::size_t(width) * std::size_t(height), known);
    const auto at = [&](int x, int y) -> std::uint8_t& {
        return state[std::size_t(y) * std::size_t(width) + std::size_t(x)];
    };
    const auto each_beside = [&](const PixelPlace& p, const auto& work) {
        for (int y = std::max(0, p.y - 1); y <= std::min(height - 1, p.y + 1); ++y)
            for (int x = std::max(0, p.x - 1); x <= std::min(width - 1, p.x + 1); ++x) work(x, y);
    };
    for (const PixelPlace& p : places) at(p.x, p.y) = unknown;
    std::vector<PixelPlace> edge, after;
    for (const PixelPlace& p : places) {
        bool borders = false;
        each_beside(p, [&](int x, int y) { borders = borders || at(x, y) == known; });
        if (borders) edge.push_back(p);
    }
    for (const PixelPlace& p : edge) at(p.x, p.y) = next;
    while (!edge.empty()) {
        for (const PixelPlace& p : edge) {
            Rgba sum;
            float n = 0;
            each_beside(p, [&](int x, int y) {
                if (at(x, y) != known) return;
                const Rgba v = pixel_at(picture, x, y);
                sum.r += v.r, sum.g += v.g, sum.b += v.b, sum.a += v.a;
                ++n;
            });
            set_pixel(picture, p.x, p.y, {sum.r / n, sum.g / n, sum.b / n, sum.a / n});
        }
        for (const PixelPlace& p : edge) at(p.x, p.y) = known;
        after.clear();
        for (const PixelPlace& p : edge)
            each_beside(p, [&](int x, int y) {
                if (at(x, y) != unknown) return;
                at(x, y) = next;
                after.push_back({x, y});
            });
        edge.swap(after);
    }
    for (const PixelPlace& p : places)
        if (at(p.x, p.y) == unknown) set_pixel(picture, p.x, p.y, {});
}

} // namespace porb
