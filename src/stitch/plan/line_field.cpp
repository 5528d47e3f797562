#include "stitch/plan/line_field.h"

#include "base/angle.h"

#include <algorithm>
#include <queue>

namespace porb {

namespace {
constexpr int kSide = SeamLines::kSide, kCells = kSide * kSide;
constexpr double kCell_deg = 0.94; ///< the middle size: 4 pi over the cells

Vec3 direction_of(int cell, int side) {
    return octahedral_direction({(cell % side + 0.5) / side, (cell / side + 0.5) / side});
}

/// The unit directions of all cells, made once for a field.
std::vector<Vec3> directions_of(int side) {
    std::vector<Vec3> out;
    out.reserve(std::size_t(side) * std::size_t(side));
    for (int c = 0; c < side * side; ++c) out.push_back(direction_of(c, side));
    return out;
}

float angle_between(const Vec3& a, const Vec3& b) {
    return float((a - b).norm()); // neighbours: the chord is the arc to 1 in 10^4
}

/// Cells that lie beside one of another camera.
std::vector<int> border_of(const std::vector<std::uint8_t>& who) {
    std::vector<int> out;
    for (int c = 0; c < kCells; ++c) {
        const auto beside = cells_beside(c, kSide);
        if (who[std::size_t(c)] != LineKey::kNobody &&
            std::any_of(beside.begin(), beside.begin() + 4, [&](int o) {
                return who[std::size_t(o)] != who[std::size_t(c)] && who[std::size_t(o)] != LineKey::kNobody;
            }))
            out.push_back(c);
    }
    return out;
}

/// Each channel's mean over 3 x 3 cells weighted 1 2 1: rounds the stairs of cells.
void soften(SphereGrid& grid) {
    grid.close_edges();
    const SphereGrid from = grid;
    constexpr float w[3] = {0.25f, 0.5f, 0.25f};
    for (int y = 0; y < grid.side; ++y)
        for (int x = 0; x < grid.side; ++x)
            for (int k = 0; k < grid.channels; ++k) {
                float sum = 0;
                for (int j = -1; j <= 1; ++j)
                    for (int i = -1; i <= 1; ++i) sum += w[i + 1] * w[j + 1] * from.cell(x + i, y + j)[k];
                grid.cell(x, y)[k] = sum;
            }
    grid.close_edges();
}

SphereGrid leads_of(const std::vector<std::uint8_t>& who, std::span<const std::size_t> cameras) {
    constexpr auto far = float(LineField::kFar_deg);
    SphereGrid out(kSide, int(std::max<std::size_t>(cameras.size(), 1)), -far);
    std::vector<float> others(kCells, far);
    const std::vector<int> border = border_of(who);
    for (std::size_t l = 0; l < cameras.size(); ++l) {
        const auto mine = [&](int c) { return who[std::size_t(c)] == cameras[l]; };
        std::vector<int> begin;
        std::copy_if(border.begin(), border.end(), std::back_inserter(begin), mine);
        const auto away = angles_from(begin, kSide, float(radians(far / 2)), [&](int c) { return !mine(c); });
        for (int c = 0; c < kCells; ++c) {
            if (mine(c)) continue;
            // The line lies between two cells: half a cell nearer than the other's middle.
            const float d =
                std::min(far, 2 * std::max(0.0f, float(degrees(away[std::size_t(c)]) - kCell_deg / 2)));
            out.cell(c % kSide, c / kSide)[l] = -d;
            others[std::size_t(c)] = std::min(others[std::size_t(c)], d);
        }
        // Inside, the way to whoever is beside: from the cells just outside.
        std::vector<int> outside;
        for (const int c : border)
            if (!mine(c)) outside.push_back(c);
        const auto within = angles_from(outside, kSide, float(radians(far / 2)), mine);
        for (int c = 0; c < kCells; ++c)
            if (mine(c))
                out.cell(c % kSide, c / kSide)[l] =
                    std::min(far, 2 * std::max(0.0f, float(degrees(within[std::size_t(c)]) - kCell_deg / 2)));
    }
    soften(out);
    soften(out);
    return out;
}
} // namespace

std::array<int, 8> cells_beside(int cell, int side) {
    const int x = cell % side, y = cell / side, last = side - 1;
    const auto at = [&](int i, int j) {
        if (i < 0) i = 0, j = last - j; // across an edge, the same edge goes on mirrored
        if (i > last) i = last, j = last - j;
        if (j < 0) j = 0, i = last - i;
        if (j > last) j = last, i = last - i;
        return std::clamp(j, 0, last) * side + std::clamp(i, 0, last);
    };
    return {at(x - 1, y),     at(x + 1, y),     at(x, y - 1),     at(x, y + 1),
            at(x - 1, y - 1), at(x + 1, y - 1), at(x - 1, y + 1), at(x + 1, y + 1)};
}

std::vector<float> angles_from(const std::vector<int>& begin, int side, float most_rad,
                               const std::function<bool(int)>& through) {
    std::vector<float> angle(std::size_t(side) * std::size_t(side), most_rad);
    using Step = std::pair<float, int>;
    std::priority_queue<Step, std::vector<Step>, std::greater<>> open;
    for (const int c : begin) angle[std::size_t(c)] = 0, open.emplace(0.0f, c);
    while (!open.empty()) {
        const auto [from, c] = open.top();
        open.pop();
        if (from > angle[std::size_t(c)]) continue;
        const Vec3 here = direction_of(c, side);
        for (const int o : cells_beside(c, side)) {
            if (!through(o)) continue;
            const float to = from + angle_between(here, direction_of(o, side));
            if (to >= angle[std::size_t(o)]) continue;
            angle[std::size_t(o)] = to;
            open.emplace(to, o);
        }
    }
    return angle;
}

LineField::LineField(const SeamLines& lines, const LineState& state, std::span<const std::size_t> cameras) {
    const auto& now = *lines.keys[state.key].who;
    leads_ = leads_of(now, cameras);
    if (state.towards_next <= 0 || state.key + 1 >= lines.keys.size()) return;
    const auto& next = *lines.keys[state.key + 1].who;
    const SphereGrid coming = leads_of(next, cameras);
    for (std::size_t i = 0; i < leads_.values.size(); ++i)
        leads_.values[i] += float(state.towards_next) * (coming.values[i] - leads_.values[i]);
    std::vector<int> changing;
    for (int c = 0; c < kCells; ++c)
        if (now[std::size_t(c)] != next[std::size_t(c)]) changing.push_back(c);
    const auto away = angles_from(changing, kSide, float(radians(kFar_deg)), [](int) { return true; });
    moving_ = SphereGrid(kSide, 1);
    for (int c = 0; c < kCells; ++c)
        *moving_.cell(c % kSide, c / kSide) = float(degrees(away[std::size_t(c)]));
    moving_.close_edges();
}

void LineField::leads_deg(const Vec3& rig_direction, std::span<float> out) const {
    const Vec2 p = octahedral_place(rig_direction);
    const double x = p.x() * kSide - 0.5, y = p.y() * kSide - 0.5;
    const int x0 = std::clamp(int(std::floor(x)), -1, kSide - 1),
              y0 = std::clamp(int(std::floor(y)), -1, kSide - 1);
    const auto fx = float(x - x0), fy = float(y - y0);
    const float *a = leads_.cell(x0, y0), *b = leads_.cell(x0 + 1, y0), *c = leads_.cell(x0, y0 + 1),
                *d = leads_.cell(x0 + 1, y0 + 1);
    for (std::size_t l = 0; l < out.size(); ++l) {
        const float top = a[l] + fx * (b[l] - a[l]), low = c[l] + fx * (d[l] - c[l]);
        out[l] = top + fy * (low - top);
    }
}

bool LineField::moves(const Vec3& rig_direction, double within_deg) const {
    return !moving_.empty() && moving_.at(rig_direction) < within_deg;
}

LinesEver lines_ever(const SeamLines& lines) {
    constexpr double far = LineField::kFar_deg / 2;
    LinesEver out;
    out.away_deg = SphereGrid(kSide, 1, float(far));
    out.who.assign(kCells, {-1, -1});
    using Step = std::pair<float, int>;
    std::priority_queue<Step, std::vector<Step>, std::greater<>> open;
    std::vector<float> angle(kCells, float(radians(far)));
    const std::vector<Vec3> directions = directions_of(kSide);
    for (const LineKey& key : lines.keys)
        for (const int c : border_of(*key.who)) {
            const auto& who = *key.who;
            for (const int o : cells_beside(c, kSide))
                if (const std::uint8_t a = who[std::size_t(c)], b = who[std::size_t(o)];
                    a != b && b != LineKey::kNobody)
                    out.who[std::size_t(c)] = {std::int16_t(std::min(a, b)), std::int16_t(std::max(a, b))};
            if (angle[std::size_t(c)] > 0) angle[std::size_t(c)] = 0, open.emplace(0.0f, c);
        }
    while (!open.empty()) {
        const auto [from, c] = open.top();
        open.pop();
        if (from > angle[std::size_t(c)]) continue;
        for (const int o : cells_beside(c, kSide)) {
            const float to = from + angle_between(directions[std::size_t(c)], directions[std::size_t(o)]);
            if (to >= angle[std::size_t(o)]) continue;
            angle[std::size_t(o)] = to;
            out.who[std::size_t(o)] = out.who[std::size_t(c)];
            open.emplace(to, o);
        }
    }
    for (int c = 0; c < kCells; ++c)
        *out.away_deg.cell(c % kSide, c / kSide) = float(degrees(angle[std::size_t(c)]));
    out.away_deg.close_edges();
    return out;
}

} // namespace porb
