#include "stitch/distances/finer_grid.h"

#include "base/parallel.h"

#include <cmath>

namespace porb {

void read_finer(const SphereGrid& grid, int times, int x, int y, float* to) {
    const float u = (float(x) + 0.5f) / float(times) - 0.5f, v = (float(y) + 0.5f) / float(times) - 0.5f;
    const int iu = int(std::floor(u)), iv = int(std::floor(v)), next = grid.channels;
    const float fu = u - float(iu), fv = v - float(iv);
    const float *p = grid.cell(iu, iv), *q = grid.cell(iu, iv + 1);
    for (int c = 0; c < next; ++c) {
        const float top = p[c] + fu * (p[c + next] - p[c]), low = q[c] + fu * (q[c + next] - q[c]);
        to[c] = top + fv * (low - top);
    }
}

SphereGrid enlarged(const SphereGrid& grid, int times) {
    SphereGrid out(grid.side * times, grid.channels);
    parallel_ranges(out.side, 16, [&](int begin, int end) {
        for (int y = begin; y < end; ++y)
            for (int x = 0; x < out.side; ++x) read_finer(grid, times, x, y, out.cell(x, y));
    });
    return out;
}

} // namespace porb
