#include "optics/circle_finder.h"

#include "base/angle.h"

#include <Eigen/Cholesky>
#include <fmt/format.h>

#include <algorithm>
#include <random>

namespace porb {

namespace {

constexpr int kLongestSide =
    2400; ///< larger pictures are halved: the rim is then still found to 0.1 px of these
constexpr int kRays = 720;
constexpr int kSamples = 4000;       ///< random circles tried
constexpr double kLeastRimDeg = 40;  ///< of arc, below which a circle is a guess
constexpr double kLeastShare = 0.25; ///< of the rim inside the picture that must be seen
constexpr float kLeastStep = 0.012f; ///< in the encoded signal, 3 of 255

struct Grid {
    int width = 0, height = 0;
    std::vector<float> v;
    float at(int x, int y) const {
        return v[std::size_t(std::clamp(y, 0, height - 1)) * std::size_t(width) +
                 std::size_t(std::clamp(x, 0, width - 1))];
    }
    /// Bilinear, pixel centres at halves.
    float between(double x, double y) const {
        const double fx = x - 0.5, fy = y - 0.5;
        const int x0 = int(std::floor(fx)), y0 = int(std::floor(fy));
        const float u = float(fx - x0), w = float(fy - y0);
        return (at(x0, y0) * (1 - u) + at(x0 + 1, y0) * u) * (1 - w) +
               (at(x0, y0 + 1) * (1 - u) + at(x0 + 1, y0 + 1) * u) * w;
    }
};

/// The brightest each pixel becomes in any of the moments.
Grid brightest(std::span<const Picture> moments, int& halvings) {
    Grid g;
    halvings = 0;
    for (Picture p : moments) {
        halvings = 0;
        while (std::max(p.width(), p.height()) > kLongestSide) p = halved(p), ++halvings;
        if (g.v.empty()) {
            g.width = p.width(), g.height = p.height();
            g.v.assign(std::size_t(g.width) * std::size_t(g.height), 0);
        }
        if (p.width() != g.width || p.height() != g.height) continue;
        for (int y = 0; y < g.height; ++y)
            for (int x = 0; x < g.width; ++x) {
                const Rgba c = pixel_at(p, x, y);
                float& best = g.v[std::size_t(y) * std::size_t(g.width) + std::size_t(x)];
                best = std::max(best, 0.2126f * c.r + 0.7152f * c.g + 0.0722f * c.b);
            }
    }
    return g;
}

struct Cell {
    double x0, y0, x1, y1;
    double centre_margin = 0; ///< how far inside a circle's centre must lie
    double width() const { return x1 - x0; }
    double height() const { return y1 - y0; }
    bool contains(const Vec2& p, double margin) const {
        return p.x() > x0 + margin && p.x() < x1 - margin && p.y() > y0 + margin && p.y() < y1 - margin;
    }
};

struct Surround {
    float level, noise, inside;
};

/// Level and noise of the two darkest corners, and how bright the middle gets.
Surround surround_of(const Grid& g, const Cell& cell) {
    std::vector<std::pair<float, float>> corners;
    const double bw = std::max(4.0, 0.05 * cell.width()), bh = std::max(4.0, 0.05 * cell.height());
    for (const double cx : {cell.x0, cell.x1 - bw})
        for (const double cy : {cell.y0, cell.y1 - bh}) {
            std::vector<float> v;
            for (int y = int(cy); y < int(cy + bh); ++y)
                for (int x = int(cx); x < int(cx + bw); ++x) v.push_back(g.at(x, y));
            const auto middle = v.begin() + std::ptrdiff_t(v.size() / 2);
            std::nth_element(v.begin(), middle, v.end());
            const float level = *middle;
            for (float& f : v) f = std::abs(f - level);
            std::nth_element(v.begin(), middle, v.end());
            corners.push_back({level, 1.4826f * *middle});
        }
    std::sort(corners.begin(), corners.end());
    std::vector<float> all;
    for (int y = int(cell.y0); y < int(cell.y1); y += 4)
        for (int x = int(cell.x0); x < int(cell.x1); x += 4) all.push_back(g.at(x, y));
    const auto high = all.begin() + std::ptrdiff_t(all.size() * 95 / 100);
    std::nth_element(all.begin(), high, all.end());
    return {0.5f * (corners[0].first + corners[1].first),
            std::max({corners[0].second, corners[1].second, 0.5f / 255}), *high};
}

struct RimPoint {
    Vec2 at;
    int ray;
};

Vec2 ray_direction(int ray) {
    const double a = 2 * kPi * ray / kRays;
    return {std::cos(a), std::sin(a)};
}

/// Light along a ray, a mean over three pixels across it.
std::vector<float> profile(const Grid& g, const Cell& cell, const Vec2& centre, const Vec2& d, double from,
                           double to) {
    std::vector<float> v;
    const Vec2 side(-d.y(), d.x());
    for (double r = from; r < to; r += 1) {
        const Vec2 p = centre + r * d;
        if (!cell.contains(p, 0.5)) break;
        const Vec2 a = p + side, b = p - side;
        v.push_back((2 * g.between(p.x(), p.y()) + g.between(a.x(), a.y()) + g.between(b.x(), b.y())) / 4);
    }
    return v;
}

/// Where light is lost going outwards: the two outermost steps of each ray that stand out of the noise.
std::vector<RimPoint> rim_candidates(const Grid& g, const Cell& cell, const Vec2& centre, float step) {
    std::vector<RimPoint> out;
    const double reach = std::hypot(cell.width(), cell.height());
    for (int ray = 0; ray < kRays; ++ray) {
        const Vec2 d = ray_direction(ray);
        const auto v = profile(g, cell, centre, d, 0, reach);
        int taken = 0;
        for (int r = int(v.size()) - 3; r >= 4 && taken < 2; --r) {
            const auto loss = [&](int i) { return v[std::size_t(i) - 2] - v[std::size_t(i) + 2]; };
            if (loss(r) < step) continue;
            int best = r; // uphill to the steepest place of this step
            while (best > 4 && loss(best - 1) >= loss(best)) --best;
            out.push_back({centre + double(best) * d, ray});
            ++taken;
            r = best - 6;
        }
    }
    return out;
}

struct Fit {
    Vec2 centre{0, 0};
    double radius = 0;
};

std::optional<Fit> circle_through(const Vec2& a, const Vec2& b, const Vec2& c) {
    const Vec2 u = b - a, v = c - a;
    const double cross = 2 * (u.x() * v.y() - u.y() * v.x());
    if (std::abs(cross) < 1e-6) return std::nullopt;
    const Vec2 m((v.y() * u.squaredNorm() - u.y() * v.squaredNorm()) / cross,
                 (u.x() * v.squaredNorm() - v.x() * u.squaredNorm()) / cross);
    return Fit{a + m, m.norm()};
}

std::optional<Fit> agreed_circle(const std::vector<RimPoint>& points, const Cell& cell, double tolerance) {
    if (points.size() < 30) return std::nullopt;
    std::mt19937 random(20);
    std::uniform_int_distribution<std::size_t> pick(0, points.size() - 1);
    const double least = 0.15 * std::min(cell.width(), cell.height()),
                 most = std::hypot(cell.width(), cell.height());
    std::optional<Fit> best;
    double best_score = 0;
    std::vector<char> seen(kRays);
    for (int i = 0; i < kSamples; ++i) {
        const RimPoint &a = points[pick(random)], &b = points[pick(random)], &c = points[pick(random)];
        const auto fit = circle_through(a.at, b.at, c.at);
        if (!fit || fit->radius < least || fit->radius > most ||
            !cell.contains(fit->centre, cell.centre_margin))
            continue;
        std::fill(seen.begin(), seen.end(), char(0));
        double score = 0;
        for (const auto& p : points) {
            const double residual = std::abs((p.at - fit->centre).norm() - fit->radius);
            if (residual > tolerance || seen[std::size_t(p.ray)]) continue;
            seen[std::size_t(p.ray)] = 1;
            score += 1 - 0.5 * residual / tolerance;
        }
        if (score > best_score) best_score = score, best = fit;
    }
    return best;
}

/// The rim's points near a circle to a fraction of a pixel: the place of half of the light lost, ray by ray.
std::vector<RimPoint> exact_rim(const Grid& g, const Cell& cell, const Fit& fit, double window, float step) {
    std::vector<RimPoint> out;
    for (int ray = 0; ray < kRays; ++ray) {
        const Vec2 d = ray_direction(ray);
        const double from = std::max(0.0, fit.radius - window);
        const auto v = profile(g, cell, fit.centre, d, from, fit.radius + window);
        if (v.size() < 8 || double(v.size()) < window) continue;
        std::size_t best = 0;
        float most = step;
        for (std::size_t i = 3; i + 3 < v.size(); ++i)
            if (const float loss = v[i - 2] - v[i + 2]; loss > most) most = loss, best = i;
        if (best == 0) continue;
        const float inner = v[best - 3], outer = v[best + 3], half = 0.5f * (inner + outer);
        for (std::size_t i = best - 3; i < best + 3; ++i)
            if (v[i] >= half && v[i + 1] < half) {
                const double r = from + double(i) + (v[i] - half) / std::max(1e-6f, v[i] - v[i + 1]);
                out.push_back({fit.centre + r * d, ray});
                break;
            }
    }
    return out;
}

/// Geometric least squares with Tukey's weights; also says how well the data pin the circle down.
struct Refined {
    Fit fit;
    double spread = 0, doubt_px = 1e9;
    int inliers = 0;
};
Refined refined_fit(const std::vector<RimPoint>& points, Fit fit, double scale) {
    Refined out;
    for (int round = 0; round < 40; ++round) {
        const double cut = std::max(scale * std::pow(0.85, round), 1.5);
        Mat3 normal = Mat3::Zero();
        Vec3 right = Vec3::Zero();
        double sum = 0, weights = 0;
        int inliers = 0;
        for (const auto& p : points) {
            const Vec2 from = p.at - fit.centre;
            const double distance = from.norm(), residual = distance - fit.radius;
            if (distance < 1e-9 || std::abs(residual) >= cut) continue;
            const double w = std::pow(1 - residual * residual / (cut * cut), 2);
            const Vec3 j(from.x() / distance, from.y() / distance, 1);
            normal += w * j * j.transpose();
            right += w * residual * j;
            sum += w * residual * residual;
            weights += w;
            ++inliers;
        }
        if (inliers < 12) return out;
        const Eigen::LDLT<Mat3> solver(normal);
        const Vec3 move = solver.solve(right);
        if (!move.allFinite()) return out;
        fit.centre += move.head<2>();
        fit.radius += move.z();
        out.spread = std::sqrt(sum / std::max(weights, 1e-9));
        // Neighbouring rays err together, so the figure is widened by a few of them.
        out.doubt_px =
            3 * (out.spread + 0.05) * std::sqrt(solver.solve(Mat3::Identity()).diagonal().maxCoeff());
        out.inliers = inliers;
        if (move.norm() < 1e-5 && cut <= 1.5) break;
    }
    out.fit = fit;
    return out;
}

struct CellResult {
    std::optional<FoundCircle> found;
    std::string why_not, mend;
};

CellResult find_in_cell(const Grid& g, const Cell& cell) {
    const Surround s = surround_of(g, cell);
    if (s.inside < s.level + std::max(6 * s.noise, 2 * kLeastStep))
        return {{}, "too dark: nothing stands out of the surround", "Choose a brighter moment, or several"};
    const float step = std::max(kLeastStep, 3.5f * s.noise);
    const Vec2 middle(0.5 * (cell.x0 + cell.x1), 0.5 * (cell.y0 + cell.y1));
    const double size = std::min(cell.width(), cell.height());
    const auto candidates = rim_candidates(g, cell, middle, step);
    const double tolerance = std::max(1.5, 0.004 * size);
    const auto rough = agreed_circle(candidates, cell, tolerance);
    const char* none = s.level > 0.3f * s.inside && s.level > 0.08f
                           ? "the picture is filled to its corners: no dark surround to see a circle against"
                           : "no circle that enough of the picture's edge of light agrees on";
    const char* by_hand = "Drag the circle onto the picture in the lens view";
    if (!rough) return {{}, none, by_hand};
    Fit fit = *rough;
    Refined fine;
    for (const double window : {0.03 * size + 6, 0.012 * size + 6, 0.006 * size + 6}) {
        fine = refined_fit(exact_rim(g, cell, fit, window, step), fit, 2 * tolerance);
        if (fine.inliers == 0 || !cell.contains(fine.fit.centre, cell.centre_margin))
            return {{}, none, by_hand};
        fit = fine.fit;
    }
    // What of the rim lies inside the picture, and what of that was seen; outside must be darker than inside.
    const auto points = exact_rim(g, cell, fit, 0.006 * size + 6, step);
    std::vector<char> agrees(kRays);
    for (const auto& p : points)
        if (std::abs((p.at - fit.centre).norm() - fit.radius) < tolerance) agrees[std::size_t(p.ray)] = 1;
    int visible = 0, seen = 0;
    std::vector<float> outside;
    for (int ray = 0; ray < kRays; ++ray) {
        const Vec2 d = ray_direction(ray);
        if (!cell.contains(fit.centre + fit.radius * d, 3)) continue;
        ++visible;
        seen += agrees[std::size_t(ray)];
        if (const Vec2 p = fit.centre + (fit.radius * 1.02 + 4) * d; cell.contains(p, 1))
            outside.push_back(g.between(p.x(), p.y()));
    }
    const double share = visible ? double(seen) / visible : 0, arc = 360.0 * seen / kRays;
    if (!outside.empty()) {
        const auto mid = outside.begin() + std::ptrdiff_t(outside.size() / 2);
        std::nth_element(outside.begin(), mid, outside.end());
        if (*mid > s.level + 0.5f * (s.inside - s.level)) return {{}, none, by_hand};
    }
    if (arc < kLeastRimDeg || share < kLeastShare)
        return {{}, fmt::format("only {:.0f} degrees of a rim can be seen", arc), by_hand};
    if (fine.doubt_px > 0.003 * cell.width())
        return {{},
                fmt::format("the {:.0f} degrees of rim that can be seen leave the circle {:.1f} px uncertain",
                            arc, fine.doubt_px),
                by_hand};
    FoundCircle found;
    found.circle = {fit.centre, fit.radius};
    found.rim_seen_deg = arc;
    found.spread_px = fine.spread;
    found.confidence = std::clamp(share * 1.15, 0.0, 1.0) *
                       std::clamp(1.2 - fine.doubt_px / (0.003 * cell.width()), 0.0, 1.0);
    found.confidence = std::min(found.confidence, 0.99);
    return {found, {}, {}};
}

CircleSearch search_cells(const Grid& g, const std::vector<Cell>& cells, double back) {
    CircleSearch out;
    static const char* const kNames[2][2] = {{"left half: ", "right half: "},
                                             {"upper half: ", "lower half: "}};
    for (std::size_t i = 0; i < cells.size(); ++i) {
        auto r = find_in_cell(g, cells[i]);
        if (!r.found) {
            out.circles.clear();
            out.why_not = (cells.size() > 1 ? kNames[cells[0].x1 == g.width][i] : "") + r.why_not;
            out.mend = r.mend;
            return out;
        }
        r.found->circle.center_px *= back;
        r.found->circle.radius_px *= back;
        r.found->spread_px *= back;
        out.circles.push_back(*r.found);
    }
    return out;
}

} // namespace

CircleSearch find_circles(std::span<const Picture> moments, int wanted) {
    if (moments.empty() || moments[0].empty() || std::min(moments[0].width(), moments[0].height()) < 32)
        return {{}, "there is no picture to look at", "Give the camera its source"};
    int halvings = 0;
    const Grid g = brightest(moments, halvings);
    const double back = 1 << halvings, w = g.width, h = g.height;
    const std::vector<Cell> whole = {{0, 0, w, h}};
    const double quarter = std::max(w, h) / 8;
    const std::vector<Cell> halves =
        w >= h ? std::vector<Cell>{{0, 0, w / 2, h, quarter}, {w / 2, 0, w, h, quarter}}
               : std::vector<Cell>{{0, 0, w, h / 2, quarter}, {0, h / 2, w, h, quarter}};
    if (wanted == 1) return search_cells(g, whole, back);
    if (wanted == 2) return search_cells(g, halves, back);
    if (std::max(w, h) >= 1.7 * std::min(w, h))
        if (auto two = search_cells(g, halves, back); !two.circles.empty()) return two;
    return search_cells(g, whole, back);
}

} // namespace porb
