#include "picture/compare.h"

#include <algorithm>
#include <cassert>
#include <cmath>

namespace porb {

double psnr_db(const Picture& a, const Picture& b, const std::function<bool(int, int)>& where) {
    assert(a.width() == b.width() && a.height() == b.height());
    double sum = 0;
    std::size_t count = 0;
    const auto unit = [](float v) { return double(std::clamp(v, 0.0f, 1.0f)); };
    for (int y = 0; y < a.height(); ++y)
        for (int x = 0; x < a.width(); ++x) {
            if (where && !where(x, y)) continue;
            const Rgba p = pixel_at(a, x, y), q = pixel_at(b, x, y);
            const double dr = unit(p.r) - unit(q.r), dg = unit(p.g) - unit(q.g), db = unit(p.b) - unit(q.b);
            sum += dr * dr + dg * dg + db * db;
            count += 3;
        }
    if (count == 0 || sum == 0) return 200;
    return std::min(200.0, -10 * std::log10(sum / double(count)));
}

double hole_share(const Picture& picture, double least) {
    std::size_t holes = 0;
    for (int y = 0; y < picture.height(); ++y)
        for (int x = 0; x < picture.width(); ++x) holes += pixel_at(picture, x, y).a < least;
    return double(holes) / (double(picture.width()) * picture.height());
}

} // namespace porb
