// Points as they are: measured, reported, left out, used for distances, set by hand; and solves kept in the
// shot.
#include "base/angle.h"
#include "base/error.h"
#include "project/limits.h"
#include "project/origins.h"
#include "solve/calibrate.h"
#include "solve/matching.h"
#include "solve/sights.h"

#include <fmt/format.h>

namespace porb {

int free_point_id(const Shot& shot) {
    int id = 0;
    for (const auto& p : *shot.points) id = std::max(id, p.id);
    for (const auto& l : shot.lines) id = std::max(id, l.id);
    return id + 1;
}

std::vector<PointFit> measure_points(const Shot& shot) {
    const double fixed = shot.agree_distance_m > 0 ? 1 / shot.agree_distance_m : 0;
    return fit_points(shot.rig, sights_of(shot.rig, *shot.points),
                      shot.solving.depth_per_point ? nullptr : &fixed);
}

SolveReport figures_of(const Rig& rig, std::span<const ControlPoint> points, std::span<const PointFit> fits) {
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
    for (const auto& [names, list] : pairs)
        r.pairs.push_back(
            {names.first, names.second, int(list.first.size()), list.second, rms_of(list.first).px});
    for (const auto& c : rig.cameras) {
        const auto& [sum, n] = cameras[c.id];
        r.cameras.push_back(
            {c.id, n, n ? std::sqrt(sum.px / n) : 0, n ? degrees(std::sqrt(sum.arcmin / n)) * 60 : 0});
    }
    return r;
}

int drop_above(ControlPoints& points, std::span<const PointFit> fits, double limit_px) {
    int dropped = 0;
    for (std::size_t i = 0; i < points.size(); ++i)
        if (points[i].dropped.empty() && fits[i].miss_px() > limit_px) {
            points[i].dropped = fmt::format("misses by too much: {:.2f} px, the limit was {:.2f} px",
                                            fits[i].miss_px(), limit_px);
            ++dropped;
        }
    return dropped;
}

std::optional<double> take_solve(Shot& shot, const Rig& rig, const ControlPoints& points,
                                 std::vector<LineMark> lines, const SolveReport& report) {
    shot.lines = std::move(lines);
    const Shot before = shot;
    for (auto& c : shot.rig.cameras)
        if (const Camera* s = find_camera(rig, c.id)) {
            const ShotCamera* use = find_camera(before, c.id);
            if (!use || !use->lens_locked) c.lens = s->lens;
            if (!use || !use->pose_locked) c.pose = s->pose;
        }
    // To what can matter, a ten-thousandth of a pixel: projects are half as large then.
    ControlPoints kept_points = points;
    const auto round = [](double& v) { v = std::round(v * 1e4) / 1e4; };
    for (auto& p : kept_points)
        for (double* v : {&p.a_px.x(), &p.a_px.y(), &p.b_px.x(), &p.b_px.y(), &p.likeness}) round(*v);
    shot.points = std::move(kept_points);
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
    if (shot.agree_choice == AgreeChoice::chosen || !shot.solving.depth_per_point) return std::nullopt;
    constexpr double kEverywhere_deg = 180, kBehind = 0.1 /* 1/m */, kMostBehind = 0.25;
    const auto middle = suggest_agree_distance(shot, Vec3(0, 0, 1), kEverywhere_deg);
    if (!middle) return std::nullopt;
    // Depths behind the rig mean that its parallax was too small to be solved: they say nothing.
    const auto fits = measure_points(shot);
    const auto behind =
        std::count_if(fits.begin(), fits.end(), [](const PointFit& f) { return f.inverse_m < -kBehind; });
    if (double(behind) > kMostBehind * double(fits.size())) return std::nullopt;
    const double rounded = std::round(middle->distance_m * 100) / 100;
    shot.agree_choice = AgreeChoice::solve;
    if (rounded == shot.agree_distance_m) return std::nullopt;
    shot.agree_distance_m = limits::kDistance_m.nearest(rounded);
    return shot.agree_distance_m;
}

void return_to_solve(Shot& shot, int id) {
    for (const auto& k : shot.solves)
        if (k.id == id) {
            take_rig(shot, k.rig, {OriginKind::solve, k.name});
            return;
        }
}

std::optional<AgreeSuggestion> suggest_agree_distance(const Shot& shot, const Vec3& rig_direction,
                                                      double radius_deg) {
    const auto fits = measure_points(shot);
    std::vector<double> inverse;
    for (std::size_t i = 0; i < fits.size(); ++i)
        if ((*shot.points)[i].dropped.empty() &&
            fits[i].direction.dot(rig_direction) >= std::cos(radians(radius_deg)))
            inverse.push_back(std::max(0.0, fits[i].inverse_m));
    if (inverse.size() < 3) return std::nullopt;
    std::sort(inverse.begin(), inverse.end());
    const std::size_t cut = inverse.size() / 5;
    double sum = 0, squares = 0;
    int n = 0;
    for (std::size_t i = cut; i < inverse.size() - cut; ++i)
        sum += inverse[i], squares += inverse[i] * inverse[i], ++n;
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
        const Eyepiece &a = eyes[index_of(shot.rig, (*shot.points)[i].a)],
                       &b = eyes[index_of(shot.rig, (*shot.points)[i].b)];
        // Where the stitched sphere shows it through each camera: the direction at which that camera's ray
        // meets the agree distance. Their difference, in b's pixels.
        const auto shown = [&](const Eyepiece& eye) -> Vec3 {
            const Vec3 ray =
                (fits[i].direction - std::max(0.0, fits[i].inverse_m) * eye.position).normalized();
            const Vec3 q = agree * eye.position; // the ray from q meets the sphere of that distance
            const double along = ray.dot(q);
            return (q + (std::sqrt(std::max(0.0, along * along + 1 - q.squaredNorm())) - along) * ray)
                .normalized();
        };
        const Vec3 wa = shown(a), wb = shown(b);
        out.push_back(std::atan2(wa.cross(wb).norm(), wa.dot(wb)) * b.lens.focal_px);
    }
    return out;
}

ControlPoint propose_point(const Project& project, const Shot& shot, MediaLibrary& library, Seconds time,
                           const std::string& a, const Vec2& a_px, const std::string& b,
                           std::optional<Vec2> near_px) {
    const Moment moment = read_moment(project, shot, time, library);
    const std::size_t ia = index_of(shot.rig, a), ib = index_of(shot.rig, b);
    for (const std::size_t i : {ia, ib})
        if (!moment.seen[i])
            throw Error("has no picture at this moment", "camera " + shot.rig.cameras[i].id,
                        "Move the playhead to where it runs");
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
    if (!m)
        throw Error("no match was found: " + why,
                    fmt::format("camera {} at {:.0f}, {:.0f}", a, a_px.x(), a_px.y()),
                    "Click the same thing in the other picture");
    p.b_px = m->b_px;
    p.likeness = std::clamp(m->likeness, -1.0, 1.0);
    return p;
}

} // namespace porb
