#include "stitch/distances/shape_fill.h"

#include "base/angle.h"
#include "base/parallel.h"

#include <Eigen/Geometry>

#include <algorithm>

namespace porb {

namespace {

constexpr int kWays = 16; ///< that are gone from a cell until it is clear
constexpr double kStep_deg = 0.3, kFarthest_deg = 30;
constexpr int kCellsAtOnce = 64;

} // namespace

ShapeFill::ShapeFill(int side, std::span<const float> clear) {
    std::vector<int> cells;
    for (std::size_t i = 0; i < clear.size(); ++i)
        if (clear[i] < 1) cells.push_back(int(i));
    std::vector<std::vector<Around>> found(cells.size());
    parallel_ranges(int(cells.size()), kCellsAtOnce, [&](int begin, int end) {
        for (auto n = std::size_t(begin); n < std::size_t(end); ++n) {
            const Vec3 here =
                octahedral_direction({(cells[n] % side + 0.5) / side, (cells[n] / side + 0.5) / side});
            const Vec3 right = here.unitOrthogonal(), up = here.cross(right);
            float sum = 0;
            for (int way = 0; way < kWays; ++way) {
                const double phi = 2 * kPi * way / kWays;
                const Vec3 towards = right * std::cos(phi) + up * std::sin(phi);
                for (double deg = kStep_deg; deg < kFarthest_deg; deg += kStep_deg) {
                    const int at = octahedral_cell(
                        here * std::cos(radians(deg)) + towards * std::sin(radians(deg)), side);
                    if (clear[std::size_t(at)] < 1) continue;
                    found[n].push_back({at, float(1 / deg)});
                    sum += found[n].back().weight;
                    break;
                }
            }
            for (Around& a : found[n]) a.weight /= sum;
        }
    });
    for (std::size_t n = 0; n < cells.size(); ++n) {
        if (found[n].empty()) continue; // all around it is shapes
        filled_.push_back({cells[n], clear[std::size_t(cells[n])], std::uint32_t(around_.size()),
                           std::uint32_t(found[n].size())});
        around_.insert(around_.end(), found[n].begin(), found[n].end());
    }
}

void ShapeFill::apply(SphereGrid& field) const {
    const auto cell = [&](int i) { return field.cell(i % field.side, i / field.side); };
    for (const Filled& f : filled_) { // what is filled from is never filled itself
        float mean = 0;
        for (const Around& a : std::span(around_).subspan(f.first, f.count)) mean += a.weight * *cell(a.cell);
        float& value = *cell(f.cell);
        value = f.own * value + (1 - f.own) * mean;
    }
}

} // namespace porb
