#include "solve/level.h"

#include "base/angle.h"
#include "base/error.h"
#include "project/orientation.h"
#include "project/span.h"
#include "solve/pictures/edges.h"

#include <Eigen/Dense>
#include <fmt/format.h>

namespace porb {

namespace {

constexpr double kAgreeDeg = 2.5;   ///< a constraint whose residual is less agrees
constexpr double kTogetherDeg = 1;  ///< level lines that point to one place within this run side by side
constexpr double kParallelDeg = 6;  ///< planes of level lines nearer than this fix no direction
constexpr double kMostTurnDeg = 40; ///< found edges stand upright within this of either end of the present up
constexpr double kAlongDeg = 2;     ///< an edge within so much of an axis runs along it, more or less
constexpr double kFitDeg = 0.8;     ///< and in earnest
constexpr double kMostUnsureDeg = 1; ///< of what is found; worse is not believed
constexpr std::size_t kMostPaired = 220;
constexpr double kLeastLineDeg = 9; ///< found lines are at least as long
constexpr int kMostFound = 60;

struct Constraint {
    Vec3 across; ///< at right angles to up
    double weight;
    std::size_t line, other; ///< two level lines make one; equal for upright lines
};

std::vector<Constraint> constraints_of(std::span<const LineSense> lines) {
    std::vector<Constraint> out;
    for (std::size_t i = 0; i < lines.size(); ++i) {
        if (lines[i].kind == LineKind::vertical) out.push_back({lines[i].normal, lines[i].weight, i, i});
        if (lines[i].kind != LineKind::horizontal) continue;
        for (std::size_t k = i + 1; k < lines.size(); ++k) {
            if (lines[k].kind != LineKind::horizontal) continue;
            const Vec3 level = lines[i].normal.cross(lines[k].normal);
            const double apart = std::asin(std::min(1.0, level.norm()));
            if (degrees(apart) < kParallelDeg) continue;
            // Two lines meet somewhere whether they run side by side or not; a third that runs there as well
            // tells.
            int third = 0;
            for (std::size_t m = 0; m < lines.size(); ++m)
                third += m != i && m != k && lines[m].kind == LineKind::horizontal &&
                         std::abs(lines[m].normal.dot(level.normalized())) < std::sin(radians(kTogetherDeg));
            out.push_back({level.normalized(),
                           std::min(lines[i].weight, lines[k].weight) * std::sin(apart) * (1 + 4 * third), i,
                           k});
        }
    }
    return out;
}

double residual_deg_of(const Constraint& c, const Vec3& up) {
    return degrees(std::asin(std::min(1.0, std::abs(c.across.dot(up)))));
}

} // namespace

std::vector<LineSense> line_senses(const Shot& shot) {
    std::vector<LineSense> out;
    for (const auto& l : shot.calibration.lines) {
        const Camera* camera = find_camera(shot.rig, l.camera);
        if (!camera || l.kind == LineKind::straight) continue;
        const LensMap map(camera->lens);
        const Mat3 to_rig = rotation_of(camera->pose.turn);
        Mat3 sum = Mat3::Zero();
        std::vector<Vec3> all;
        for (const auto& px : l.places_px)
            if (const auto d = map.unproject(px)) {
                all.push_back(to_rig * *d);
                sum += all.back() * all.back().transpose();
            }
        if (all.size() < 2) continue;
        double longest = 0;
        for (const auto& d : all)
            longest = std::max(longest, std::acos(std::clamp(all.front().dot(d), -1.0, 1.0)));
        const Eigen::SelfAdjointEigenSolver<Mat3> e(sum);
        out.push_back({l.kind, e.eigenvectors().col(0), longest});
    }
    return out;
}

Upright upright_from_lines(std::span<const LineSense> lines, const Vec3& near) {
    const auto constraints = constraints_of(lines);
    const auto verticals = std::count_if(lines.begin(), lines.end(),
                                         [](const LineSense& l) { return l.kind == LineKind::vertical; });
    if (constraints.size() < 2 || (lines.size() < 3 && verticals < 2))
        throw Error(fmt::format("{} lines do not tell which way is up", lines.size()), "Level",
                    "Draw three or more along things that are upright or level in the world: poles, door "
                    "edges, sills");
    Vec3 best = near;
    double most = -1;
    for (std::size_t i = 0; i < constraints.size(); ++i)
        for (std::size_t k = i + 1; k < constraints.size(); ++k) {
            const Vec3 axis = constraints[i].across.cross(constraints[k].across);
            if (axis.norm() < 0.02) continue;
            const Vec3 up = axis.normalized();
            // Level lines in pairs that do not belong together agree on sideways as well: not believed.
            if (verticals < std::ptrdiff_t(lines.size()) && std::abs(up.dot(near)) < 0.5) continue;
            double agree = 0;
            for (const auto& c : constraints)
                agree += c.weight * std::max(0.0, 1 - residual_deg_of(c, up) / kAgreeDeg);
            agree *= 1 + 0.1 * std::abs(up.dot(near)); // of equals, what is upright already
            if (agree > most) most = agree, best = up;
        }
    if (most < 0)
        throw Error("the lines run side by side and do not tell which way is up", "Level",
                    "Draw lines in different directions from the rig");
    Mat3 information = Mat3::Zero();
    for (int round = 0; round < 8; ++round) {
        information.setZero();
        for (const auto& c : constraints) {
            const double ratio = residual_deg_of(c, best) / kAgreeDeg;
            if (ratio < 1)
                information += c.weight * std::pow(1 - ratio * ratio, 2) * c.across * c.across.transpose();
        }
        const Eigen::SelfAdjointEigenSolver<Mat3> e(information);
        best = e.eigenvectors().col(0);
    }
    if (best.dot(near) < 0) best = -best;
    Upright out;
    out.up = best;
    out.residual_deg.assign(lines.size(), 0);
    out.agrees.assign(lines.size(), false);
    std::vector<double> smallest(lines.size(), 90);
    double squares = 0;
    int n = 0;
    for (const auto& c : constraints) {
        const double residual = residual_deg_of(c, best);
        for (const std::size_t l : {c.line, c.other}) smallest[l] = std::min(smallest[l], residual);
        if (residual < kAgreeDeg) squares += residual * residual, ++n;
    }
    for (std::size_t l = 0; l < lines.size(); ++l)
        out.residual_deg[l] = smallest[l], out.agrees[l] = smallest[l] < kAgreeDeg;
    out.error_deg = n ? std::sqrt(squares / n) : 0;
    // The weaker of the two directions in which up can lean.
    const Eigen::SelfAdjointEigenSolver<Mat3> e(information);
    double total = 0;
    for (const auto& c : constraints) total += residual_deg_of(c, best) < kAgreeDeg ? c.weight : 0;
    const double share = e.eigenvalues()[1] / std::max(1e-12, total);
    out.sure_deg = std::max(out.error_deg, 0.02) / std::sqrt(std::max(1e-6, share * std::max(1, n)));
    return out;
}

namespace {

/// An edge of a picture, in the rig's directions of the first moment.
struct Edge {
    LineMark mark;
    Vec3 normal;
    double length_rad;
};

/// What lies within 60 degrees of either end of an axis, by the rig's directions: how bright and how busy it
/// is.
struct Caps {
    double light[2] = {0, 0}, detail[2] = {0, 0}, count[2] = {0, 0};
    void add(const Eyepiece& eye, const Mat3& to_first, const Vec3& axis) {
        // Where a pixel is some third of a degree.
        std::size_t level = 0;
        while (level + 1 < eye.pictures->levels.size() && eye.lens.focal_px / (1 << level) > 180) ++level;
        const Grey& grey = eye.pictures->levels[level];
        const double down = double(eye.lens.width) / grey.width;
        for (int y = 1; y + 1 < grey.height; ++y)
            for (int x = 1; x + 1 < grey.width; ++x) {
                const Vec2 px((x + 0.5) * down, (y + 0.5) * down);
                if (eye.map.clearance(px) < 2 * down) continue;
                const auto d = eye.direction(px);
                if (!d) continue;
                const double along = (to_first * *d).dot(axis);
                if (std::abs(along) < 0.5) continue;
                const std::size_t end = along < 0;
                light[end] += double(grey.at(x, y));
                detail[end] += std::abs(double(grey.at(x + 1, y) - grey.at(x - 1, y))) +
                               std::abs(double(grey.at(x, y + 1) - grey.at(x, y - 1)));
                count[end] += 1;
            }
    }
    /// Which end is the sky, or a lit ceiling without anything on it: plainly brighter than the other and far
    /// less busy. A bright floor is busier than that. Nothing when neither is.
    std::optional<int> sky() const {
        constexpr double kBrighter = 0.1, kLessBusy = 0.45, kFewest = 200;
        if (count[0] < kFewest || count[1] < kFewest) return std::nullopt;
        for (const int end : {0, 1}) {
            const double here = count[end], there = count[1 - end];
            if (light[end] / here > light[1 - end] / there + kBrighter &&
                detail[end] / here < kLessBusy * detail[1 - end] / there)
                return end;
        }
        return std::nullopt;
    }
};

/// The axis within kMostTurnDeg of `near` along which most edges run, and how much they weigh.
std::pair<Vec3, double> axis_along(const std::vector<Edge>& edges, const Vec3& near) {
    Vec3 best = near;
    double most = 0;
    const double least_cos = std::cos(radians(kMostTurnDeg));
    for (std::size_t i = 0; i < edges.size(); ++i)
        for (std::size_t k = i + 1; k < edges.size(); ++k) {
            const Vec3 cross = edges[i].normal.cross(edges[k].normal);
            if (cross.norm() < 0.1) continue; // too much alike to fix a direction
            const Vec3 axis = cross.normalized();
            if (std::abs(axis.dot(near)) < least_cos) continue;
            double agree = 0;
            for (const Edge& e : edges) {
                const double residual = degrees(std::asin(std::min(1.0, std::abs(e.normal.dot(axis)))));
                if (residual < kAlongDeg) agree += e.length_rad * (1 - residual / kAlongDeg);
            }
            if (agree > most) most = agree, best = axis;
        }
    return {best.dot(near) < 0 ? Vec3(-best) : best, most};
}

/// Fitted to the edges that run along it, of which those far from it count less and less.
Upright fitted(const std::vector<Edge>& edges, Vec3 axis) {
    std::vector<LineSense> lines;
    double limit = kAlongDeg;
    Mat3 information;
    for (int round = 0; round < 12; ++round, limit = std::max(kFitDeg, 0.8 * limit)) {
        information.setZero();
        for (const Edge& e : edges) {
            const double ratio = degrees(std::asin(std::min(1.0, std::abs(e.normal.dot(axis))))) / limit;
            if (ratio < 1)
                information +=
                    e.length_rad * std::pow(1 - ratio * ratio, 2) * e.normal * e.normal.transpose();
        }
        const Eigen::SelfAdjointEigenSolver<Mat3> e(information);
        const Vec3 next = e.eigenvectors().col(0);
        axis = next.dot(axis) < 0 ? Vec3(-next) : next;
    }
    Upright out;
    out.up = axis;
    double squares = 0, total = 0;
    int n = 0;
    for (const Edge& e : edges) {
        const double residual = degrees(std::asin(std::min(1.0, std::abs(e.normal.dot(axis)))));
        out.residual_deg.push_back(residual);
        out.agrees.push_back(residual < kFitDeg);
        if (residual < kFitDeg) squares += residual * residual, total += e.length_rad, ++n;
    }
    out.error_deg = n ? std::sqrt(squares / n) : 0;
    const Eigen::SelfAdjointEigenSolver<Mat3> e(information);
    const double share = e.eigenvalues()[1] / std::max(1e-12, total);
    out.sure_deg = std::max(out.error_deg, 0.02) / std::sqrt(std::max(1e-6, share * std::max(1, n)));
    return out;
}

} // namespace

std::vector<Seconds> upright_times(const Project& project, const Shot& shot, MediaLibrary& library) {
    constexpr int kMoments = 4;
    const Span span = used_span(project, shot, library);
    const std::int64_t first = frame_index(span.in, shot.timing.rate),
                       last = std::max(first, frame_before(span.out, shot.timing.rate));
    std::vector<Seconds> times;
    for (int i = 0; i < kMoments; ++i) {
        const Seconds t = frame_time(first + (last - first) * i / (kMoments - 1), shot.timing.rate);
        if (times.empty() || times.back() < t) times.push_back(t);
    }
    return times;
}

FoundUpright find_upright(const Project& project, const Shot& shot, std::span<const Seconds> times,
                          MediaLibrary& library, const std::function<void(double)>& progress,
                          const Cancel& cancel) {
    const Mat3 first = orientation_at(shot, times.front());
    const Vec3 near = first.transpose() * Vec3(0, -1, 0);
    std::vector<Moment> moments;
    std::vector<Edge> edges;
    for (const Seconds time : times) {
        moments.push_back(read_moment(project, shot, time, library));
        const Mat3 to_first = first.transpose() * orientation_at(shot, time);
        for (const auto& eye : eyepieces(shot.rig, moments.back())) {
            if (!eye) continue;
            for (const auto& edge : edge_segments(*eye, kLeastLineDeg, cancel)) {
                Edge e;
                e.normal = to_first * eye->to_rig * edge.a.cross(edge.b).normalized();
                e.length_rad = edge.length_rad();
                e.mark.kind = LineKind::vertical;
                e.mark.time = time;
                e.mark.camera = shot.rig.cameras[eye->index].id;
                e.mark.found = true;
                for (const double t : {0.0, 0.25, 0.5, 0.75, 1.0})
                    e.mark.places_px.push_back(
                        eye->map.project_anywhere(((1 - t) * edge.a + t * edge.b).normalized()));
                edges.push_back(std::move(e));
            }
        }
        if (progress) progress(double(moments.size()) / double(times.size()));
    }
    const auto too_few = [&](const std::string& what) {
        return Error(what, "shot " + shot.name,
                     "Choose another moment, or trace three or more lines along things that are upright");
    };
    if (edges.size() < 4) throw too_few(fmt::format("only {} long straight edges were found", edges.size()));
    std::stable_sort(edges.begin(), edges.end(),
                     [](const Edge& a, const Edge& b) { return a.length_rad > b.length_rad; });
    const std::vector<Edge> longest(edges.begin(),
                                    edges.begin() + std::ptrdiff_t(std::min(edges.size(), kMostPaired)));
    const auto [axis, weight] = axis_along(longest, near);
    if (weight <= 0)
        throw too_few(fmt::format("{} edges were found, but no two run upright within {:.0f} degrees of the "
                                  "present up",
                                  edges.size(), kMostTurnDeg));
    FoundUpright out;
    out.upright = fitted(edges, axis);
    const auto along = std::count(out.upright.agrees.begin(), out.upright.agrees.end(), true);
    if (along < 4) throw too_few(fmt::format("of {} long edges only {} run upright", edges.size(), along));
    if (out.upright.sure_deg > kMostUnsureDeg)
        throw too_few(
            fmt::format("{} upright edges were found, but they run side by side: the lean could be off "
                        "by {:.1f} degrees",
                        along, out.upright.sure_deg));
    Caps caps;
    for (std::size_t m = 0; m < moments.size(); ++m)
        for (const auto& eye : eyepieces(shot.rig, moments[m]))
            if (eye) caps.add(*eye, first.transpose() * orientation_at(shot, times[m]), out.upright.up);
    const auto end = caps.sky();
    out.end_told = end.has_value();
    if (end && *end == 1) {
        out.turned_over = true;
        out.upright.up = -out.upright.up;
    }
    int id = 0;
    for (const auto& l : shot.calibration.lines) id = std::max(id, l.id);
    for (std::size_t i = 0; i < edges.size() && int(out.lines.size()) < kMostFound; ++i)
        if (out.upright.agrees[i]) {
            out.lines.push_back(edges[i].mark);
            out.lines.back().id = ++id;
        }
    return out;
}

Upright upright_from_record(const Shot& shot, const MotionRecord& record, double from_s, double to_s) {
    const Camera* camera =
        shot.calibration.motion ? find_camera(shot.rig, shot.calibration.motion->camera) : nullptr;
    const Mat3 mount = camera ? rotation_of(camera->pose.turn) : Mat3(Mat3::Identity());
    const double offset = shot.calibration.motion ? shot.calibration.motion->offset.to_double() : 0;
    std::vector<Vec3> ups;
    const auto within = [&](double t) { return t - offset >= from_s && t - offset <= to_s; };
    // How the rig had turned since the beginning, so that a moving rig's readings are all of one moment.
    for (const auto& s : record.acceleration)
        if (within(s.time_s)) {
            Vec3 up = mount * Vec3(s.value[0], s.value[1], s.value[2]);
            if (shot.levelling.steady && !shot.levelling.steady->path->empty())
                up = path_at(*shot.levelling.steady, from_s).transpose() *
                     path_at(*shot.levelling.steady, s.time_s - offset) * up;
            ups.push_back(up);
        }
    if (ups.empty())
        for (const auto& s : record.orientation)
            if (within(s.time_s))
                ups.push_back(
                    9.8 *
                    (mount * (rotation_from_vector(Vec3(s.value[0], s.value[1], s.value[2])).transpose() *
                              Vec3(0, -1, 0))));
    if (ups.empty())
        throw Error("holds neither acceleration nor orientation over the used part",
                    shot.calibration.motion ? shot.calibration.motion->path.string() : "the motion record",
                    "Use a record with accelerometer readings, or level by lines");
    Vec3 mean = Vec3::Zero();
    for (const auto& u : ups) mean += u;
    for (int round = 0; round < 10;
         ++round) { // a jolt must not tilt the horizon: readings far from the mean count little
        Vec3 sum = Vec3::Zero();
        double weights = 0;
        const Vec3 m = round ? mean : Vec3(mean / double(ups.size()));
        for (const auto& u : ups) {
            const double w = 1 / (1 + (u - m).squaredNorm() / 0.25);
            sum += w * u, weights += w;
        }
        mean = sum / weights;
    }
    Upright out;
    out.up = mean.normalized();
    double squares = 0;
    for (const auto& u : ups)
        squares += std::pow(std::acos(std::clamp(u.normalized().dot(out.up), -1.0, 1.0)), 2);
    out.error_deg = degrees(std::sqrt(squares / double(ups.size())));
    out.sure_deg = out.error_deg / std::sqrt(double(ups.size()));
    return out;
}

void set_upright(Shot& shot, Seconds time, const Vec3& up) {
    const Mat3 now = orientation_at(shot, time);
    const Vec3 there = now * up;
    // Straight from upside down every axis is as short: roll is the one that keeps the front in front.
    const Mat3 turn =
        there.y() > 0.9999 ? rotation_about(Vec3(0, 0, 1), kPi) : rotation_between(there, Vec3(0, -1, 0));
    if (shot.levelling.orientation_keys.empty())
        set_orientation(shot, time, turn * now);
    else
        turn_all(shot, turn);
}

double lean_deg(const Shot& shot, Seconds time, const Vec3& up) {
    return degrees(std::acos(std::clamp(-(orientation_at(shot, time) * up).y(), -1.0, 1.0)));
}

} // namespace porb
