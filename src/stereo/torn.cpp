#include "stereo/torn.h"

#include "base/angle.h"

#include <algorithm>
#include <cmath>

namespace porb {

namespace {

constexpr double kCell_deg = 3;
constexpr int kRows = int(180 / kCell_deg), kColumns = int(360 / kCell_deg);
constexpr double kLeast_px = 10;          ///< in a cell: a degree of edge
constexpr double kOther = 0.25;           ///< of it may be torn in the other eye, too
constexpr int kDownBy = 1, kAcrossBy = 3; ///< cells in which the other eye may show the same

/// What is torn in each cell, and the mean direction of it.
struct Cells {
    std::vector<double> length_px = std::vector<double>(kRows * kColumns, 0);
    std::vector<Vec3> sum = std::vector<Vec3>(kRows * kColumns, Vec3::Zero());
    static std::size_t at(int row, int column) {
        return std::size_t(row * kColumns + (column % kColumns + kColumns) % kColumns);
    }
};

Cells cells_of(const Tears& tears, const View& view) {
    Cells out;
    const TargetMap map(view.target);
    for (int y = 0; y < tears.height; ++y)
        for (int x = 0; x < tears.width; ++x) {
            if (!tears.torn[std::size_t(y) * std::size_t(tears.width) + std::size_t(x)]) continue;
            const auto d = map.direction({x + 0.5, y + 0.5});
            if (!d) continue;
            const std::size_t cell =
                Cells::at(std::min(kRows - 1, y * kRows / tears.height), x * kColumns / tears.width);
            const double length = edge_length_px(map, x, y);
            out.length_px[cell] += length;
            out.sum[cell] += length * *d;
        }
    return out;
}

void add_alone(const Cells& here, const Cells& there, Eye eye, std::vector<TornEdge>& out) {
    for (int row = 0; row < kRows; ++row)
        for (int column = 0; column < kColumns; ++column) {
            const std::size_t cell = Cells::at(row, column);
            const double length = here.length_px[cell];
            if (length < kLeast_px) continue;
            double most = 0;
            for (int j = std::max(0, row - kDownBy); j <= std::min(kRows - 1, row + kDownBy); ++j)
                for (int i = -kAcrossBy; i <= kAcrossBy; ++i)
                    most = std::max(most, there.length_px[Cells::at(j, column + i)]);
            if (most <= kOther * length) out.push_back({here.sum[cell].normalized(), eye, length});
        }
}

} // namespace

std::vector<TornEdge> torn_alone(const Tears& left_tears, const Tears& right_tears, const View& view) {
    const Cells left = cells_of(left_tears, view), right = cells_of(right_tears, view);
    std::vector<TornEdge> out;
    add_alone(left, right, Eye::left, out);
    add_alone(right, left, Eye::right, out);
    std::sort(out.begin(), out.end(),
              [](const TornEdge& a, const TornEdge& b) { return a.length_px > b.length_px; });
    return out;
}

std::vector<TornEdge> torn_in_one_eye(Composer& composer, const Project& project, const Shot& shot,
                                      Seconds time, int width, const Cancel& cancel) {
    if (shot.stereo.from != EyesFrom::distances || !shot.seams.flow.on) return {};
    View view;
    view.target = equirect_target(width);
    const auto tears = [&](Eye eye) {
        view.eye = eye;
        return tears_in(project, shot, composer, time, view, cancel);
    };
    const Tears left = tears(Eye::left), right = tears(Eye::right);
    return torn_alone(left, right, view);
}

} // namespace porb
