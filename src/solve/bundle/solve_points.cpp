#include "solve/bundle/solve_points.h"

#include "base/error.h"
#include "solve/bundle/bundle.h"
#include "solve/bundle/observations.h"
#include "solve/pictures/edges.h"

#include <fmt/format.h>

#include <tuple>

namespace porb {

namespace {

constexpr int kDropRounds = 7;
constexpr int kRoughlySettled = 50; ///< a rough solve ends when fewer than one in so many are dropped
constexpr std::size_t kFirstObservations = 1400; ///< points that the first solve is made from
constexpr double kLeastDistance = 0.17;          ///< metres from the rig's centre
constexpr double kLeastLimitPx = 0.25, kNoises = 4.5;
constexpr double kDrawnNoisePx = 0.5,
                 kEdgeNoisePx = 0.4; ///< what a place of a drawn line, of a found edge is good to
constexpr double kBentBends = 3,
                 kLeastBendPx = 0.35; ///< found edges that bend by more than the others are not straight

/// How far an inverse distance parts the two observations of a point, source pixels; below 0 when they part
/// the wrong way.
double parallax_px(const Rig& rig, const Observation& s, double inverse_m) {
    const Camera &a = rig.cameras[s.a], &b = rig.cameras[s.b];
    return inverse_m * (a.pose.position_m - b.pose.position_m).norm() *
           std::max(a.lens.focal_px, b.lens.focal_px);
}

/// One line of words for each value that could not be told.
std::vector<std::string> words_for(const std::vector<ValueFigure>& values, std::size_t cameras) {
    std::map<std::string, std::vector<std::string>> by_name;
    for (const auto& v : values)
        if (!v.determined) {
            const std::string name = v.unit == "mm"                                             ? "position"
                                     : v.name == "yaw" || v.name == "pitch" || v.name == "roll" ? "direction"
                                                                                                : v.name;
            auto& list = by_name[name];
            if (list.empty() || list.back() != v.camera) list.push_back(v.camera);
        }
    std::vector<std::string> words;
    for (const auto& [name, list] : by_name) {
        std::string who;
        for (const auto& c : list) who += (who.empty() ? "" : ", ") + c;
        words.push_back(fmt::format("The points do not tell the {} of {}; kept as it was.", name,
                                    list.size() == cameras && cameras > 1
                                        ? "any camera"
                                        : (list.size() > 1 ? "cameras " : "camera ") + who));
    }
    return words;
}

/// What a figure's value is in a rig.
double value_in(const Rig& rig, const ValueFigure& v) {
    const Camera& c = rig.cameras[index_of(rig, v.camera)];
    const Turn& t = c.pose.turn;
    const Vec3 mm = 1e3 * c.pose.position_m;
    const std::pair<const char*, double> known[] = {{"yaw", t.yaw_deg},
                                                    {"pitch", t.pitch_deg},
                                                    {"roll", t.roll_deg},
                                                    {"x", mm.x()},
                                                    {"y", mm.y()},
                                                    {"z", mm.z()},
                                                    {"position", mm.norm()},
                                                    {"focal length", c.lens.focal_px},
                                                    {"centre x", c.lens.center_px.x()},
                                                    {"centre y", c.lens.center_px.y()},
                                                    {"distortion", c.lens.radial[0]},
                                                    {"k1", c.lens.radial[0]},
                                                    {"k2", c.lens.radial[1]}};
    for (const auto& [name, value] : known)
        if (v.name == name) return value;
    return v.value;
}

/// All that the shots say, to be solved from `start`; points come separately.
BundleProblem problem_of(const std::vector<const Shot*>& shots, const Rig& start) {
    const Shot& first = *shots.front();
    BundleProblem problem;
    problem.start = start;
    problem.prior = start;
    if (first.calibration.profile)
        for (auto& c : problem.prior.cameras)
            if (const Camera* p = find_camera(*first.calibration.profile, c.id);
                p && p->lens.projection == c.lens.projection && p->lens.width == c.lens.width &&
                p->lens.height == c.lens.height)
                c.lens = p->lens, c.pose.position_m = p->pose.position_m;
    for (std::size_t c = 0; c < start.cameras.size(); ++c) {
        const ShotCamera* use = find_camera(first, start.cameras[c].id);
        problem.lens_locked.push_back(use && use->lens_locked);
        problem.pose_locked.push_back(use && use->pose_locked);
        // What is locked stays where it is, whatever the profile says.
        if (problem.lens_locked[c]) problem.prior.cameras[c].lens = start.cameras[c].lens;
        if (problem.pose_locked[c]) problem.prior.cameras[c].pose = start.cameras[c].pose;
    }
    problem.alike = alike_numbers(start);
    problem.settings = first.calibration.solving;
    problem.agree_distance_m = first.seams.agree_distance_m;
    return problem;
}

/// The lines of all shots, but for found edges that are left out (by place in the list of all).
std::vector<LineObservation> lines_of(const std::vector<const Shot*>& shots, const Rig& rig,
                                      const std::vector<bool>& left_out) {
    std::vector<LineObservation> out;
    std::size_t i = 0;
    for (const Shot* s : shots)
        for (const auto& l : s->calibration.lines)
            if (!left_out[i++])
                out.push_back(
                    {index_of(rig, l.camera), l.kind, l.places_px, l.found ? kEdgeNoisePx : kDrawnNoisePx});
    return out;
}

/// Leaves out found edges that bend much more than the others do: they are not straight in the world. Returns
/// how many it was now.
int leave_out_bent(const std::vector<const Shot*>& shots, const Rig& rig, std::vector<bool>& left_out) {
    std::vector<std::pair<double, std::size_t>> bends;
    std::size_t i = 0;
    for (const Shot* s : shots)
        for (const auto& l : s->calibration.lines) {
            if (!left_out[i] && is_solve_edge(l))
                bends.emplace_back(bend_px(rig.cameras[index_of(rig, l.camera)].lens, l.places_px), i);
            ++i;
        }
    if (bends.empty()) return 0;
    std::sort(bends.begin(), bends.end());
    const double limit = std::max(kLeastBendPx, kBentBends * bends[bends.size() / 2].first);
    int n = 0;
    for (const auto& [bend, at] : bends)
        if (bend > limit) left_out[at] = true, ++n;
    return n;
}

/// Why a point is to be left out of the next round, or nothing.
Dropped why_dropped(const BundleSolution& solution, const Observation& observation, const PointFit& fit,
                    double joint_residuals_px, double limit_px, bool depths, bool rough) {
    const double noise = solution.decided.noise_px;
    // Residuals at both ends are alike, so that of the point as a whole is larger by the root of two.
    if (std::sqrt(2.0) * fit.residual_px() > limit_px)
        return {DropReason::residual, fmt::format("{:.2f} px, the limit was {:.2f} px", fit.residual_px(),
                                                  limit_px / std::sqrt(2.0))};
    if (rough) return {};
    if (joint_residuals_px > limit_px)
        return {DropReason::third,
                fmt::format("{:.2f} px off, the limit was {:.2f} px", joint_residuals_px, limit_px)};
    if (depths && parallax_px(solution.rig, observation, fit.inverse_m) < -4 * noise - 0.5)
        return {DropReason::diverging, "it would lie beyond infinity"};
    if (depths &&
        parallax_px(solution.rig, observation, fit.inverse_m - 1 / kLeastDistance) > 4 * noise + 0.5)
        return {DropReason::near, "under 0.17 m from the rig's centre"};
    return {};
}

EdgeFigure edge_figure(const Rig& rig, const std::vector<std::vector<LineMark>>& lines) {
    EdgeFigure f;
    double squares = 0;
    for (const auto& list : lines)
        for (const auto& l : list)
            if (is_solve_edge(l))
                ++f.used,
                    squares += std::pow(bend_px(rig.cameras[index_of(rig, l.camera)].lens, l.places_px), 2);
    f.rms_px = f.used ? std::sqrt(squares / f.used) : 0;
    return f;
}

} // namespace

SolvedTogether solve_points(const std::vector<const Shot*>& shots, const Rig& start, const Rig& before,
                            bool drop, const Cancel& cancel, bool rough) {
    const Shot& first = *shots.front();
    SolvedTogether out;
    BundleProblem problem = problem_of(shots, start);
    problem.rough = rough;
    ControlPoints points;
    std::size_t lines = 0;
    for (const Shot* s : shots) {
        points.insert(points.end(), s->calibration.points->begin(), s->calibration.points->end());
        lines += s->calibration.lines.size();
    }
    const ControlPoints given = points;
    std::vector<bool> left_out(lines, false);
    const double fixed = first.seams.agree_distance_m > 0 ? 1 / first.seams.agree_distance_m : 0;
    const double* depth = first.calibration.solving.depth_per_point ? nullptr : &fixed;
    std::vector<Observation> all = observations_of(start, points);
    // Points that begin at the same place of the same picture are one thing.
    std::map<std::tuple<Seconds, std::size_t, double, double>, int> things;
    for (std::size_t i = 0; i < all.size(); ++i)
        all[i].track =
            things.try_emplace({points[i].time, all[i].a, all[i].a_px.x(), all[i].a_px.y()}, int(i))
                .first->second;
    BundleSolution solution;
    std::vector<PointFit> fits;
    // Thousands of points only slow down the search for the right valley: it begins with a part of them.
    const std::size_t thinned =
        rough ? points.size() : std::max<std::size_t>(1, points.size() / kFirstObservations);
    bool last = !drop, withdrawn = false;
    for (int round = 0; round < (drop ? kDropRounds : 1); ++round) {
        cancel.check();
        problem.observations.clear();
        std::vector<std::size_t> which;
        const std::size_t every = round == 0 && drop && !rough ? thinned : 1;
        for (std::size_t i = 0; i < points.size(); ++i)
            if (points[i].dropped.empty() &&
                (every == 1 || points[i].by_hand || std::size_t(all[i].track) % every == 0))
                problem.observations.push_back(all[i]), which.push_back(i);
        problem.lines = lines_of(shots, start, left_out);
        problem.last = last;
        solution = solve_bundle(problem, cancel);
        const bool distortion_gone = problem.warm && problem.warm->distortion && !solution.decided.distortion;
        if (!rough) {
            problem.warm = solution.decided;
            problem.start = solution.rig;
        }
        fits = fit_points(solution.rig, all, depth);
        if (!drop) break;
        if (distortion_gone && !withdrawn) { // what was left out was judged by a lens that was wrong
            withdrawn = true;
            points = given;
            left_out.assign(lines, false);
            last = false;
            round = 0;
            continue;
        }
        const double limit = std::clamp(kNoises * solution.decided.noise_px, kLeastLimitPx,
                                        std::max(kLeastLimitPx, first.calibration.solving.limit_px));
        int dropped = leave_out_bent(shots, solution.rig, left_out);
        std::vector<double> joint_residuals(points.size(), 0);
        for (std::size_t k = 0; k < which.size(); ++k)
            joint_residuals[which[k]] = solution.joint_residuals_px[k];
        for (std::size_t i = 0; i < points.size(); ++i) {
            ControlPoint& p = points[i];
            if (!p.dropped.empty() || p.by_hand) continue;
            p.dropped =
                why_dropped(solution, all[i], fits[i], joint_residuals[i], limit, depth == nullptr, rough);
            dropped += !p.dropped.empty();
        }
        if (last || (rough && dropped <= int(points.size()) / kRoughlySettled)) break;
        // When hardly any were dropped the next round is the last.
        last = round > 0 && dropped <= int(points.size()) / 300;
        if (round + 2 == kDropRounds) last = true;
    }
    out.rig = solution.rig;
    out.report = figures_of(out.rig, points, fits);
    out.report.before = figures_of(before, points, fit_points(before, all, depth)).rms;
    out.report.noise_px = solution.decided.noise_px;
    out.report.values = solution.values;
    for (auto& v : out.report.values) v.value = value_in(out.rig, v), v.before = value_in(before, v);
    out.report.undetermined = words_for(solution.values, start.cameras.size());
    std::size_t at = 0, line = 0;
    for (const Shot* s : shots) {
        out.points.emplace_back(points.begin() + std::ptrdiff_t(at),
                                points.begin() + std::ptrdiff_t(at + s->calibration.points->size()));
        at += s->calibration.points->size();
        auto& kept = out.lines.emplace_back();
        for (const auto& l : s->calibration.lines)
            if (!left_out[line++]) kept.push_back(l);
    }
    out.report.edges = edge_figure(out.rig, out.lines);
    out.report.edges.left_out = int(std::count(left_out.begin(), left_out.end(), true));
    for (std::size_t i = 0; i < points.size(); ++i)
        if (points[i].by_hand && points[i].dropped.empty() &&
            fits[i].residual_px() > first.calibration.solving.limit_px)
            out.report.remarks.push_back(
                fmt::format("Point {}, set by hand, has a residual of {:.1f} px: look at it again.",
                            points[i].id, fits[i].residual_px()));
    return out;
}

} // namespace porb
