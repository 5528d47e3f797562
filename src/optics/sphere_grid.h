#pragma once

#include "optics/vec.h"

#include <algorithm>
#include <cmath>
#include <cstddef>
#include <vector>

namespace porb {

/// Every direction has a place in the unit square: the faces of an octahedron unfolded, its middle straight
/// down, all four corners straight up (Engelhardt and Dachsbacher 2008, "Octahedron environment maps"). Cells
/// differ little in size, and no direction is special: there are no poles and no edge at 180 degrees.
inline Vec2 octahedral_place(const Vec3& d) {
    const double s = 1 / (std::abs(d.x()) + std::abs(d.y()) + std::abs(d.z()));
    double p = d.x() * s, q = d.z() * s;
    if (d.y() < 0) {
        const double folded = (1 - std::abs(q)) * (p < 0 ? -1 : 1);
        q = (1 - std::abs(p)) * (q < 0 ? -1 : 1);
        p = folded;
    }
    return {(p + 1) / 2, (q + 1) / 2};
}
/// The cell of a square of side x side that a direction lies in, row by row.
inline int octahedral_cell(const Vec3& direction, int side) {
    const Vec2 p = octahedral_place(direction) * side;
    const auto whole = [side](double v) { return v < 0 ? 0 : v >= side ? side - 1 : int(v); };
    return whole(p.y()) * side + whole(p.x());
}
/// The unit direction of such a place.
Vec3 octahedral_direction(const Vec2& place);

/// Of the cells of a square, one more all round included, row by row: fills those around from what lies
/// across the fold, where the same edge goes on mirrored.
template <class T>
void repeat_across_folds(int side, int channels, std::vector<T>& values) {
    const auto at = [&](int x, int y) {
        return values.data() +
               (std::size_t(y + 1) * std::size_t(side + 2) + std::size_t(x + 1)) * std::size_t(channels);
    };
    const auto copy = [&](int x, int y, int from_x, int from_y) {
        std::copy_n(at(from_x, from_y), channels, at(x, y));
    };
    for (int i = 0; i < side; ++i) {
        copy(-1, i, 0, side - 1 - i);
        copy(side, i, side - 1, side - 1 - i);
        copy(i, -1, side - 1 - i, 0);
        copy(i, side, side - 1 - i, side - 1);
    }
    for (const int x : {-1, side}) // all corners are straight up
        for (const int y : {-1, side}) copy(x, y, x < 0 ? side - 1 : 0, y < 0 ? side - 1 : 0);
}

/// `channels` floats for every direction, on a square of side x side cells, read bilinearly. One cell more
/// all round repeats what lies across the fold, so that reading never needs to know of it.
struct SphereGrid {
    int side = 0, channels = 1;
    std::vector<float> values; ///< (side + 2)^2 cells, row by row

    SphereGrid() = default;
    SphereGrid(int cells_a_side, int channel_count, float value = 0);
    bool empty() const { return values.empty(); }
    std::size_t bytes() const { return values.size() * sizeof(float); }
    float* cell(int x, int y) { return values.data() + offset(x, y); } ///< -1 <= x, y <= side
    const float* cell(int x, int y) const { return values.data() + offset(x, y); }
    Vec3 direction(int x, int y) const { return octahedral_direction({(x + 0.5) / side, (y + 0.5) / side}); }
    /// After cells were written: fills the cells around them.
    void close_edges() { repeat_across_folds(side, channels, values); }
    /// At any direction, its length of no account.
    double at(const Vec3& d, int channel = 0) const;

  private:
    std::size_t offset(int x, int y) const {
        return (std::size_t(y + 1) * std::size_t(side + 2) + std::size_t(x + 1)) * std::size_t(channels);
    }
};

} // namespace porb
