#include "solve/keep_solve.h"

#include "project/limits.h"
#include "project/origins.h"
#include "solve/agree_distance.h"
#include "solve/points.h"

#include <fmt/format.h>

namespace porb {

std::optional<double> take_solve(Shot& shot, const Rig& rig, const ControlPoints& points,
                                 std::vector<LineMark> lines, const SolveReport& report) {
    shot.calibration.lines = std::move(lines);
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
        for (double* v : {&p.a_px.x(), &p.a_px.y(), &p.b_px.x(), &p.b_px.y(), &p.correlation}) round(*v);
    shot.calibration.points = std::move(kept_points);
    KeptSolve kept;
    for (const auto& k : shot.calibration.solves) kept.id = std::max(kept.id, k.id);
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
    shot.calibration.solves.push_back(std::move(kept));
    note_origins(before, shot, {OriginKind::solve, detail});
    if (shot.seams.agree_choice == AgreeChoice::chosen || !shot.calibration.solving.depth_per_point)
        return std::nullopt;
    constexpr double kEverywhere_deg = 180, kBehind = 0.1 /* 1/m */, kMostBehind = 0.25;
    const auto fits = measure_points(shot);
    const auto middle = suggest_agree_distance(shot, fits, Vec3(0, 0, 1), kEverywhere_deg);
    if (!middle) return std::nullopt;
    // Depths behind the rig mean that its parallax was too small to be solved: they say nothing.
    const auto behind =
        std::count_if(fits.begin(), fits.end(), [](const PointFit& f) { return f.inverse_m < -kBehind; });
    if (double(behind) > kMostBehind * double(fits.size())) return std::nullopt;
    const double rounded = std::round(middle->distance_m * 100) / 100;
    shot.seams.agree_choice = AgreeChoice::solve;
    if (rounded == shot.seams.agree_distance_m) return std::nullopt;
    shot.seams.agree_distance_m = limits::kDistance_m.nearest(rounded);
    return shot.seams.agree_distance_m;
}

void return_to_solve(Shot& shot, int id) {
    for (const auto& k : shot.calibration.solves)
        if (k.id == id) {
            take_rig(shot, k.rig, {OriginKind::solve, k.name});
            return;
        }
}

} // namespace porb
