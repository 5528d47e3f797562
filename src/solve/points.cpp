#include "solve/points.h"

#include "base/error.h"
#include "solve/bundle/observations.h"
#include "solve/pictures/matching.h"
#include "solve/pictures/samples.h"

#include <fmt/format.h>

namespace porb {

int free_point_id(const Shot& shot) {
    int id = 0;
    for (const auto& p : *shot.calibration.points) id = std::max(id, p.id);
    for (const auto& l : shot.calibration.lines) id = std::max(id, l.id);
    return id + 1;
}

std::vector<PointFit> measure_points(const Shot& shot) {
    const double fixed = shot.seams.agree_distance_m > 0 ? 1 / shot.seams.agree_distance_m : 0;
    return fit_points(shot.rig, observations_of(shot.rig, *shot.calibration.points),
                      shot.calibration.solving.depth_per_point ? nullptr : &fixed);
}

int drop_above(ControlPoints& points, std::span<const PointFit> fits, double limit_px) {
    int dropped = 0;
    for (std::size_t i = 0; i < points.size(); ++i)
        if (points[i].dropped.empty() && fits[i].residual_px() > limit_px) {
            points[i].dropped = {DropReason::residual, fmt::format("{:.2f} px, the limit was {:.2f} px",
                                                                   fits[i].residual_px(), limit_px)};
            ++dropped;
        }
    return dropped;
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
        o.least_correlation = 0.6;
        o.nearest_m = 0.3;
        for (const double margin : {1.0, 3.0})
            if (!m) o.margin_deg = margin, m = match_place(ea, eb, a_px, o, &why);
    }
    if (!m)
        throw Error("no match was found: " + why,
                    fmt::format("camera {} at {:.0f}, {:.0f}", a, a_px.x(), a_px.y()),
                    "Click the same thing in the other picture");
    p.b_px = m->b_px;
    p.correlation = std::clamp(m->correlation, -1.0, 1.0);
    return p;
}

} // namespace porb
