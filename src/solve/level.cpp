#include "solve/level.h"

#include "base/angle.h"
#include "base/error.h"
#include "project/orientation.h"
#include "solve/edges.h"

#include <Eigen/Dense>
#include <fmt/format.h>

namespace porb {

namespace {

constexpr double kAgreeDeg = 2.5;   ///< a constraint that misses by less agrees
constexpr double kTogetherDeg = 1;  ///< level lines that point to one place within this run side by side
constexpr double kParallelDeg = 6;  ///< planes of level lines nearer than this fix no direction
constexpr double kMostLeanDeg = 50; ///< found lines are upright within this of the present up
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

double miss_deg_of(const Constraint& c, const Vec3& up) {
    return degrees(std::asin(std::min(1.0, std::abs(c.across.dot(up)))));
}

} // namespace

std::vector<LineSense> line_senses(const Shot& shot) {
    std::vector<LineSense> out;
    for (const auto& l : shot.lines) {
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
                agree += c.weight * std::max(0.0, 1 - miss_deg_of(c, up) / kAgreeDeg);
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
            const double ratio = miss_deg_of(c, best) / kAgreeDeg;
            if (ratio < 1)
                information += c.weight * std::pow(1 - ratio * ratio, 2) * c.across * c.across.transpose();
        }
        const Eigen::SelfAdjointEigenSolver<Mat3> e(information);
        best = e.eigenvectors().col(0);
    }
    if (best.dot(near) < 0) best = -best;
    Upright out;
    out.up = best;
    out.miss_deg.assign(lines.size(), 0);
    out.agrees.assign(lines.size(), false);
    std::vector<double> smallest(lines.size(), 90);
    double squares = 0;
    int n = 0;
    for (const auto& c : constraints) {
        const double miss = miss_deg_of(c, best);
        for (const std::size_t l : {c.line, c.other}) smallest[l] = std::min(smallest[l], miss);
        if (miss < kAgreeDeg) squares += miss * miss, ++n;
    }
    for (std::size_t l = 0; l < lines.size(); ++l)
        out.miss_deg[l] = smallest[l], out.agrees[l] = smallest[l] < kAgreeDeg;
    out.error_deg = n ? std::sqrt(squares / n) : 0;
    // The weaker of the two directions in which up can lean.
    const Eigen::SelfAdjointEigenSolver<Mat3> e(information);
    double total = 0;
    for (const auto& c : constraints) total += miss_deg_of(c, best) < kAgreeDeg ? c.weight : 0;
    const double share = e.eigenvalues()[1] / std::max(1e-12, total);
    out.sure_deg = std::max(out.error_deg, 0.02) / std::sqrt(std::max(1e-6, share * std::max(1, n)));
    return out;
}

std::vector<LineMark> find_upright_lines(const Project& project, const Shot& shot, Seconds time,
                                         MediaLibrary& library, const Cancel& cancel) {
    const Moment moment = read_moment(project, shot, time, library);
    const auto eyes = eyepieces(shot.rig, moment);
    const Vec3 up = orientation_at(shot, time).transpose() * Vec3(0, -1, 0);
    std::vector<LineMark> marks;
    std::vector<LineSense> senses;
    for (const auto& eye : eyes) {
        if (!eye) continue;
        for (const auto& edge : edge_segments(*eye, kLeastLineDeg, cancel)) {
            const Vec3 normal = eye->to_rig * edge.a.cross(edge.b).normalized();
            if (degrees(std::asin(std::min(1.0, std::abs(normal.dot(up))))) > kMostLeanDeg) continue;
            LineMark mark;
            mark.kind = LineKind::vertical;
            mark.time = time;
            mark.camera = shot.rig.cameras[eye->index].id;
            mark.found = true;
            for (const double t : {0.0, 0.25, 0.5, 0.75, 1.0})
                mark.places_px.push_back(
                    eye->map.project_anywhere(((1 - t) * edge.a + t * edge.b).normalized()));
            marks.push_back(std::move(mark));
            senses.push_back({LineKind::vertical, normal, edge.length_rad()});
        }
    }
    if (senses.size() < 4) return {};
    // Hundreds of edges: the longest are enough, and every two of them are tried.
    std::vector<std::size_t> order(senses.size());
    for (std::size_t i = 0; i < order.size(); ++i) order[i] = i;
    std::sort(order.begin(), order.end(),
              [&](std::size_t a, std::size_t b) { return senses[a].weight > senses[b].weight; });
    order.resize(std::min<std::size_t>(order.size(), 160));
    std::vector<LineSense> longest;
    for (const std::size_t i : order) longest.push_back(senses[i]);
    const Upright found = upright_from_lines(longest, up);
    std::vector<LineMark> out;
    for (std::size_t i = 0; i < order.size() && int(out.size()) < kMostFound; ++i)
        if (found.miss_deg[i] < 1.0) out.push_back(marks[order[i]]);
    if (out.size() < 4 || std::acos(std::clamp(found.up.dot(up), -1.0, 1.0)) > radians(kMostLeanDeg))
        return {};
    int id = 0;
    for (const auto& l : shot.lines) id = std::max(id, l.id);
    for (auto& l : out) l.id = ++id;
    return out;
}

Upright upright_from_record(const Shot& shot, const MotionRecord& record, double from_s, double to_s) {
    const Camera* camera = shot.motion ? find_camera(shot.rig, shot.motion->camera) : nullptr;
    const Mat3 mount = camera ? rotation_of(camera->pose.turn) : Mat3(Mat3::Identity());
    const double offset = shot.motion ? shot.motion->offset.to_double() : 0;
    std::vector<Vec3> ups;
    const auto within = [&](double t) { return t - offset >= from_s && t - offset <= to_s; };
    // How the rig had turned since the beginning, so that a moving rig's readings are all of one moment.
    for (const auto& s : record.acceleration)
        if (within(s.time_s)) {
            Vec3 up = mount * Vec3(s.value[0], s.value[1], s.value[2]);
            if (shot.steady && !shot.steady->path->empty())
                up =
                    path_at(*shot.steady, from_s).transpose() * path_at(*shot.steady, s.time_s - offset) * up;
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
                    shot.motion ? shot.motion->path.string() : "the motion record",
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
    if (shot.orientation_keys.empty())
        set_orientation(shot, time, turn * now);
    else
        turn_all(shot, turn);
}

double lean_deg(const Shot& shot, Seconds time, const Vec3& up) {
    return degrees(std::acos(std::clamp(-(orientation_at(shot, time) * up).y(), -1.0, 1.0)));
}

} // namespace porb
