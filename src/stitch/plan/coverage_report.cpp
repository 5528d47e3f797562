#include "stitch/plan/coverage_report.h"

#include <map>
#include <numeric>

#include "base/angle.h"
#include "base/best_two.h"
#include "optics/sphere_grid.h"
#include "stitch/plan/coverage.h"

#include <Eigen/Geometry>
#include <fmt/format.h>

namespace porb {

namespace {
constexpr int kDirections = 4000;
constexpr double kStepDeg = 0.25;
constexpr double kGoldenAngle = 2.399963229728653;

/// The i-th of `count` directions spread evenly.
Vec3 spread(int i, int count) {
    const double y = 1 - 2 * (i + 0.5) / count, s = std::sqrt(1 - y * y);
    return {s * std::cos(i * kGoldenAngle), y, s * std::sin(i * kGoldenAngle)};
}

/// Of a shot as it stands in the rig's own axes, every camera taken to have its source.
PlanKey plain_key(const Shot& shot, Seconds time) {
    View view;
    view.target = equirect_target(3840); // as finely as a master would ask
    return in_rig_axes(plan_key(shot, view, time, Sources::all));
}

Vec3 axis_of(const KeyCamera& c) {
    return rotation_of(c.pose.turn) * Vec3(0, 0, 1);
}
} // namespace

CoverageReport coverage_report(const Shot& shot) {
    PlanKey key = plain_key(shot, Seconds(0));
    key.agree_distance_m = 0;
    const Coverage coverage(key);
    CoverageReport report;
    for (int i = 0; i < kDirections; ++i) {
        const Vec3 d = spread(i, kDirections);
        const int lenses = coverage.lenses_at(d);
        report.share[std::size_t(std::min(lenses, 3))] += 1.0 / kDirections;
        if (lenses == 0 && report.unseen.size() < 600) report.unseen.push_back(d);
    }
    for (std::size_t a = 0; a < key.cameras.size(); ++a)
        for (std::size_t b = a + 1; b < key.cameras.size(); ++b) {
            const Vec3 from = axis_of(key.cameras[a]), to = axis_of(key.cameras[b]);
            const double apart = std::atan2(from.cross(to).norm(), from.dot(to));
            // Opposite or equal axes lie on every great circle through them: any one will do.
            Vec3 across = from.cross(to);
            if (across.norm() < 1e-6)
                across = from.cross(std::abs(from.y()) < 0.9 ? Vec3(0, 1, 0) : Vec3(1, 0, 0));
            // From the middle between the axes outwards, as far as both see without a break.
            int both = 0;
            for (const int way : {1, -1})
                for (double t = way > 0 ? 0 : kStepDeg; t < 180; t += kStepDeg) {
                    const double at = apart / 2 + way * radians(t + kStepDeg / 2 * way);
                    const auto inside = coverage.margin_deg(rotation_about(across.normalized(), at) * from);
                    if (!(inside[a] > 0 && inside[b] > 0)) break;
                    ++both;
                }
            if (both > 0) report.overlaps.push_back({a, b, both * kStepDeg});
        }
    std::stable_sort(report.overlaps.begin(), report.overlaps.end(),
                     [](const PairOverlap& x, const PairOverlap& y) { return x.width_deg > y.width_deg; });
    return report;
}

CutHole cut_hole(const Shot& shot, Seconds time) {
    constexpr int kFine = 41253; // one a square degree
    constexpr double kMost = 0.5;
    CutHole hole;
    const bool cut = std::any_of(shot.cameras.begin(), shot.cameras.end(), [](const ShotCamera& c) {
        return c.used && std::any_of(c.shapes.begin(), c.shapes.end(),
                                     [](const Shape& s) { return s.on && !s.restores && !s.distance; });
    });
    if (!cut) return hole;
    PlanKey key = plain_key(shot, time), uncut = key, whole = key;
    for (auto& c : uncut.cameras) c.shapes.clear();
    for (auto& c : whole.cameras) {
        std::erase_if(c.shapes, [](const KeyShape& s) { return s.restores; }); // what is cut stays cut
        c.reach_deg = 180;
    }
    const Coverage now(key), before(uncut), all(whole);
    std::vector<int> shows(shot.cameras.size(), 0);
    Vec3 sum(0, 0, 0);
    int lost = 0;
    for (int i = 0; i < kFine; ++i) {
        const Vec3 d = spread(i, kFine);
        if (now.lenses_at(d) > 0 || before.lenses_at(d) == 0) continue;
        ++lost;
        sum += d;
        const auto inside = all.margin_deg(d);
        for (std::size_t c = 0; c < inside.size(); ++c) shows[c] += inside[c] > 0;
    }
    if (lost == 0) return hole;
    hole.square_deg = lost;
    if (sum.norm() > 1e-9) hole.middle = sum.normalized();
    std::vector<std::size_t> order;
    for (std::size_t c = 0; c < shows.size(); ++c)
        if (shows[c] > kMost * lost) order.push_back(c);
    std::stable_sort(order.begin(), order.end(),
                     [&](std::size_t a, std::size_t b) { return shows[a] > shows[b]; });
    for (const std::size_t c : order) hole.could_fill.push_back(shot.cameras[c].camera);
    return hole;
}

namespace {

/// How far about a pole nobody sees; nothing when it is seen, or what is open is no small hole.
std::optional<double> open_about(const Coverage& coverage, bool below) {
    constexpr int kAround = 32;
    constexpr double kStep_deg = 0.05; // less than a pixel of a master 8192 wide
    double open = -1;
    for (double r = 0; r <= PoleHole::kMost_deg; r += kStep_deg) {
        bool all_seen = true;
        for (int i = 0; i < kAround && all_seen; ++i) {
            const double phi = 2 * kPi * i / kAround, s = std::sin(radians(r));
            const Vec3 d(s * std::sin(phi), (below ? 1 : -1) * std::cos(radians(r)), s * std::cos(phi));
            all_seen = coverage.lenses_at(d) > 0;
        }
        if (!all_seen)
            open = r;
        else if (open >= 0)
            return open + kStep_deg;
        else if (r > 1) // seen at the pole and well beside it
            return std::nullopt;
    }
    return std::nullopt;
}

} // namespace

std::vector<PoleHole> pole_holes(const Shot& shot) {
    std::vector<PoleHole> holes;
    const PlanKey key = plain_key(shot, shot.timing.in);
    const Coverage coverage(key);
    for (const bool below : {true, false}) {
        const auto open = open_about(coverage, below);
        if (!open) continue;
        PoleHole hole{below, *open, {}};
        double widest = 0, wide = 0;
        for (const auto& c : shot.cameras) {
            widest = std::max(widest, c.reach_deg);
            wide = std::max(wide, default_reach_deg(find_camera(shot.rig, c.camera)->lens));
        }
        const auto closes = [&](double reach) {
            PlanKey wider = key;
            for (auto& c : wider.cameras)
                c.reach_deg = std::max(c.reach_deg, std::min(reach, default_reach_deg(c.lens)));
            return !open_about(Coverage(wider), below);
        };
        // In half degrees, the least that closes it: a wider reach never sees less, so halves do.
        int open_at = int(std::ceil(widest * 2)) - 1, closed_at = int(std::floor(wide * 2));
        if (closed_at > open_at && closes(closed_at / 2.0)) {
            while (closed_at - open_at > 1) {
                const int middle = open_at + (closed_at - open_at) / 2;
                (closes(middle / 2.0) ? closed_at : open_at) = middle;
            }
            hole.reach_deg = closed_at / 2.0;
        }
        holes.push_back(hole);
    }
    return holes;
}

std::string words_of(const PoleHole& hole) {
    return fmt::format("{:.2g} degrees about the {} are seen by no lens: {}", hole.radius_deg,
                       hole.below ? "nadir" : "zenith",
                       hole.reach_deg
                           ? fmt::format("a reach of {:.1f} degrees would close it", *hole.reach_deg)
                           : std::string("they stay black"));
}

namespace {

/// How far inside the reach of the lens that sees it best a direction lies; below 0 outside all.
double best_inside(const Coverage& coverage, const Vec3& d) {
    const auto inside = coverage.margin_deg(d);
    return inside.empty() ? -1 : *std::max_element(inside.begin(), inside.end());
}

/// Whether what is open at `d` is narrow: seen again on both sides some way, at least.
bool is_narrow(const Coverage& coverage, const Vec3& d) {
    constexpr double kBeside_deg = 1.5, kPlainly_deg = 0.5; // along a rim nothing is seen plainly
    constexpr int kWays = 8;
    const Vec3 across = d.unitOrthogonal(), other = d.cross(across);
    for (int i = 0; i < kWays; ++i) {
        const double phi = kPi * i / kWays;
        const Vec3 way = std::cos(phi) * across + std::sin(phi) * other;
        const auto seen = [&](double side) {
            return best_inside(coverage, (d + side * std::tan(radians(kBeside_deg)) * way).normalized()) >
                   kPlainly_deg;
        };
        if (seen(1) && seen(-1)) return true;
    }
    return false;
}

/// Looks ever closer where a lens sees little beyond its rim: how far inside a direction lies changes by no
/// more than the way to the next, so that most of the sphere, and the midst of wide holes, is done with at
/// once.
std::optional<Vec3> open_line(const Coverage& coverage, const Vec2& corner, double size) {
    constexpr double kFinest = 1.0 / 4096;
    constexpr double kWay_deg = 180;   // from a cell's middle to its corner at most, a square of side 1
    constexpr double kDark_deg = 0.03; // less is a line of pixels
    constexpr double kDeep_deg = 0.15; // more is a hole, of which others tell
    const Vec3 d = octahedral_direction(corner + Vec2(size / 2, size / 2));
    const double best = best_inside(coverage, d);
    if (best > kDark_deg + kWay_deg * size || best < -kDeep_deg - kWay_deg * size) return std::nullopt;
    if (best <= kDark_deg && best >= -kDeep_deg && std::abs(d.y()) < std::cos(radians(PoleHole::kMost_deg)) &&
        is_narrow(coverage, d))
        return d;
    if (size <= kFinest) return std::nullopt;
    for (const double y : {0.0, size / 2})
        for (const double x : {0.0, size / 2})
            if (const auto found = open_line(coverage, corner + Vec2(x, y), size / 2)) return found;
    return std::nullopt;
}

} // namespace

std::optional<Hairline> hairline(const Shot& shot) {
    constexpr int kCells = 32;
    if (std::any_of(shot.rig.cameras.begin(), shot.rig.cameras.end(),
                    [](const Camera& c) { return c.eyes != Eyes::both; }))
        return std::nullopt;
    const PlanKey key = plain_key(shot, shot.timing.in);
    const Coverage coverage(key);
    std::optional<Vec3> at;
    for (int i = 0; i < kCells * kCells && !at; ++i)
        at = open_line(coverage, Vec2(i % kCells, i / kCells) / kCells, 1.0 / kCells);
    if (!at) return std::nullopt;
    const auto inside = coverage.margin_deg(*at);
    std::vector<std::size_t> order(inside.size());
    std::iota(order.begin(), order.end(), std::size_t(0));
    std::stable_sort(order.begin(), order.end(), [&](auto x, auto y) { return inside[x] > inside[y]; });
    if (order.size() < 2) return std::nullopt;
    const KeyCamera &a = key.cameras[order[0]], &b = key.cameras[order[1]];
    Hairline line{*at, a.id, b.id, std::nullopt};
    constexpr double kMore_deg = 0.5;
    const double wanted = std::ceil(2 * std::max(a.reach_deg, b.reach_deg)) / 2 + kMore_deg;
    if (wanted <= std::min(default_reach_deg(a.lens), default_reach_deg(b.lens))) line.reach_deg = wanted;
    return line;
}

std::string words_of(const Hairline& line) {
    const auto yaw = degrees(std::atan2(line.at.x(), line.at.z())), pitch = degrees(std::asin(-line.at.y()));
    return fmt::format(
        "{} and {} only just meet (yaw {:.0f}, pitch {:.0f} of the rig), and a hairline between them "
        "is seen by no lens: {}",
        line.a, line.b, yaw, pitch,
        line.reach_deg ? fmt::format("a reach of {:.1f} degrees would close it", *line.reach_deg)
                       : std::string("it stays dark"));
}

std::vector<std::pair<std::string, std::string>> meeting_cameras(const Shot& shot) {
    constexpr int kAround = 96;       // directions of about four degrees
    constexpr double kBeside_deg = 6; // between two leads, near a line
    constexpr double kFewest = 0.04;  // of the longest seam
    const Coverage coverage(for_every_view(plan_key(shot, View(), shot.timing.in, Sources::all)));
    const TargetMap map(equirect_target(kAround));
    std::map<std::pair<std::size_t, std::size_t>, double> lengths;
    for (int y = 0; y < kAround / 2; ++y)
        for (int x = 0; x < kAround; ++x) {
            const auto lead = coverage.lead_deg(*map.direction({x + 0.5, y + 0.5}));
            BestTwo two;
            for (std::size_t c = 0; c < lead.size(); ++c)
                if (lead[c] >= -1e8) two.offer(int(c), lead[c]);
            if (two.second < 0 || two.lead() > kBeside_deg) continue;
            lengths[{std::size_t(std::min(two.best, two.second)),
                     std::size_t(std::max(two.best, two.second))}] +=
                std::cos((0.5 - (y + 0.5) / (kAround / 2)) * kPi);
        }
    double longest = 0;
    for (const auto& [pair, length] : lengths) longest = std::max(longest, length);
    std::vector<std::pair<double, std::pair<std::size_t, std::size_t>>> order;
    for (const auto& [pair, length] : lengths)
        if (length > kFewest * longest) order.push_back({-length, pair});
    std::sort(order.begin(), order.end());
    std::vector<std::pair<std::string, std::string>> out;
    for (const auto& [length, pair] : order)
        out.emplace_back(shot.cameras[pair.first].camera, shot.cameras[pair.second].camera);
    return out;
}

} // namespace porb
