#include "picture/mend.h"

#include <algorithm>
#include <unordered_set>

namespace porb {

void fill_from_neighbours(Picture& picture, std::vector<PixelPlace> places) {
    const auto index = [&](int x, int y) { return std::int64_t(y) * picture.width() + x; };
    std::unordered_set<std::int64_t> unknown;
    for (const PixelPlace& p : places) unknown.insert(index(p.x, p.y));
    std::vector<std::pair<PixelPlace, Rgba>> filled;
    while (!places.empty()) {
        filled.clear();
        const auto still_unknown = [&](const PixelPlace& p) {
            Rgba sum;
            float n = 0;
            for (int y = std::max(0, p.y - 1); y <= std::min(picture.height() - 1, p.y + 1); ++y)
                for (int x = std::max(0, p.x - 1); x <= std::min(picture.width() - 1, p.x + 1); ++x) {
                    if (unknown.contains(index(x, y))) continue;
                    const Rgba v = pixel_at(picture, x, y);
                    sum.r += v.r, sum.g += v.g, sum.b += v.b, sum.a += v.a;
                    ++n;
                }
            if (n == 0) return true;
            filled.push_back({p, {sum.r / n, sum.g / n, sum.b / n, sum.a / n}});
            return false;
        };
        places.erase(std::stable_partition(places.begin(), places.end(), still_unknown), places.end());
        if (filled.empty()) break;
        for (const auto& [p, value] : filled) {
            set_pixel(picture, p.x, p.y, value);
            unknown.erase(index(p.x, p.y));
        }
    }
    for (const PixelPlace& p : places) set_pixel(picture, p.x, p.y, {});
}

} // namespace porb
