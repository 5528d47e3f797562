#include "solve/pictures/matching.h"

#include "base/angle.h"
#include "base/parallel.h"

#include <Eigen/Cholesky>
#include <mutex>
#include <numeric>
#include <opencv2/imgproc.hpp>

namespace porb {

namespace {

constexpr int kPatch = 7;          ///< half the side of patches that are compared, in steps
constexpr double kSearchSteps = 9; ///< the margin, in steps of the coarsest level
constexpr double kBackPx = 0.4;    ///< how near to where it began a match must come back
constexpr double kClearlyBetter = 0.72;
constexpr int kTriesACell = 3;
constexpr float kFlat = 0.012f; ///< standard deviation of brightness below which a patch says nothing

struct Norm {
    float mean = 0, spread = 0; ///< spread: root of the sum of squares about the mean
};
Norm norm_of(std::span<const float> v) {
    float sum = 0, squares = 0;
    for (const float x : v) sum += x, squares += x * x;
    const auto n = float(v.size());
    return {sum / n, std::sqrt(std::max(0.0f, squares - sum * sum / n))};
}

double step_of(const Eyepiece& eye) {
    return 1 / eye.lens.focal_px;
}

/// Radians a pixel where a lens has that place, along its radius: coarse near the rim of some lenses.
double step_at(const Eyepiece& eye, const Vec3& rig_direction) {
    const Vec3 d = eye.to_rig.transpose() * rig_direction;
    const double theta = std::atan2(std::hypot(d.x(), d.y()), d.z());
    constexpr double kSmall = 1e-3;
    const double slope = (eye.map.radius(theta + kSmall) - eye.map.radius(std::max(0.0, theta - kSmall))) /
                         (theta + kSmall - std::max(0.0, theta - kSmall));
    return 1 / std::max(slope, 0.25 * eye.lens.focal_px);
}

struct Peak {
    double x = 0, y = 0, value = -1, second = -1;
    bool at_edge = false;
};

/// Best place of a template within a larger patch, both row by row; places are offsets of centres in steps.
Peak best_place(std::span<const float> templ, std::span<const float> area, int half_w, int half_h) {
    constexpr int side = 2 * kPatch + 1;
    const int width = 2 * half_w + 1, reach_x = half_w - kPatch, reach_y = half_h - kPatch;
    const Norm t = norm_of(templ);
    float centred[side * side];
    for (int i = 0; i < side * side; ++i) centred[i] = templ[std::size_t(i)] - t.mean;
    std::vector<float> map(std::size_t(2 * reach_x + 1) * std::size_t(2 * reach_y + 1), -1);
    Peak best;
    int bx = 0, by = 0;
    for (int y = -reach_y; y <= reach_y; ++y)
        for (int x = -reach_x; x <= reach_x; ++x) {
            float dot = 0, sum = 0, squares = 0;
            for (int j = 0; j < side; ++j) {
                const float* a = &area[std::size_t((y + half_h - kPatch + j) * width + x + half_w - kPatch)];
                const float* c = centred + j * side;
                for (int i = 0; i < side; ++i) {
                    dot += a[i] * c[i];
                    sum += a[i];
                    squares += a[i] * a[i];
                }
            }
            const float spread = std::sqrt(std::max(1e-12f, squares - sum * sum / float(side * side)));
            const float value = spread < kFlat * side ? -1 : dot / (spread * t.spread);
            map[std::size_t((y + reach_y) * (2 * reach_x + 1) + x + reach_x)] = value;
            if (double(value) > best.value) best.value = double(value), bx = x, by = y;
        }
    for (int y = -reach_y; y <= reach_y; ++y)
        for (int x = -reach_x; x <= reach_x; ++x)
            if (std::abs(x - bx) > 3 || std::abs(y - by) > 3)
                best.second = std::max(
                    best.second, double(map[std::size_t((y + reach_y) * (2 * reach_x + 1) + x + reach_x)]));
    best.at_edge = std::abs(bx) == reach_x || std::abs(by) == reach_y;
    best.x = bx;
    best.y = by;
    return best;
}

struct Refined {
    double x, y, value;
};
/// Least squares on brightness: b(x + dx, y + dy) * gain + offset = a, by Gauss-Newton with b's own slopes
/// (Lucas and Kanade 1981).
std::optional<Refined> refine(const Eyepiece& b, const Tangent& tangent, std::span<const float> a, double x,
                              double y) {
    constexpr int side = 2 * kPatch + 1, wide = side + 2;
    const double x_begin = x, y_begin = y;
    std::vector<float> area;
    const Norm ta = norm_of(a);
    double value = -1;
    for (int round = 0; round < 12; ++round) {
        if (!sample_patch(b, tangent, x, y, kPatch + 1, kPatch + 1, area)) return std::nullopt;
        Eigen::Matrix4d normal = Eigen::Matrix4d::Zero();
        Eigen::Vector4d right = Eigen::Vector4d::Zero();
        double dot = 0, sum = 0, squares = 0;
        for (int j = 0; j < side; ++j)
            for (int i = 0; i < side; ++i) {
                const float* p = &area[std::size_t((j + 1) * wide + i + 1)];
                const Eigen::Vector4d row(0.5 * double(p[1] - p[-1]), 0.5 * double(p[wide] - p[-wide]),
                                          double(p[0]), 1);
                const double want = double(a[std::size_t(j * side + i)]);
                normal += row * row.transpose();
                right += row * want;
                dot += double(p[0]) * (want - double(ta.mean));
                sum += double(p[0]);
                squares += double(p[0]) * double(p[0]);
            }
        value = dot / (std::sqrt(std::max(1e-12, squares - sum * sum / (side * side))) *
                       std::max(1e-6, double(ta.spread)));
        const Eigen::Vector4d found = normal.ldlt().solve(right);
        // a = gain b + gain (slope . move) + offset
        const double gain = found[2];
        if (!found.allFinite() || gain < 0.2 || gain > 5) return std::nullopt;
        const Vec2 move(found[0] / gain, found[1] / gain);
        const double length = move.norm();
        x += move.x() * std::min(1.0, 1.0 / std::max(1e-9, length));
        y += move.y() * std::min(1.0, 1.0 / std::max(1e-9, length));
        if (std::hypot(x - x_begin, y - y_begin) > 3) return std::nullopt;
        if (length < 0.003) return Refined{x, y, value};
    }
    return std::nullopt;
}

/// The direction of a thing as b sees it when a sees it at `direction` and it is 1/inverse_m away.
Vec3 seen_from(const Eyepiece& a, const Eyepiece& b, const Vec3& direction, double inverse_m) {
    return (direction + inverse_m * (a.position - b.position)).normalized();
}

/// Any direction across c that is not nearly along it.
Vec3 some_across(const Vec3& c) {
    return std::abs(c.y()) < 0.8 ? Vec3(0, 1, 0) : Vec3(1, 0, 0);
}

/// Whether a place lies inside a closed outline: crossings of a ray towards larger x.
bool inside(std::vector<Vec2> corners, const Vec2& p, bool on_sphere) {
    if (on_sphere) // longitudes follow one another, so that outlines over 180 degrees hold together
        for (std::size_t i = 1; i < corners.size(); ++i)
            corners[i].x() = corners[i - 1].x() + wrapped_deg(corners[i].x() - corners[i - 1].x());
    const auto holds = [&](const Vec2& q) {
        bool in = false;
        for (std::size_t i = 0, j = corners.size() - 1; i < corners.size(); j = i++) {
            const Vec2 a = corners[i] - q, b = corners[j] - q;
            if ((a.y() > 0) != (b.y() > 0) && 0 < (b.x() - a.x()) * (0 - a.y()) / (b.y() - a.y()) + a.x())
                in = !in;
        }
        return in;
    };
    if (!on_sphere) return holds(p);
    return holds(p) || holds(p + Vec2(360, 0)) || holds(p - Vec2(360, 0));
}

/// Cells of a cube's faces; alike in size to a factor of about two.
int cell_of(const Vec3& d, int grid) {
    int axis;
    d.cwiseAbs().maxCoeff(&axis);
    const double m = std::abs(d[axis]);
    const double u = std::atan2(d[(axis + 1) % 3], m) / (kPi / 2) + 0.5,
                 v = std::atan2(d[(axis + 2) % 3], m) / (kPi / 2) + 0.5;
    const int i = std::clamp(int(u * grid), 0, grid - 1), j = std::clamp(int(v * grid), 0, grid - 1);
    return ((axis * 2 + (d[axis] < 0)) * grid + i) * grid + j;
}

} // namespace

double correlation(std::span<const float> a, std::span<const float> b) {
    const Norm na = norm_of(a), nb = norm_of(b);
    if (na.spread < 1e-6f || nb.spread < 1e-6f) return 0;
    double dot = 0;
    for (std::size_t i = 0; i < a.size(); ++i) dot += double(a[i] - na.mean) * double(b[i] - nb.mean);
    return dot / (double(na.spread) * double(nb.spread));
}

std::vector<Vec2> epipolar_arc(const Eyepiece& a, const Eyepiece& b, const Vec2& a_px, double nearest_m) {
    std::vector<Vec2> arc;
    const auto d = a.direction(a_px);
    if (!d) return arc;
    constexpr int kSteps = 32;
    for (int i = 0; i <= kSteps; ++i)
        if (const auto p = b.sees(seen_from(a, b, *d, double(i) / kSteps / nearest_m), 0)) arc.push_back(*p);
    return arc;
}

std::optional<Match> refine_match(const Eyepiece& a, const Eyepiece& b, const Vec2& a_px, const Vec2& b_px,
                                  double least_correlation) {
    const auto da = a.direction(a_px), db = b.direction(b_px);
    if (!da || !db) return std::nullopt;
    const Vec3 along = some_across(*da);
    const double step = std::max(step_at(a, *da), step_at(b, *db));
    const Tangent ta = tangent_at(*da, along, step), tb = tangent_at(*db, along, step);
    std::vector<float> pa, pb;
    if (!sample_patch(a, ta, 0, 0, kPatch, kPatch, pa)) return std::nullopt;
    if (norm_of(pa).spread < kFlat * (2 * kPatch + 1)) return std::nullopt;
    const auto there = refine(b, tb, pa, 0, 0);
    if (!there || there->value < least_correlation) return std::nullopt;
    const Vec3 found = tb.direction(there->x, there->y);
    // Back again: what b shows there, looked for in a, must lie where the search began.
    const Tangent tf = tangent_at(found, along, step);
    if (!sample_patch(b, tf, 0, 0, kPatch, kPatch, pb)) return std::nullopt;
    const auto back = refine(a, ta, pb, 0, 0);
    if (!back || std::hypot(back->x, back->y) > kBackPx) return std::nullopt;
    // Half of what there and back disagree by is the better guess.
    const Vec3 settled = tf.direction(-0.5 * back->x, -0.5 * back->y);
    const auto px = b.sees(settled, 1);
    if (!px) return std::nullopt;
    return Match{a_px, *px, there->value};
}

std::optional<Match> match_place(const Eyepiece& a, const Eyepiece& b, const Vec2& a_px,
                                 const MatchOptions& o, std::string* why_not) {
    const auto give_up = [&](const char* why) -> std::optional<Match> {
        if (why_not) *why_not = why;
        return std::nullopt;
    };
    const auto da = a.direction(a_px);
    if (!da) return give_up("it lies outside the first camera's image circle");
    const Vec3 far = seen_from(a, b, *da, 0), near = seen_from(a, b, *da, 1 / o.nearest_m);
    const double arc = std::acos(std::clamp(far.dot(near), -1.0, 1.0));
    const Vec3 along = arc > 1e-4 ? Vec3(near - far) : some_across(far);
    Vec3 c = (far + near).normalized();
    const double finest = std::max(step_at(a, *da), step_of(b));
    const double margin = radians(o.margin_deg);
    int level = 0;
    while (margin / (finest * (1 << level)) > kSearchSteps) ++level;
    double half_along = arc / 2 + margin, half_across = margin;
    std::vector<float> templ, area;
    for (; level >= 0; --level) {
        const double step = finest * (1 << level);
        const Tangent ta = tangent_at(*da, along, step), tb = tangent_at(c, along, step);
        if (!sample_patch(a, ta, 0, 0, kPatch, kPatch, templ)) {
            if (level > 0) continue; // too near the rim for so wide a patch
            return give_up("it lies too near the rim");
        }
        if (norm_of(templ).spread < kFlat * (2 * kPatch + 1))
            return give_up("there is too little to see there");
        const int half_w = kPatch + std::max(2, int(std::ceil(half_along / step))),
                  half_h = kPatch + std::max(2, int(std::ceil(half_across / step)));
        // Parts of the area may lie past the rim: nothing there looks alike.
        if (!sample_patch(b, tb, 0, 0, half_w, half_h, area, true))
            return give_up("the second camera does not see enough of its surroundings");
        const Peak peak = best_place(templ, area, half_w, half_h);
        if (peak.value < (level > 0 ? 0.6 : 0.7)) return give_up("nothing there looks alike");
        if (peak.at_edge) return give_up("the best place lies at the end of what was searched");
        if (half_w - kPatch > 4 && 1 - peak.value > kClearlyBetter * (1 - peak.second))
            return give_up("several places look alike");
        c = tb.direction(peak.x, peak.y);
        half_along = half_across = 1.5 * step;
    }
    const auto px = b.sees(c, 1);
    if (!px) return give_up("the second camera does not see it");
    const auto refined = refine_match(a, b, a_px, *px, o.least_correlation);
    if (!refined) return give_up("the two pictures of it differ too much");
    return refined;
}

std::vector<Corner> corners_of(const Eyepiece& eye) {
    const auto level =
        std::size_t(eye.pictures->levels.size() > 1 && eye.lens.circle.radius_px > 300 ? 1 : 0);
    const Grey& g = eye.pictures->levels[level];
    const double scale = 1 << level;
    const cv::Mat source(g.height, g.width, CV_32F, const_cast<float*>(g.v.data()));
    cv::Mat strength, most;
    cv::cornerMinEigenVal(source, strength, 5, 3);
    cv::dilate(strength, most, cv::getStructuringElement(cv::MORPH_RECT, {7, 7}));
    std::vector<Corner> corners;
    const double spare = 2 * kPatch;
    for (int y = 2; y + 2 < g.height; ++y) {
        const float *s = strength.ptr<float>(y), *m = most.ptr<float>(y);
        for (int x = 2; x + 2 < g.width; ++x) {
            if (s[x] < m[x] || s[x] < 2e-6f) continue;
            const Vec2 px((x + 0.5) * scale, (y + 0.5) * scale);
            if (eye.map.clearance(px) < spare) continue;
            if (const auto d = eye.direction(px)) corners.push_back({px, *d, s[x]});
        }
    }
    std::sort(corners.begin(), corners.end(),
              [](const Corner& p, const Corner& q) { return p.strength > q.strength; });
    return corners;
}

bool regions_allow(const std::vector<PointRegion>& regions, const std::string& camera, const Vec2& px,
                   const Vec3& d) {
    bool any_use = false, in_use = false;
    for (const auto& r : regions) {
        const bool sphere = r.camera.empty();
        if (!sphere && r.camera != camera) continue;
        const Turn to = turn_towards(d);
        const Vec2 place = sphere ? Vec2(to.yaw_deg, to.pitch_deg) : px;
        const bool in = inside(r.corners, place, sphere);
        if (r.avoid && in) return false;
        if (!r.avoid) any_use = true, in_use = in_use || in;
    }
    return !any_use || in_use;
}

std::vector<Match> match_pair(const Eyepiece& a, const Eyepiece& b, const std::vector<Corner>& corners,
                              const MatchOptions& o, const std::function<bool(const Corner&)>& allowed,
                              const Cancel& cancel) {
    std::vector<const Corner*> seen;
    for (const auto& c : corners)
        if (b.sees(c.direction, kPatch + 2) && allowed(c)) seen.push_back(&c);
    // Cells of one grid for all pairs, so that the same corners are looked for in every camera that sees
    // them: a thing that three cameras see tells how far it is. Twice as fine where the overlap is narrow.
    std::vector<std::vector<const Corner*>> cells;
    for (int grid = int(std::ceil(std::sqrt(o.wanted / 1.6))), round = 0; round < 3; ++round, grid *= 2) {
        std::vector<std::vector<const Corner*>> now(std::size_t(6 * grid * grid));
        for (const Corner* c : seen) {
            auto& cell = now[std::size_t(cell_of(c->direction, grid))];
            if (cell.size() < kTriesACell) cell.push_back(c);
        }
        std::erase_if(now, [](const auto& cell) { return cell.empty(); });
        cells = std::move(now);
        if (int(cells.size()) >= o.wanted / 2) break;
    }
    std::vector<std::optional<Match>> found(cells.size());
    parallel_ranges(int(cells.size()), 4, [&](int begin, int end) {
        for (int i = begin; i < end; ++i) {
            cancel.check();
            for (const Corner* c : cells[std::size_t(i)])
                if ((found[std::size_t(i)] = match_place(a, b, c->px, o))) break;
        }
    });
    std::vector<Match> matches;
    for (const auto& m : found)
        if (m) matches.push_back(*m);
    return matches;
}

} // namespace porb
