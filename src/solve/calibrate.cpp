#include "solve/calibrate.h"

#include "base/angle.h"
#include "base/error.h"
#include "project/origins.h"
#include "solve/matching.h"
#include "solve/rough.h"

#include <fmt/format.h>

#include <numeric>
#include <tuple>

namespace porb {

namespace {

constexpr double kMostOffDeg = 12;     ///< a camera farther than this from the rig's word is trouble, unless from far
constexpr int kTrustedLandmarks = 20;  ///< agreeing on a camera's turn
constexpr double kFirstMarginDeg = 3.5, kFarMarginDeg = 6, kSecondMarginDeg = 1.5, kLastMarginDeg = 0.6;
constexpr int kFirstPoints = 70;
constexpr int kPointsASample = 1500; ///< wanted from all pairs together
constexpr int kLeastLinks = 12; ///< points that tie a camera to the others
constexpr double kBlackMean = 0.015, kBlackSpread = 0.006;
constexpr int kSmallPx = 960;   ///< pictures kept of every sample are no wider
constexpr double kStillLike = 0.6;
constexpr int kDropRounds = 7;
constexpr std::size_t kColdSights = 1400; ///< points that the first solve is made from
constexpr double kLeastDistance = 0.17; ///< metres from the rig's centre
constexpr double kLeastLimitPx = 0.25, kNoises = 4.5;

std::vector<bool> cameras_with_sources(const Project& project, const Shot& shot) {
    std::vector<bool> in_use;
    for (const auto& c : shot.cameras) in_use.push_back(c.used && find_media(project, c.media));
    return in_use;
}

std::vector<int> alike_numbers(const Rig& rig) {
    std::vector<int> number;
    for (std::size_t i = 0; i < rig.cameras.size(); ++i) {
        const Lens& l = rig.cameras[i].lens;
        int same = int(i);
        for (std::size_t k = 0; k < i; ++k) {
            const Lens& o = rig.cameras[k].lens;
            if (o.projection == l.projection && o.width == l.width && o.height == l.height) {
                same = number[k];
                break;
            }
        }
        number.push_back(same);
    }
    return number;
}

std::size_t index_of(const Rig& rig, const std::string& id) {
    for (std::size_t i = 0; i < rig.cameras.size(); ++i)
        if (rig.cameras[i].id == id) return i;
    throw Error("is not a camera of the rig", "camera " + id, "Remove the points that name it");
}

Sight sight_of(const Rig& rig, const ControlPoint& p) {
    return {index_of(rig, p.a), index_of(rig, p.b), p.a_px, p.b_px, p.by_hand ? 2.0 : 1.0};
}

void refuse_black(const std::vector<Moment>& moments, const Rig& rig, const std::vector<bool>& in_use) {
    for (std::size_t c = 0; c < rig.cameras.size(); ++c) {
        if (!in_use[c]) continue;
        bool black = true, flat = true, any = false;
        for (const auto& m : moments) {
            if (!m.seen[c]) continue;
            any = true;
            const Grey& g = m.seen[c]->levels.back();
            const double scale = double(g.width) / rig.cameras[c].lens.width;
            const Vec2 centre = rig.cameras[c].lens.circle.center_px * scale;
            const double radius = 0.9 * rig.cameras[c].lens.circle.radius_px * scale;
            double sum = 0, squares = 0;
            int n = 0;
            for (int y = 0; y < g.height; ++y)
                for (int x = 0; x < g.width; ++x)
                    if ((Vec2(x + 0.5, y + 0.5) - centre).norm() < radius) {
                        const double v = double(g.at(x, y));
                        sum += v, squares += v * v, ++n;
                    }
            const double mean = sum / std::max(1, n), spread = std::sqrt(std::max(0.0, squares / std::max(1, n) - mean * mean));
            if (mean > kBlackMean) black = false;
            if (spread > kBlackSpread) flat = false;
        }
        const std::string where = "camera " + rig.cameras[c].id;
        if (!any) throw Error("has no picture at any sample", where, "Check its time offset, or set in and out to where it runs");
        if (black && flat) throw Error("its picture is black at every sample", where, "Check the file, or choose other samples");
        if (flat) throw Error("its picture shows nothing but one tone at every sample", where, "Check the file, or choose other samples");
    }
}

void refuse_unlinked(const Rig& rig, const std::vector<bool>& in_use, const std::vector<Overlap>& pairs) {
    for (std::size_t c = 0; c < rig.cameras.size(); ++c) {
        if (!in_use[c]) continue;
        if (std::none_of(pairs.begin(), pairs.end(), [&](const Overlap& p) { return p.a == c || p.b == c; }))
            throw Error("sees nothing that another camera sees: there is no overlap to find points in", "camera " + rig.cameras[c].id,
                        "Correct its direction, field of view or image circle in Rig, or solve from far");
    }
}

/// Points of one moment between all overlapping pairs.
void match_moment(const Shot& shot, const Rig& rig, const Moment& moment, const std::vector<Overlap>& pairs, const MatchOptions& options,
                  bool swap_sides, ControlPoints& out, const Cancel& cancel) {
    const auto eyes = eyepieces(rig, moment);
    std::vector<std::vector<Corner>> corners(eyes.size());
    for (std::size_t c = 0; c < eyes.size(); ++c)
        if (eyes[c] && std::any_of(pairs.begin(), pairs.end(), [&](const Overlap& p) { return p.a == c || p.b == c; })) {
            cancel.check();
            corners[c] = corners_of(*eyes[c]);
        }
    for (const auto& pair : pairs) {
        auto [a, b] = std::pair(pair.a, pair.b);
        if (swap_sides) std::swap(a, b);
        if (!eyes[a] || !eyes[b]) continue;
        const std::string &id_a = rig.cameras[a].id, &id_b = rig.cameras[b].id;
        const auto allowed = [&](const Corner& c) { return regions_allow(shot.regions, id_a, c.px, c.direction); };
        for (const auto& m : match_pair(*eyes[a], *eyes[b], corners[a], options, allowed, cancel)) {
            const auto d = eyes[b]->direction(m.b_px);
            if (!d || !regions_allow(shot.regions, id_b, m.b_px, *d)) continue;
            ControlPoint p;
            p.time = moment.time;
            p.a = id_a, p.b = id_b;
            p.a_px = m.a_px, p.b_px = m.b_px;
            p.likeness = std::min(1.0, m.likeness);
            out.push_back(std::move(p));
        }
    }
}

/// Small pictures of a sample, kept to see what stays where it is.
struct SmallMoment {
    std::vector<std::shared_ptr<const Grey>> seen;
    std::vector<double> scale;
};
SmallMoment small_of(const Moment& m) {
    SmallMoment s;
    for (const auto& p : m.seen) {
        s.seen.emplace_back();
        s.scale.push_back(1);
        if (!p) continue;
        std::size_t level = 0;
        while (level + 1 < p->levels.size() && p->levels[level].width > kSmallPx) ++level;
        s.seen.back() = std::make_shared<const Grey>(p->levels[level]);
        s.scale.back() = 1.0 / double(1 << level);
    }
    return s;
}
std::vector<float> window_at(const Grey& g, const Vec2& at) {
    constexpr int kHalf = 4;
    std::vector<float> v;
    for (int y = -kHalf; y <= kHalf; ++y)
        for (int x = -kHalf; x <= kHalf; ++x) v.push_back(g.sample(at.x() + x, at.y() + y));
    return v;
}

/// Drops what no other sample shows at its place, provided the rig stands still (most points are seen again).
void drop_moving(ControlPoints& points, const std::vector<Seconds>& times, const std::vector<SmallMoment>& small, const Rig& rig,
                 std::vector<std::string>& remarks) {
    if (small.size() < 2) return;
    std::vector<double> again(points.size(), 1);
    double kept = 0, all = 0;
    for (std::size_t i = 0; i < points.size(); ++i) {
        const ControlPoint& p = points[i];
        if (p.by_hand) continue;
        const auto own = std::size_t(std::find(times.begin(), times.end(), p.time) - times.begin());
        const std::size_t c = index_of(rig, p.a);
        if (own >= small.size() || !small[own].seen[c]) continue;
        const auto here = window_at(*small[own].seen[c], p.a_px * small[own].scale[c]);
        int same = 0, others = 0;
        for (std::size_t s = 0; s < small.size(); ++s) {
            if (s == own || !small[s].seen[c]) continue;
            ++others;
            same += likeness(here, window_at(*small[s].seen[c], p.a_px * small[s].scale[c])) > kStillLike;
        }
        again[i] = others ? double(same) / others : 1;
        kept += again[i] > 0;
        ++all;
    }
    if (all < 1 || kept < 0.5 * all) {
        remarks.push_back("The rig moves between samples, so moving things cannot be told from still ones by comparing them.");
        return;
    }
    for (std::size_t i = 0; i < points.size(); ++i)
        if (again[i] <= 0) points[i].dropped = "moves: no other sample shows it at its place";
}

void number_points(ControlPoints& points, int from) {
    for (auto& p : points) p.id = from++;
}

/// How far an inverse distance parts the two sights of a point, source pixels; below 0 when they part the wrong way.
double parallax_px(const Rig& rig, const Sight& s, double inverse_m) {
    const Camera &a = rig.cameras[s.a], &b = rig.cameras[s.b];
    return inverse_m * (a.pose.position_m - b.pose.position_m).norm() * std::max(a.lens.focal_px, b.lens.focal_px);
}

struct Found {
    ControlPoints points;
    std::vector<Seconds> times;
    std::vector<std::string> remarks;
};
Found find_at_samples(const Project& project, const Shot& shot, const Rig& rig, const std::vector<Seconds>& times, MediaLibrary& library,
                      const SolveOptions& options, double margin_deg, const std::function<void(double)>& progress, const Cancel& cancel) {
    Found found;
    found.times = times;
    const auto pairs = overlapping_pairs(rig, cameras_with_sources(project, shot));
    MatchOptions match;
    match.margin_deg = margin_deg;
    match.nearest_m = options.nearest_m;
    match.wanted = std::clamp(kPointsASample / int(std::max<std::size_t>(1, pairs.size())), options.points_a_pair / 3, options.points_a_pair);
    std::vector<SmallMoment> small;
    for (std::size_t s = 0; s < times.size(); ++s) {
        cancel.check();
        const Moment moment = read_moment(project, shot, times[s], library);
        match_moment(shot, rig, moment, pairs, match, s % 2 == 1, found.points, cancel);
        small.push_back(small_of(moment));
        if (progress) progress(double(s + 1) / double(times.size()));
    }
    drop_moving(found.points, times, small, rig, found.remarks);
    return found;
}

/// The rig with the turns that landmarks gave, where enough of them agree.
Rig turned_by_landmarks(const Rig& rig, const RoughRig& rough, const std::vector<bool>& in_use, bool from_far) {
    Rig out = rig;
    for (std::size_t c = 0; c < rig.cameras.size(); ++c) {
        int agreeing = 0;
        for (const auto& l : rough.links)
            if (l.sure && (l.a == c || l.b == c)) agreeing += l.agreeing;
        if (!rough.placed[c] || !in_use[c] || agreeing < kTrustedLandmarks) continue;
        if (!from_far && rough.off_deg[c] > kMostOffDeg) continue;
        // A camera that was turned far takes its place along: rigs are built round their cameras.
        const Mat3 nominal = rotation_of(rig.cameras[c].pose.turn);
        const Vec3 p = rig.cameras[c].pose.position_m;
        if (rough.off_deg[c] > kMostOffDeg && p.norm() > 1e-6 && p.normalized().dot(nominal.col(2)) > 0.9)
            out.cameras[c].pose.position_m = rough.turns[c] * nominal.transpose() * p;
        out.cameras[c].pose.turn = turn_of(rough.turns[c]);
    }
    return out;
}

/// Points at one moment and a first solve from them. Throws Error when a camera is not tied to the others.
/// `agreed` gets the number of points kept.
Rig first_solve(Shot& first, const Rig& start, const Moment& moment, const std::vector<bool>& in_use, double margin_deg,
                const SolveOptions& options, const Cancel& cancel, int* agreed = nullptr) {
    MatchOptions match;
    match.margin_deg = margin_deg;
    match.nearest_m = std::max(0.8, options.nearest_m);
    match.wanted = kFirstPoints;
    ControlPoints points, by_hand;
    for (const auto& p : *first.points)
        if (p.by_hand && p.dropped.empty()) by_hand.push_back(p);
    match_moment(first, start, moment, overlapping_pairs(start, in_use), match, false, points, cancel);
    number_points(points, 1);
    points.insert(points.end(), by_hand.begin(), by_hand.end());
    const std::size_t n = start.cameras.size();
    std::vector<int> links(n, 0), kept(n, 0);
    for (const auto& p : points) ++links[index_of(start, p.a)], ++links[index_of(start, p.b)];
    for (std::size_t c = 0; c < n; ++c)
        if (in_use[c] && links[c] < kLeastLinks)
            throw Error(fmt::format("only {} points tie it to the other cameras", links[c]), "camera " + start.cameras[c].id,
                        "Choose samples with more to see in its overlaps, set points by hand, or check its file");
    first.points = std::move(points);
    const auto solved = solve_points({&first}, start, true, cancel, true);
    for (const auto& p : solved.points[0])
        if (p.dropped.empty()) ++kept[index_of(start, p.a)], ++kept[index_of(start, p.b)];
    first.points = by_hand;
    if (agreed) *agreed = std::accumulate(kept.begin(), kept.end(), 0) / 2;
    for (std::size_t c = 0; c < n; ++c)
        if (in_use[c] && (kept[c] < kLeastLinks || kept[c] < 0.25 * links[c]))
            throw Error(fmt::format("its points agree with no place in this rig ({} of {} kept)", kept[c], links[c]),
                        "camera " + start.cameras[c].id, "Check that its file belongs to this take and that its lens and time offset are right");
    return solved.rig;
}

/// One line of words for each value that could not be told.
std::vector<std::string> words_for(const std::vector<ValueFigure>& values, std::size_t cameras) {
    std::map<std::string, std::vector<std::string>> by_name;
    for (const auto& v : values)
        if (!v.determined) {
            const std::string name = v.unit == "mm" ? "position" : v.name == "yaw" || v.name == "pitch" || v.name == "roll" ? "direction" : v.name;
            auto& list = by_name[name];
            if (list.empty() || list.back() != v.camera) list.push_back(v.camera);
        }
    std::vector<std::string> words;
    for (const auto& [name, list] : by_name) {
        std::string who;
        for (const auto& c : list) who += (who.empty() ? "" : ", ") + c;
        words.push_back(fmt::format("The points do not tell the {} of {}; kept as it was.", name,
                                    list.size() == cameras && cameras > 1 ? "any camera" : (list.size() > 1 ? "cameras " : "camera ") + who));
    }
    return words;
}

SolveReport figures(const Rig& rig, std::span<const ControlPoint> points, std::span<const PointFit> fits) {
    SolveReport r;
    std::vector<PointFit> used;
    std::map<std::pair<std::string, std::string>, std::pair<std::vector<PointFit>, int>> pairs;
    std::map<std::string, std::pair<Rms, int>> cameras;
    for (std::size_t i = 0; i < points.size(); ++i) {
        const ControlPoint& p = points[i];
        auto& pair = pairs[p.a < p.b ? std::pair(p.a, p.b) : std::pair(p.b, p.a)];
        if (!p.dropped.empty()) {
            ++r.dropped;
            ++pair.second;
            ++r.reasons[p.dropped.substr(0, p.dropped.find(':'))];
            continue;
        }
        ++r.points;
        used.push_back(fits[i]);
        pair.first.push_back(fits[i]);
        for (const bool first : {true, false}) {
            auto& c = cameras[first ? p.a : p.b];
            c.first.px += (first ? fits[i].miss_a : fits[i].miss_b).squaredNorm();
            const double rad = first ? fits[i].miss_a_rad : fits[i].miss_b_rad;
            c.first.arcmin += rad * rad;
            ++c.second;
        }
    }
    r.rms = rms_of(used);
    for (const auto& [names, list] : pairs) r.pairs.push_back({names.first, names.second, int(list.first.size()), list.second, rms_of(list.first).px});
    for (const auto& c : rig.cameras) {
        const auto& [sum, n] = cameras[c.id];
        r.cameras.push_back({c.id, n, n ? std::sqrt(sum.px / n) : 0, n ? degrees(std::sqrt(sum.arcmin / n)) * 60 : 0});
    }
    return r;
}

} // namespace

int free_point_id(const Shot& shot) {
    int id = 0;
    for (const auto& p : *shot.points) id = std::max(id, p.id);
    for (const auto& l : shot.lines) id = std::max(id, l.id);
    return id + 1;
}

std::vector<PointFit> measure_points(const Shot& shot) {
    std::vector<Sight> sights;
    for (const auto& p : *shot.points) sights.push_back(sight_of(shot.rig, p));
    const double fixed = shot.agree_distance_m > 0 ? 1 / shot.agree_distance_m : 0;
    return fit_points(shot.rig, sights, shot.solving.depth_per_point ? nullptr : &fixed);
}

SolveReport report_on(const Shot& shot, std::span<const PointFit> fits) {
    return figures(shot.rig, *shot.points, fits);
}

int drop_above(ControlPoints& points, std::span<const PointFit> fits, double limit_px) {
    int dropped = 0;
    for (std::size_t i = 0; i < points.size(); ++i)
        if (points[i].dropped.empty() && fits[i].miss_px() > limit_px) {
            points[i].dropped = fmt::format("misses by too much: {:.2f} px, the limit was {:.2f} px", fits[i].miss_px(), limit_px);
            ++dropped;
        }
    return dropped;
}

SolvedTogether solve_points(const std::vector<const Shot*>& shots, const Rig& start, bool drop, const Cancel& cancel, bool rough) {
    const Shot& first = *shots.front();
    SolvedTogether out;
    BundleProblem problem;
    problem.start = start;
    problem.prior = start;
    if (first.profile)
        for (auto& c : problem.prior.cameras)
            if (const Camera* p = find_camera(*first.profile, c.id);
                p && p->lens.projection == c.lens.projection && p->lens.width == c.lens.width && p->lens.height == c.lens.height)
                c.lens = p->lens, c.pose.position_m = p->pose.position_m;
    for (const auto& c : start.cameras) {
        const ShotCamera* use = find_camera(first, c.id);
        problem.lens_locked.push_back(use && use->lens_locked);
        problem.pose_locked.push_back(use && use->pose_locked);
    }
    problem.rough = rough;
    problem.alike = alike_numbers(start);
    problem.settings = first.solving;
    problem.agree_distance_m = first.agree_distance_m;
    ControlPoints points;
    for (const Shot* s : shots) {
        points.insert(points.end(), s->points->begin(), s->points->end());
        for (const auto& l : s->lines) problem.lines.push_back({index_of(start, l.camera), l.kind, l.places_px});
    }
    const double fixed = first.agree_distance_m > 0 ? 1 / first.agree_distance_m : 0;
    const double* depth = first.solving.depth_per_point ? nullptr : &fixed;
    std::vector<Sight> all;
    for (const auto& p : points) all.push_back(sight_of(start, p));
    // Points that begin at the same place of the same picture are one thing.
    std::map<std::tuple<Seconds, std::size_t, double, double>, int> things;
    for (std::size_t i = 0; i < all.size(); ++i)
        all[i].track = things.try_emplace({points[i].time, all[i].a, all[i].a_px.x(), all[i].a_px.y()}, int(i)).first->second;
    const auto before = fit_points(start, all, depth);
    BundleSolution solution;
    std::vector<PointFit> fits;
    // Thousands of points only slow down the search for the right valley: it begins with a part of them.
    const std::size_t thinned = rough ? points.size() : std::max<std::size_t>(1, points.size() / kColdSights);
    bool last = !drop;
    for (int round = 0; round < (drop ? kDropRounds : 1); ++round) {
        cancel.check();
        problem.sights.clear();
        std::vector<std::size_t> which;
        const std::size_t every = round == 0 && drop && !rough ? thinned : 1;
        for (std::size_t i = 0; i < points.size(); ++i)
            if (points[i].dropped.empty() && (every == 1 || points[i].by_hand || std::size_t(all[i].track) % every == 0)) problem.sights.push_back(all[i]), which.push_back(i);
        problem.last = last;
        solution = solve_bundle(problem, cancel);
        if (!rough) {
            problem.warm = solution.decided;
            problem.start = solution.rig;
        }
        fits = fit_points(solution.rig, all, depth);
        if (!drop) break;
        const double limit = std::clamp(kNoises * solution.noise_px, kLeastLimitPx, std::max(kLeastLimitPx, first.solving.limit_px));
        int dropped = 0;
        std::vector<double> together(points.size(), 0);
        for (std::size_t k = 0; k < which.size(); ++k) together[which[k]] = solution.together_px[k];
        for (std::size_t i = 0; i < points.size(); ++i) {
            ControlPoint& p = points[i];
            if (!p.dropped.empty() || p.by_hand) continue;
            // Both ends miss alike, so what a point misses by as a whole is larger by the root of two.
            if (std::sqrt(2.0) * fits[i].miss_px() > limit)
                p.dropped = fmt::format("misses by too much: {:.2f} px, the limit was {:.2f} px", fits[i].miss_px(), limit / std::sqrt(2.0));
            else if (!rough && together[i] > limit)
                p.dropped = fmt::format("contradicts a third camera: {:.2f} px off, the limit was {:.2f} px", together[i], limit);
            else if (depth == nullptr && !rough && parallax_px(solution.rig, all[i], fits[i].inverse_m) < -4 * solution.noise_px - 0.5)
                p.dropped = "its rays part: it would lie beyond infinity";
            else if (depth == nullptr && !rough &&
                     parallax_px(solution.rig, all[i], fits[i].inverse_m - 1 / kLeastDistance) > 4 * solution.noise_px + 0.5)
                p.dropped = "too near: under 0.17 m from the rig's centre";
            else
                continue;
            ++dropped;
        }
        if (last || (rough && dropped == 0)) break;
        // When hardly any were dropped the next round is the last.
        last = round > 0 && dropped <= int(points.size()) / 300;
        if (round + 2 == kDropRounds) last = true;
    }
    out.rig = solution.rig;
    out.report = figures(out.rig, points, fits);
    out.report.before = figures(start, points, before).rms;
    out.report.noise_px = solution.noise_px;
    out.report.values = solution.values;
    out.report.undetermined = words_for(solution.values, start.cameras.size());
    std::size_t at = 0;
    for (const Shot* s : shots) {
        out.points.emplace_back(points.begin() + std::ptrdiff_t(at), points.begin() + std::ptrdiff_t(at + s->points->size()));
        at += s->points->size();
    }
    for (const auto& p : points)
        if (p.by_hand && p.dropped.empty()) {
            const auto i = std::size_t(&p - points.data());
            if (fits[i].miss_px() > first.solving.limit_px)
                out.report.remarks.push_back(fmt::format("Point {}, set by hand, misses by {:.1f} px: look at it again.", p.id, fits[i].miss_px()));
        }
    return out;
}

ControlPoints find_points(const Project& project, const Shot& shot, MediaLibrary& library, const SolveOptions& options, double margin_deg,
                          const TellSolve& tell, const Cancel& cancel) {
    const auto in_use = cameras_with_sources(project, shot);
    refuse_unlinked(shot.rig, in_use, overlapping_pairs(shot.rig, in_use));
    const auto times = sample_times(project, shot, library, cancel);
    auto found = find_at_samples(project, shot, shot.rig, times, library, options, margin_deg,
                                 [&](double share) { if (tell) tell({share, "Finding points"}); }, cancel);
    number_points(found.points, free_point_id(shot));
    for (const auto& p : *shot.points)
        if (p.by_hand) found.points.push_back(p);
    return std::move(found.points);
}

Solved solve_shot(const Project& project, const Shot& shot, MediaLibrary& library, const SolveOptions& options, const TellSolve& tell,
                  const Cancel& cancel) {
    const auto say = [&](double share, const char* doing) {
        cancel.check();
        if (tell) tell({share, doing});
    };
    const auto finish = [&](const Shot& from, const Rig& start, std::vector<std::string> remarks, std::vector<Seconds> times) {
        say(0.9, "Solving");
        auto together = solve_points({&from}, start, true, cancel);
        Solved out{together.rig, together.points[0], std::move(together.report)};
        for (auto& r : remarks) out.report.remarks.push_back(std::move(r));
        out.report.samples = std::move(times);
        return out;
    };
    if (!options.find) {
        std::vector<Seconds> times;
        for (const auto& p : *shot.points) times.push_back(p.time);
        std::sort(times.begin(), times.end());
        times.erase(std::unique(times.begin(), times.end()), times.end());
        return finish(shot, shot.rig, {}, times);
    }
    const auto in_use = cameras_with_sources(project, shot);
    if (std::count(in_use.begin(), in_use.end(), true) < 2)
        throw Error("a rig needs at least two cameras with sources to be solved", "shot " + shot.name, "Assign sources in Gather");
    const auto nominal_pairs = overlapping_pairs(shot.rig, in_use);
    if (!options.from_far) refuse_unlinked(shot.rig, in_use, nominal_pairs);
    say(0, "Choosing samples");
    const auto times = sample_times(project, shot, library, cancel);
    const bool moves = std::any_of(shot.cameras.begin(), shot.cameras.end(), [&](const ShotCamera& c) {
        const Media* m = find_media(project, c.media);
        return m && m->ref.kind != MediaKind::still && library.info(m->ref).frames > 1;
    });
    if (times.size() == 1 && moves && !options.one_moment)
        throw Error("there is one sample only: what moves cannot be told from what stands still", "shot " + shot.name,
                    "Take three samples or more, or say that one moment is meant");

    say(0.03, "Reading samples");
    std::vector<std::size_t> order = {times.size() / 2};
    for (const std::size_t i : {std::size_t(0), times.size() - 1})
        if (std::find(order.begin(), order.end(), i) == order.end()) order.push_back(i);
    std::vector<Moment> ends;
    {
        // Black is judged on small pictures of all samples; reading them costs little.
        int level = 0;
        for (const auto& c : shot.rig.cameras)
            while (c.lens.width >> (level + 1) >= 240) ++level;
        for (const Seconds t : times) ends.push_back(read_moment(project, shot, t, library, level));
        refuse_black(ends, shot.rig, in_use);
        ends.clear();
    }

    // How the cameras stand, roughly, whatever the rig says.
    std::vector<Mat3> nominal;
    for (const auto& c : shot.rig.cameras) nominal.push_back(rotation_of(c.pose.turn));
    const auto alike = alike_numbers(shot.rig);
    RoughRig rough;
    std::optional<RigTrouble> trouble;
    std::optional<Moment> middle;
    for (const std::size_t s : order) {
        say(0.06, "Looking for landmarks");
        Moment moment = read_moment(project, shot, times[s], library);
        std::vector<Landmarks> marks(shot.rig.cameras.size());
        for (std::size_t c = 0; c < marks.size(); ++c) {
            cancel.check();
            if (moment.seen[c]) marks[c] = landmarks_of(shot.rig.cameras[c].lens, *moment.seen[c]);
        }
        const RoughRig now = rough_rig(marks, nominal, cancel);
        if (s == order.front() || std::count(now.placed.begin(), now.placed.end(), true) > std::count(rough.placed.begin(), rough.placed.end(), true))
            rough = now;
        if (!middle) middle = std::move(moment);
        bool all = true;
        for (std::size_t c = 0; c < marks.size(); ++c) all = all && (rough.placed[c] || !in_use[c]);
        if (all) break;
    }
    // Cameras without a source are nowhere; they are not trouble.
    RoughRig judged = rough;
    for (std::size_t c = 0; c < judged.placed.size(); ++c)
        if (!in_use[c]) judged.placed[c] = true;
    trouble = trouble_in(judged, shot.rig, alike, options.from_far ? 181 : kMostOffDeg);
    const bool lost = std::count(judged.placed.begin(), judged.placed.end(), false) > 0;
    if (trouble && options.from_far) throw Error(trouble->what, trouble->where, trouble->mend);

    // First points, few and with a wide margin, at one moment; a first solve of turns and lenses. It begins with the
    // turns that landmarks gave, then with the rig's own, then more widely, until every camera is tied to the others.
    Shot first = shot;
    first.lines.clear();
    first.solving.position = Freedom::locked;
    first.solving.limit_px = 8;
    if (options.from_far) {
        first.solving.turn_sigma_deg = std::max(5.0, first.solving.turn_sigma_deg);
        first.solving.focal_sigma_percent = std::max(6.0, first.solving.focal_sigma_percent);
    }
    struct Attempt {
        bool by_landmarks;
        double margin_deg;
    };
    std::vector<Attempt> attempts = {{true, kFirstMarginDeg}, {false, kFirstMarginDeg}, {true, kFarMarginDeg}};
    if (options.from_far) attempts = {{true, kFarMarginDeg}};
    if (trouble && !lost) {
        // Halls repeat themselves, and landmarks may agree on a turn from bay to bay: the rig's own word stands when
        // more points agree with it than with what the landmarks say.
        const auto support = [&](const Rig& rig) {
            int agreed = 0;
            double overlap = 1e-9; // an arrangement in which lenses see more in common has more points to offer
            for (const auto& pair : overlapping_pairs(rig, in_use)) overlap += pair.share;
            try {
                Rig now = rig;
                for (const double margin : {kFirstMarginDeg, kSecondMarginDeg}) now = first_solve(first, now, *middle, in_use, margin, options, cancel, &agreed);
            } catch (const Error&) {
                return 0.0;
            }
            return agreed / overlap;
        };
        say(0.12, "Comparing arrangements");
        if (support(shot.rig) <= support(turned_by_landmarks(shot.rig, rough, in_use, true))) throw Error(trouble->what, trouble->where, trouble->mend);
        attempts = {{false, kFirstMarginDeg}};
    }
    Rig start;
    for (std::size_t n = 0; n < attempts.size(); ++n) {
        say(0.15 + 0.04 * double(n), "First points");
        start = attempts[n].by_landmarks ? turned_by_landmarks(shot.rig, rough, in_use, options.from_far) : shot.rig;
        try {
            refuse_unlinked(start, in_use, overlapping_pairs(start, in_use));
            for (const double margin : {attempts[n].margin_deg, kSecondMarginDeg})
                start = first_solve(first, start, *middle, in_use, margin, options, cancel);
            break;
        } catch (const Error&) {
            if (n + 1 < attempts.size()) continue;
            if (trouble) throw Error(trouble->what, trouble->where, trouble->mend);
            throw;
        }
    }
    middle.reset();

    // All samples, with the better rig.
    auto found = find_at_samples(project, shot, start, times, library, options, kLastMarginDeg,
                                 [&](double share) { say(0.28 + 0.6 * share, "Finding points"); }, cancel);
    number_points(found.points, free_point_id(shot));
    for (const auto& p : *shot.points)
        if (p.by_hand) found.points.push_back(p);
    Shot with = shot;
    with.points = std::move(found.points);
    // Priors are those of the rig as it was, not of the first solve.
    if (!with.profile) with.profile = shot.rig;
    if (options.from_far) with.solving.focal_sigma_percent = std::max(6.0, with.solving.focal_sigma_percent);
    auto solved = finish(with, start, std::move(found.remarks), times);
    std::vector<Sight> sights;
    for (const auto& p : solved.points)
        if (p.dropped.empty()) sights.push_back(sight_of(shot.rig, p));
    solved.report.before = rms_of(fit_points(shot.rig, sights));
    for (auto& v : solved.report.values) // "before" means before all of this
        if (const Camera* c = find_camera(shot.rig, v.camera)) {
            const Turn& t = c->pose.turn;
            v.before = v.name == "yaw" ? t.yaw_deg : v.name == "pitch" ? t.pitch_deg : v.name == "roll" ? t.roll_deg : v.name == "position" ? v.before : v.name == "x" ? 1e3 * c->pose.position_m.x() : v.name == "y" ? 1e3 * c->pose.position_m.y() : v.name == "z" ? 1e3 * c->pose.position_m.z() : v.name == "focal length" ? c->lens.focal_px : v.name == "centre x" ? c->lens.center_px.x() : v.name == "centre y" ? c->lens.center_px.y() : v.name == "k1" ? c->lens.radial[0] : c->lens.radial[1];
        }
    for (const auto& c : solved.report.cameras)
        if (c.points < kLeastLinks && in_use[index_of(shot.rig, c.camera)])
            throw Error(fmt::format("only {} points tie it to the other cameras", c.points), "camera " + c.camera,
                        "Choose samples with more to see in its overlaps, set points by hand, or check its file");
    say(1, "Solved");
    return solved;
}

void take_solve(Shot& shot, const Rig& rig, const ControlPoints& points, const SolveReport& report) {
    const Shot before = shot;
    for (auto& c : shot.rig.cameras)
        if (const Camera* s = find_camera(rig, c.id)) {
            const ShotCamera* use = find_camera(before, c.id);
            if (!use || !use->lens_locked) c.lens = s->lens;
            if (!use || !use->pose_locked) c.pose = s->pose;
        }
    shot.points = points;
    KeptSolve kept;
    for (const auto& k : shot.solves) kept.id = std::max(kept.id, k.id);
    ++kept.id;
    kept.name = fmt::format("Solve {}", kept.id);
    kept.rig = shot.rig;
    kept.rms_px = report.rms.px;
    kept.rms_arcmin = report.rms.arcmin;
    kept.rms_before_px = report.before.px;
    kept.points = report.points;
    kept.dropped = report.dropped;
    kept.values = report.values;
    const std::string detail = fmt::format("{}, {} points, {:.2f} px", kept.name, kept.points, kept.rms_px);
    shot.solves.push_back(std::move(kept));
    note_origins(before, shot, {OriginKind::solve, detail});
}

void return_to_solve(Shot& shot, int id) {
    for (const auto& k : shot.solves)
        if (k.id == id) {
            take_rig(shot, k.rig, {OriginKind::solve, k.name});
            return;
        }
}

std::optional<Rms> stitch_error(const Project& project, const Shot& shot, Seconds time, MediaLibrary& library, const Cancel& cancel) {
    const auto pairs = overlapping_pairs(shot.rig, cameras_with_sources(project, shot));
    const Moment moment = read_moment(project, shot, time, library);
    MatchOptions match;
    match.margin_deg = 0.8;
    match.wanted = 24;
    ControlPoints points;
    match_moment(shot, shot.rig, moment, pairs, match, false, points, cancel);
    if (points.size() < 8) return std::nullopt;
    std::vector<Sight> sights;
    for (const auto& p : points) sights.push_back(sight_of(shot.rig, p));
    auto fits = fit_points(shot.rig, sights);
    // A few false matches must not raise it: the worst tenth is left out.
    std::sort(fits.begin(), fits.end(), [](const PointFit& a, const PointFit& b) { return a.miss_px() < b.miss_px(); });
    fits.resize(std::max<std::size_t>(1, fits.size() * 9 / 10));
    return rms_of(fits);
}

std::optional<AgreeSuggestion> suggest_agree_distance(const Shot& shot, const Vec3& rig_direction, double radius_deg) {
    const auto fits = measure_points(shot);
    std::vector<double> inverse;
    for (std::size_t i = 0; i < fits.size(); ++i)
        if ((*shot.points)[i].dropped.empty() && fits[i].direction.dot(rig_direction) > std::cos(radians(radius_deg)))
            inverse.push_back(std::max(0.0, fits[i].inverse_m));
    if (inverse.size() < 3) return std::nullopt;
    std::sort(inverse.begin(), inverse.end());
    const std::size_t cut = inverse.size() / 5;
    double sum = 0, squares = 0;
    int n = 0;
    for (std::size_t i = cut; i < inverse.size() - cut; ++i) sum += inverse[i], squares += inverse[i] * inverse[i], ++n;
    const double mean = sum / n;
    AgreeSuggestion s;
    s.points = int(inverse.size());
    s.spread = std::sqrt(std::max(0.0, squares / n - mean * mean));
    s.distance_m = mean > 1e-3 ? 1 / mean : 0;
    return s;
}

std::vector<double> doubling_px(const Shot& shot, std::span<const PointFit> fits, double distance_m) {
    std::vector<Eyepiece> eyes;
    for (std::size_t c = 0; c < shot.rig.cameras.size(); ++c) eyes.emplace_back(shot.rig, c, nullptr);
    std::vector<double> out;
    const double agree = distance_m > 0 ? 1 / distance_m : 0;
    for (std::size_t i = 0; i < fits.size(); ++i) {
        const Eyepiece &a = eyes[index_of(shot.rig, (*shot.points)[i].a)], &b = eyes[index_of(shot.rig, (*shot.points)[i].b)];
        // Where the stitched sphere shows it through each camera: the direction at which that camera's ray meets the
        // agree distance. Their difference, in b's pixels.
        const auto shown = [&](const Eyepiece& eye) -> Vec3 {
            const Vec3 ray = (fits[i].direction - std::max(0.0, fits[i].inverse_m) * eye.position).normalized();
            const Vec3 q = agree * eye.position; // the ray from q meets the sphere of that distance
            const double along = ray.dot(q);
            return (q + (std::sqrt(std::max(0.0, along * along + 1 - q.squaredNorm())) - along) * ray).normalized();
        };
        const Vec3 wa = shown(a), wb = shown(b);
        out.push_back(std::atan2(wa.cross(wb).norm(), wa.dot(wb)) * b.lens.focal_px);
    }
    return out;
}

ControlPoint propose_point(const Project& project, const Shot& shot, MediaLibrary& library, Seconds time, const std::string& a,
                           const Vec2& a_px, const std::string& b, std::optional<Vec2> near_px) {
    const Moment moment = read_moment(project, shot, time, library);
    const std::size_t ia = index_of(shot.rig, a), ib = index_of(shot.rig, b);
    for (const std::size_t i : {ia, ib})
        if (!moment.seen[i]) throw Error("has no picture at this moment", "camera " + shot.rig.cameras[i].id, "Move the playhead to where it runs");
    const Eyepiece ea(shot.rig, ia, moment.seen[ia].get()), eb(shot.rig, ib, moment.seen[ib].get());
    ControlPoint p;
    p.id = free_point_id(shot);
    p.time = time;
    p.a = a, p.b = b;
    p.a_px = a_px;
    p.by_hand = true;
    std::string why = "the two pictures of it differ too much";
    std::optional<Match> m;
    if (near_px) {
        m = refine_match(ea, eb, a_px, *near_px, 0.5);
        if (!m) m = Match{a_px, *near_px, 0};
    } else {
        MatchOptions o;
        o.least_likeness = 0.6;
        o.nearest_m = 0.3;
        for (const double margin : {1.0, 3.0})
            if (!m) o.margin_deg = margin, m = match_place(ea, eb, a_px, o, &why);
    }
    if (!m) throw Error("no match was found: " + why, fmt::format("camera {} at {:.0f}, {:.0f}", a, a_px.x(), a_px.y()), "Click the same thing in the other picture");
    p.b_px = m->b_px;
    p.likeness = std::clamp(m->likeness, -1.0, 1.0);
    return p;
}

} // namespace porb
